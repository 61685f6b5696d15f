// Package trials starts machines from their images as throwaway guests, in a network that leads nowhere, to see whether they come up and are as expected:
// it is the proof at level boot. Their disks stay in the store; what they write goes into files that go with them. What was seen is kept beside the image.
package trials

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/inventory"
	"keenlodge/internal/lending"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/stores"
)

const (
	// lookEvery is how often it is looked whether a place has become free.
	lookEvery = 2 * time.Second
	// mostWait is how long a trial waits for its host to have something to spare.
	mostWait = time.Hour
	// leastIdle is what share of a host's processors must have had nothing to do before a trial starts there that nobody waits for.
	leastIdle = 0.2
	// reserve is what memory of a host is left alone, in bytes.
	reserve = 256 << 20
)

// Trials tries images.
type Trials struct {
	rec       *records.Records
	log       *slog.Logger
	stores    *stores.Stores
	inventory *inventory.Inventory
	proofs    *proof.Proofs
	runs      *runs.Engine
	program   string
	// Passed, if not nil, is told of an image that has passed.
	Passed func(ctx context.Context, r *runs.Run, m records.Image) error
}

// New makes a Trials and registers trials with the engine. program is the name under which stores are read.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores, inv *inventory.Inventory, pr *proof.Proofs, e *runs.Engine, program string) *Trials {
	tr := &Trials{rec: rec, log: log, stores: ss, inventory: inv, proofs: pr, runs: e, program: program}
	e.Register(run.Trial, handler{tr: tr})
	pr.Try = func(ctx context.Context, who, id string) (records.Run, error) {
		return tr.Start(ctx, run.Hand, who, Request{Images: []string{id}})
	}
	return tr
}

// Request asks for a trial of images: of one, or of several machines that need each other, in the order in which they start.
type Request struct {
	Images []string `json:"images"`
	// Group is the site's name for these machines, "" for one image.
	Group string `json:"group,omitempty"`
	// WriteOut has their disks written out whole before, as a restore does; otherwise they stay in the store.
	WriteOut bool `json:"writeOut,omitempty"`
}

// Start queues a trial, for who. What would make it fail is looked at first, so that it fails at once.
func (tr *Trials) Start(ctx context.Context, cause run.Cause, who string, q Request) (records.Run, error) {
	s, err := tr.rec.Site(ctx)
	if err != nil {
		return records.Run{}, err
	}
	policy := ""
	for _, id := range q.Images {
		m, err := tr.stores.Image(ctx, id)
		if err != nil {
			return records.Run{}, err
		}
		if err := triable(m); err != nil {
			return records.Run{}, err
		}
		policy = m.Policy
	}
	if _, err := Hosts(s); err != nil {
		return records.Run{}, err
	}
	return tr.runs.Queue(ctx, runs.Order{Kind: run.Trial, Policy: policy, Cause: cause, Who: who, Request: q})
}

// triable says why an image can't be tried.
func triable(m records.Image) error {
	switch {
	case m.Files != nil:
		return fmt.Errorf("%w: image %s holds files, and no disks from which a guest could start; prove it with: keenlodge image prove %[2]s --level read or --level restore", fault.ErrConflict, m.ID)
	case m.Scope != image.WholeMachine:
		return fmt.Errorf("%w: image %s has not all of its machine's disks (scope %s), and is not started without them; prove it with: keenlodge image prove %[2]s --level mount", fault.ErrConflict, m.ID, m.Scope)
	case m.State != image.Usable:
		return fmt.Errorf("%w: image %s is %s; only a usable image can be tried", fault.ErrConflict, m.ID, m.State)
	}
	return nil
}

