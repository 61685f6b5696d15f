// Package trail keeps what was done to a lodge, by whom, from where and with what result. It is only ever added to, and nothing is done
// that can't be recorded: a deed is recorded before it is carried out, and once more with its end. Each process writes a chain of its own
// (see core/deed); lines that come at the same time are recorded together.
package trail

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/records"
)

// noteFor bounds how long it may take to record lines.
const noteFor = 5 * time.Second

// mostText is how long a text of a line is at the most, in bytes.
const mostText = 4 << 10

// mostAtOnce is how many lines are recorded together at the most.
const mostAtOnce = 500

// Deed is what somebody is about to do: lines without what the chain adds.
type Deed = deed.Line

// Trail is the lodge's, and this process's chain in it.
type Trail struct {
	rec *records.Records
	log *slog.Logger

	mu      sync.Mutex
	queue   []*waiting
	writing bool

	// Of whoever writes:
	chain string
	head  deed.Head
	lost  []deed.Line // whose recording failed: they may have been recorded all the same
}

// waiting is a line to be recorded. seq is there when done is closed, unless err is.
type waiting struct {
	line deed.Line
	seq  int64
	err  error
	done chan struct{}
}

// New makes a Trail.
func New(rec *records.Records, log *slog.Logger) *Trail {
	return &Trail{rec: rec, log: log, chain: newChain()}
}

func newChain() string { return strings.ToLower(rand.Text()[:12]) }

// Begun is a deed that was recorded before it is carried out. End it.
type Begun struct {
	t    *Trail
	line deed.Line
}

// Begin records a deed that is to be carried out now. If it can't be recorded, it must not be carried out.
func (t *Trail) Begin(ctx context.Context, d Deed) (*Begun, error) {
	d.Result = deed.Begun
	seq, err := t.add(ctx, d)
	if err != nil {
		t.log.Error("what is to be done can't be recorded in the trail, so it is not done", "who", d.Who, "verb", d.Verb, "target", d.Target, "error", err)
		return nil, fmt.Errorf("%w: this can't be recorded in the trail, so nothing was done; the service's log says why", fault.ErrUnavailable)
	}
	d.Seq = seq
	return &Begun{t, d}, nil
}

// End records how a deed ended; why is for one that was not done. The end of ctx does not keep it from being recorded. If it can't be, the
// deed stays begun, and the service's log has the end.
func (b *Begun) End(ctx context.Context, result deed.Result, why string) {
	end := b.line
	end.Of, end.Result, end.Why, end.Seq = b.line.Seq, result, why, 0
	if _, err := b.t.add(ctx, end); err != nil {
		b.t.log.Error("the end of a deed could not be recorded in the trail", "who", end.Who, "verb", end.Verb, "target", end.Target, "result", result, "why", why, "error", err)
	}
}

// Note records a deed that is over, or was refused.
func (t *Trail) Note(ctx context.Context, d Deed) {
	if _, err := t.add(ctx, d); err != nil {
		t.log.Error("what was done could not be recorded in the trail", "who", d.Who, "address", d.Address, "verb", d.Verb, "target", d.Target, "result", d.Result, "why", d.Why, "error", err)
	}
}

// add records a line and returns its number in the chain.
func (t *Trail) add(ctx context.Context, line deed.Line) (int64, error) {
	for _, text := range []*string{&line.Who, &line.Address, &line.Verb, &line.Target, &line.Reason, &line.Why} {
		*text = plain.Text(*text, mostText) // callers say what they like, and the digest is of what is kept
	}
	w := &waiting{line: line, done: make(chan struct{})}
	t.mu.Lock()
	t.queue = append(t.queue, w)
	if !t.writing {
		t.writing = true
		go t.write(context.WithoutCancel(ctx))
	}
	t.mu.Unlock()
	<-w.done // in noteFor at the latest, for each batch before it
	return w.seq, w.err
}

// write records what waits, until nothing does.
func (t *Trail) write(ctx context.Context) {
	for {
		t.mu.Lock()
		n := min(len(t.queue), mostAtOnce)
		batch := t.queue[:n:n]
		t.queue = t.queue[n:]
		if n == 0 {
			t.writing = false
			t.mu.Unlock()
			return
		}
		t.mu.Unlock()
		err := t.record(ctx, batch)
		for _, w := range batch {
			w.err = err
			close(w.done)
		}
	}
}

// record records a batch, all or none.
func (t *Trail) record(ctx context.Context, batch []*waiting) error {
	ctx, done := context.WithTimeoutCause(records.Within(ctx, noteFor), noteFor, errors.New("the database does not answer"))
	defer done()
	if err := t.settle(ctx); err != nil {
		return err
	}
	err := t.append(ctx, batch)
	if errors.Is(err, records.ErrMoved) { // what was lost came late, after all
		t.begin()
		err = t.append(ctx, batch)
	}
	return err
}

// begin begins a new chain.
func (t *Trail) begin() { t.chain, t.head, t.lost = newChain(), deed.Head{}, nil }

func (t *Trail) append(ctx context.Context, batch []*waiting) error {
	before := []byte{}
	if t.head.Seq == 0 { // a new chain begins where the trail is
		_, digest, err := t.rec.Newest(ctx)
		if err != nil {
			return err
		}
		before = append(before, digest...)
	}
	var lines []deed.Line
	head := t.head
	err := t.rec.Append(ctx, func(now time.Time) []deed.Line {
		lines, head = nil, t.head
		for _, w := range batch {
			l := w.line
			l.Chain, l.Seq, l.At, l.Prev = t.chain, head.Seq+1, now, head.Digest
			if l.Seq == 1 {
				l.Prev = before
			}
			head = deed.Head{Seq: l.Seq, Digest: l.Digest()}
			lines, w.seq = append(lines, l), l.Seq
		}
		return lines
	})
	if err != nil {
		t.lost = lines
		return err
	}
	t.head = head
	return nil
}

// settle finds out what became of lines whose recording failed: a database that goes away may have recorded them. Those that were are
// recorded as refused, for whoever asked was told so.
func (t *Trail) settle(ctx context.Context) error {
	if t.lost == nil {
		return nil
	}
	head, err := t.rec.Head(ctx, t.chain)
	if err != nil {
		return err
	}
	lost := t.lost
	if head.Seq == t.head.Seq { // not yet, at least: what may still come conflicts with what comes next, and one of the two is refused whole
		t.lost = nil
		return nil
	}
	if !bytes.Equal(head.Digest, lost[len(lost)-1].Digest()) {
		t.begin()
		return nil
	}
	t.head, t.lost = head, nil
	now := head
	err = t.rec.Append(ctx, func(at time.Time) (ends []deed.Line) {
		now = t.head
		for _, l := range lost {
			if l.Result != deed.Begun {
				continue
			}
			l.Of, l.Seq, l.At, l.Prev, l.Result, l.Why = l.Seq, now.Seq+1, at, now.Digest, deed.Refused, "it was recorded too late, so nothing was done"
			now = deed.Head{Seq: l.Seq, Digest: l.Digest()}
			ends = append(ends, l)
		}
		return ends
	})
	if err != nil {
		t.begin() // their ends stay unknown
		return err
	}
	t.head = now
	return nil
}

// List reads a page of the trail, newest first, and the cursor of the next one, "" for none.
func (t *Trail) List(ctx context.Context, f records.DeedFilter) ([]records.Deed, string, error) {
	return t.rec.DeedPage(ctx, f)
}

// Verify gives a verifier the whole trail, and returns how many lines are from before there were chains.
func (t *Trail) Verify(ctx context.Context, v *deed.Verifier) (before int64, err error) {
	return t.rec.Verify(ctx, v)
}

// Weave weaves the heads of all chains together, if any went on, and returns the newest weave with its digest.
func (t *Trail) Weave(ctx context.Context) (deed.Weave, []byte, error) {
	if _, err := t.rec.Weave(ctx); err != nil {
		return deed.Weave{}, nil, fmt.Errorf("weave the trail: %w", err)
	}
	return t.rec.Newest(ctx)
}