// Hosts lists the hypervisors that may hold trials.
func Hosts(s site.Site) (names []string, err error) {
	for _, name := range slices.Sorted(maps.Keys(s.Hypervisors)) {
		if t := s.Hypervisors[name].Trials; t != nil && t.AtOnce > 0 {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil, fmt.Errorf(`%w: no hypervisor of the site may hold trials; write for example "trials: 2" for one of them in the site file`, fault.ErrConflict)
	}
	return names, nil
}

// Places is how many trials the site's hosts can hold.
func Places(s site.Site) (n int) {
	names, _ := Hosts(s)
	for _, name := range names {
		n += s.Hypervisors[name].Trials.AtOnce
	}
	return n
}

// handler carries trials out.
type handler struct{ tr *Trials }

// AtOnce implements [runs.Limited].
func (handler) AtOnce() int { return 16 }

// Wait implements [runs.Waiter]: what nobody waits for starts in the hours that are for it.
func (h handler) Wait(ctx context.Context, r records.Run) (runs.Wait, error) {
	if r.Cause == run.Hand {
		return runs.Wait{}, nil
	}
	s, err := h.tr.rec.Site(ctx)
	if err != nil {
		return runs.Wait{}, err
	}
	names, err := Hosts(s)
	if err != nil {
		return runs.Wait{Skip: err.Error()}, nil
	}
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		return runs.Wait{}, err
	}
	now := time.Now().In(zone)
	first := time.Time{}
	for _, name := range names {
		at, ok := s.Hypervisors[name].Trials.Open().Opens(now)
		if ok && !at.After(now) {
			return runs.Wait{}, nil
		}
		if ok && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	if first.IsZero() {
		return runs.Wait{Skip: "the hours in which trials may start never come"}, nil
	}
	return runs.Wait{Until: first, Why: "waits for the hours in which trials may start"}, nil
}

// Run implements [runs.Handler].
func (h handler) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[Request](r.Run)
	if err != nil {
		return err
	}
	party, err := h.tr.assemble(ctx, r, q)
	if err != nil {
		return err
	}
	defer party.leave()
	if err := party.findHost(ctx, r); err != nil {
		return err
	}
	defer h.tr.leavePlace(ctx, r.ID)
	return party.meet(ctx, r)
}

// leavePlace gives a run's place back.
func (tr *Trials) leavePlace(ctx context.Context, run string) {
	ctx, end := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer end()
	if err := tr.rec.LeavePlace(ctx, run); err != nil {
		tr.log.Warn("the place of a trial could not be given back; it is free once the run is over", "run", run, "error", err)
	}
}

// assemble opens the images of a trial, whose order is that in which they start.
func (tr *Trials) assemble(ctx context.Context, r *runs.Run, q Request) (*party, error) {
	s, err := tr.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	p := &party{tr: tr, s: s, writeOut: q.WriteOut}
	for i, id := range q.Images {
		rec, st, err := tr.stores.OfImage(ctx, id)
		if err == nil {
			err = triable(rec)
		}
		if err != nil {
			return nil, errors.Join(err, p.leave())
		}
		m, err := st.ReadImage(ctx, id)
		if err != nil {
			return nil, errors.Join(err, p.leave())
		}
		end, err := st.Reading(ctx, tr.program) // a sweep must not take away what is being read
		if err != nil {
			return nil, errors.Join(err, p.leave())
		}
		expected, ok := expect.Expected(s.Groups[q.Group].Trials, m.Machine, m.Tags)
		if !ok {
			expected, _ = expect.Expected(s.Policies[m.Policy].Trials, m.Machine, m.Tags)
		}
		one := &member{p: p, id: memberID(r.ID, i), rec: rec, st: st, m: m, expect: expected, up: make(chan struct{}), asked: make(chan struct{}), ended: make(chan struct{}), endReading: end}
		p.members = append(p.members, one)
	}
	return p, nil
}

// memberID is by what the guest of an image is found on its host: the place of it in the request.
func memberID(run string, place int) string { return fmt.Sprintf("%s-%d", run, place+1) }

// findHost finds the hypervisor on which a trial takes place, and waits until it has room for it.
func (p *party) findHost(ctx context.Context, r *runs.Run) error {
	names, err := Hosts(p.s)
	if err != nil {
		return err
	}
	if i := slices.Index(names, p.members[0].m.Hypervisor); i > 0 { // where the machine lived is most like it
		names = slices.Insert(slices.Delete(names, i, i+1), 0, p.members[0].m.Hypervisor)
	}
	said := ""
	for begun := time.Now(); ; {
		var whys []error
		for _, name := range names {
			err := p.takeHost(ctx, r, name)
			if err == nil {
				return nil
			}
			var wait waiting
			if !errors.As(err, &wait) || ctx.Err() != nil {
				names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == name })
			}
			whys = append(whys, fmt.Errorf("%s: %w", name, err))
		}
		why := errors.Join(whys...)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if len(names) == 0 || time.Since(begun) > mostWait {
			return fmt.Errorf("no hypervisor can hold the trial: %w", why)
		}
		if text := why.Error(); text != said {
			said = text
			r.Log(ctx, "", "waits: %s", text)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(lookEvery):
		}
	}
}

// waiting is why a host has no room just now.
type waiting struct{ error }

// takeHost takes a place on a hypervisor. Its error is a [waiting] where it may have one later.
func (p *party) takeHost(ctx context.Context, r *runs.Run, name string) (err error) {
	spec := p.s.Hypervisors[name]
	t := spec.Trials
	pool := cmp.Or(t.Pool, spec.Pool)
	h, err := p.tr.inventory.Connect(ctx, p.s, name)
	if errors.Is(err, source.ErrUnreachable) {
		return waiting{err}
	}
	if err != nil {
		return err
	}
	defer h.Close()
	trier, err := source.As[source.Trier](h, "try images")
	if err != nil {
		return err
	}
	borrower, err := source.As[source.Borrower](h, "run a guest on disks that are lent to it")
	if err != nil {
		return err
	}
	folder, far, err := borrower.PoolFolder(ctx, pool)
	if err != nil {
		return err
	}
	need := int64(0)
	for _, m := range p.members {
		if far && len(m.expect.Ports) > 0 {
			return fmt.Errorf("%w: whether ports of %s are open can be asked on a hypervisor of the lodge's own host only", fault.ErrConflict, m.m.Machine)
		}
		if _, err := trier.CanTry(ctx, source.Throwaway{ID: m.id, Definition: m.m.Definition, Disks: m.targets(), Memory: t.MemoryOne()}); err != nil {
			return fmt.Errorf("%s can't be tried there: %w", m.m.Machine, err)
		}
		m.memory, m.agent = trier.Outline(source.Throwaway{Definition: m.m.Definition, Memory: t.MemoryOne()})
		need += m.memory
	}
	spare, err := trier.Spare(ctx, pool)
	if err != nil {
		return err
	}
	switch room := t.RoomEach() * int64(len(p.members)); {
	case spare.Room < min(room, leastRoom):
		return fmt.Errorf("%w: pool %s has %s left, and what a trial writes takes some; make room, or name another pool", fault.ErrConflict, cmp.Or(pool, "of restored disks"), humanize.IBytes(uint64(spare.Room)))
	case spare.Memory < need+reserve:
		return waiting{fmt.Errorf("%s of memory are needed, and it has %s to spare", humanize.IBytes(uint64(need)), humanize.IBytes(uint64(max(0, spare.Memory-reserve))))}
	case r.Cause != run.Hand && spare.Idle < leastIdle:
		return waiting{fmt.Errorf("its processors have enough to do (%.0f %% idle)", 100*spare.Idle)}
	}
	all := t.MemoryAll()
	if all == 0 {
		all = spare.Memory / 2
	}
	taken, others, err := p.tr.rec.TakePlace(ctx, records.Place{Run: r.ID, Host: name, Guests: len(p.members), Memory: need}, t.AtOnce, all)
	if err != nil {
		return err
	}
	if !taken {
		return waiting{fmt.Errorf("guests are tried there already: %d", others)}
	}
	p.host, p.spec, p.pool, p.folder, p.far = name, spec, pool, folder, far
	return nil
}

// leastRoom is what a pool must have left for a trial to begin, in bytes.
const leastRoom = 256 << 20

// Settle implements [runs.Handler].
func (handler) Settle(context.Context, *runs.Run, *records.Task) error { return nil }

// Cleanup implements [runs.Handler]: it ends the guest of a process that died, and takes what it had.
func (h handler) Cleanup(ctx context.Context, t records.Task) error {
	r, err := h.tr.rec.Run(ctx, t.Run)
	if err != nil {
		return err
	}
	q, err := runs.Request[Request](r)
	if err != nil {
		return err
	}
	s, err := h.tr.rec.Site(ctx)
	if err != nil {
		return err
	}
	spec, ok := s.Hypervisors[t.Hypervisor]
	place := slices.Index(q.Images, t.Image)
	if !ok || place < 0 {
		return nil // it has left the site
	}
	pool := spec.Pool
	if spec.Trials != nil {
		pool = cmp.Or(spec.Trials.Pool, pool)
	}
	conn, err := h.tr.inventory.Connect(ctx, s, t.Hypervisor)
	if err != nil {
		return err
	}
	defer conn.Close()
	found, err := clear(ctx, conn, memberID(r.ID, place), pool)
	for _, what := range found {
		h.tr.runs.Log(ctx, t.Run, t.Machine, run.Note, "cleared: "+what)
	}
	return err
}

// clear ends the guest of an ID, if there is one, and removes what it had.
func clear(ctx context.Context, h source.Source, id, pool string) (found []string, err error) {
	trier, err := source.As[source.Trier](h, "try images")
	if err != nil {
		return nil, err
	}
	if found, err = trier.ClearTrial(ctx, id, pool); err != nil {
		return found, err
	}
	borrower, err := source.As[source.Borrower](h, "run a guest on disks that are lent to it")
	if err != nil {
		return found, err
	}
	folder, far, err := borrower.PoolFolder(ctx, pool)
	if err != nil || far {
		return found, err // there it went with the line
	}
	sockets, err := filepath.Glob(filepath.Join(folder, source.TrialMark+id+"-*"+lending.SocketEnd))
	for _, s := range sockets {
		err = errors.Join(err, os.Remove(s))
		found = append(found, "removed socket "+filepath.Base(s))
	}
	return found, err
}
