// Package proof shows that images can be trusted, or that they can't: it carries proofs out, level by level, and keeps the evidence in
// the records and beside the image.
package proof

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/exports"
	"keenlodge/internal/line"
	"keenlodge/internal/lists"
	"keenlodge/internal/mount"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/scratch"
	"keenlodge/internal/source"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/stores"
)

// Proofs carries proofs out.
type Proofs struct {
	rec    *records.Records
	log    *slog.Logger
	stores *stores.Stores
	runs   *runs.Engine
	lists  *lists.Lists
	// exports opens what an appliance handed out of itself.
	exports *exports.Exports
	// program is the name under which proofs are recorded.
	program string
	// Scratch is the folder of this host in which images are written out to be proven.
	Scratch scratch.Folder
	// Try queues the proof of an image by starting it, which is another kind of run (package trials).
	Try func(ctx context.Context, who string, image string) (records.Run, error)
}

// New makes a Proofs and registers proofs with the engine.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores, ls *lists.Lists, x *exports.Exports, e *runs.Engine, program string) *Proofs {
	pr := &Proofs{rec: rec, log: log, stores: ss, runs: e, lists: ls, exports: x, program: program}
	e.Register(run.Proof, handler{pr: pr})
	return pr
}

// level carries the proofs of one level out. Its error is a [failed] or wraps [chunk.ErrDamaged] or [medium.ErrNotFound] where it is a
// verdict on the image, and trouble on the way otherwise.
type level struct {
	prove func(pr *Proofs, ctx context.Context, st store.Store, m *image.Manifest, runID string, progress func(bytes int64)) (evidence []string, err error)
	// ready says why this host can't carry it out, or nil.
	ready func(pr *Proofs) error
}

var levels = map[image.Level]level{
	image.ByRead:    {(*Proofs).byRead, func(*Proofs) error { return nil }},
	image.ByMount:   {(*Proofs).byMount, func(pr *Proofs) error { return pr.stores.CanOpen() }},
	image.ByRestore: {(*Proofs).byRestore, func(pr *Proofs) error { return nil }},
}

// Request asks for a proof of an image.
type Request struct {
	Image string      `json:"image"`
	Level image.Level `json:"level"`
}

// Start queues the proof of an image, for who.
func (pr *Proofs) Start(ctx context.Context, who string, q Request) (records.Run, error) {
	m, err := pr.stores.Image(ctx, q.Image)
	if err != nil {
		return records.Run{}, err
	}
	if !q.Level.Fits(m.Scope) {
		return records.Run{}, fmt.Errorf("%w: image %s is of scope %s, and has no disks that could be opened or started; prove it by another level: keenlodge image prove %[2]s --level read", fault.ErrConflict, m.ID, m.Scope)
	}
	if again := q.Level == image.ByRead && (m.State == image.Doubtful || m.State == image.Broken); m.State != image.Usable && !again {
		return records.Run{}, fmt.Errorf("%w: image %s is %s; only a usable image can be proven, and one in which damage was found be read again: keenlodge image prove %s --level read", fault.ErrConflict, m.ID, m.State, m.ID)
	}
	if q.Level == image.ByBoot {
		return pr.Try(ctx, who, m.ID)
	}
	l, ok := levels[q.Level]
	if !ok {
		return records.Run{}, fmt.Errorf("%w: this program can't prove by %q%s", fault.ErrInvalid, q.Level, suggest.Hint(q.Level, image.Provable))
	}
	if err := l.ready(pr); err != nil {
		return records.Run{}, fmt.Errorf("%w: %w", fault.ErrConflict, err)
	}
	return pr.Queue(ctx, run.Hand, who, q)
}

// Queue queues a proof that can be carried out.
func (pr *Proofs) Queue(ctx context.Context, cause run.Cause, who string, q Request) (records.Run, error) {
	m, err := pr.stores.Image(ctx, q.Image)
	if err != nil {
		return records.Run{}, err
	}
	return pr.runs.Queue(ctx, runs.Order{Kind: run.Proof, Policy: m.Policy, Cause: cause, Who: who, Request: q})
}

// Of is an image, also one that is gone, and its proofs, newest first.
func (pr *Proofs) Of(ctx context.Context, id string) (records.Image, []records.Proof, error) {
	m, err := pr.rec.Image(ctx, id)
	if errors.Is(err, fault.ErrNotFound) {
		err = fmt.Errorf("%w: no image is called %q; look at: keenlodge image list", fault.ErrNotFound, id)
	}
	if err != nil {
		return m, nil, err
	}
	proofs, err := pr.rec.Proofs(ctx, id)
	return m, proofs, err
}

// Status is one line on how far an image can be trusted, by its proofs, newest first; and where the newest failed the newest other image of its machine that
// passed such a proof, and in words what changed since that, where it is known.
func (pr *Proofs) Status(ctx context.Context, m records.Image, proofs []records.Proof) (status, lastGood, changed string, err error) {
	var shown []promise.Shown
	for _, p := range proofs {
		shown = append(shown, promise.Shown{Level: p.Level, Passed: p.Passed, Ended: p.Ended, Why: p.Error, Report: p.Report})
	}
	if len(proofs) > 0 && !proofs[0].Passed {
		lastGood, err = pr.rec.LastGood(ctx, m.MachineID, proofs[0].Level, m.ID)
	}
	if err == nil && lastGood != "" {
		shift, known, trouble := pr.lists.Between(ctx, m.MachineID, lastGood, m.ID)
		if trouble != nil { // it is known then by a comparison only
			pr.log.Warn("what changed since the last good image could not be read from their lists", "image", m.ID, "good", lastGood, "error", trouble)
		} else if known {
			changed = shift.String()
		}
	}
	return promise.Status(shown, time.Now()), lastGood, changed, err
}

// Exhibit reads a file that belongs to a proof of an image, and tells its media type.
func (pr *Proofs) Exhibit(ctx context.Context, id, name string) (body []byte, kind string, err error) {
	_, st, err := pr.stores.OfImage(ctx, id)
	if err != nil {
		return nil, "", err
	}
	body, err = st.Exhibit(ctx, id, name)
	if errors.Is(err, medium.ErrNotFound) {
		return nil, "", fmt.Errorf("%w: image %s has no exhibit %.40q; its proofs name those that there are", fault.ErrNotFound, id, name)
	}
	if kind = "text/plain; charset=utf-8"; strings.HasSuffix(name, ".png") {
		kind = "image/png"
	}
	return body, kind, err
}

// handler carries proofs out that are runs of their own.
type handler struct {
	runs.Base
	pr *Proofs
}

// AtOnce implements [runs.Limited].
func (handler) AtOnce() int { return 4 }

// Run implements [runs.Handler].
func (h handler) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[Request](r.Run)
	if err != nil {
		return err
	}
	m, st, err := h.pr.stores.OfImage(ctx, q.Image)
	if err != nil {
		return err
	}
	return r.PerformOne(ctx, records.Task{Machine: m.Machine, MachineID: m.MachineID, Image: m.ID}, func(ctx context.Context, t *runs.Task) error {
		if err := t.Begin(ctx, "proving by "+string(q.Level)); err != nil {
			return err
		}
		t.Total = m.Read
		var p records.Proof
		err := t.Moving(ctx, nil, func() (err error) {
			p, err = h.pr.Prove(ctx, st, r, m.ID, q.Level, t.Add)
			return err
		})
		if err == nil && !p.Passed {
			err = errors.New(p.Error)
		}
		return err
	})
}

// Prove proves an image and records the outcome, passed or not. The error is for a proof that could not be carried out at all, which
// says nothing of the image. progress is called with bytes that were read.
func (pr *Proofs) Prove(ctx context.Context, st store.Store, r *runs.Run, id string, by image.Level, progress func(bytes int64)) (records.Proof, error) {
	p := records.Proof{Image: id, Run: r.ID, Level: by, Began: time.Now(), Program: pr.program}
	l, ok := levels[by]
	if !ok {
		return p, fmt.Errorf("this program can't prove by %q%s", by, suggest.Hint(by, image.Provable))
	}
	end, err := st.Reading(ctx, pr.program) // a sweep must not take away what is being read
	if err != nil {
		return p, err
	}
	defer end(context.WithoutCancel(ctx))
	name := ""
	m, err := st.ReadImage(ctx, id)
	if err == nil {
		name = m.Machine
		p.Evidence, err = l.prove(pr, ctx, st, m, r.ID, progress)
	}
	if ctx.Err() != nil {
		return p, context.Cause(ctx)
	}
	damaged := isDamage(err)
	if damaged {
		if absent := stores.StillThere(ctx, st); absent != nil {
			return p, errors.Join(absent, err)
		}
	}
	var verdict failed
	if err != nil && !damaged && !errors.As(err, &verdict) {
		return p, err
	}
	return pr.Record(ctx, st, r, name, p, err)
}

// Record keeps the outcome of a proof of a machine's image, in the records and beside it. verdict is nil for one that passed.
func (pr *Proofs) Record(ctx context.Context, st store.Store, r *runs.Run, name string, p records.Proof, verdict error) (records.Proof, error) {
	p.Ended, p.Passed = time.Now(), verdict == nil
	if verdict != nil {
		p.Error = verdict.Error()
	}
	id, damaged := p.Image, isDamage(verdict)
	if recorded := pr.rec.AddProof(ctx, p); recorded != nil {
		return p, recorded
	}
	beside := store.Proof{Level: p.Level, Passed: p.Passed, Began: p.Began.UTC(), Ended: p.Ended.UTC(), Program: p.Program, Evidence: p.Evidence, Error: p.Error, Report: p.Report}
	if err := st.AddProof(ctx, id, beside); err != nil {
		r.Caution(ctx, name, "the proof could not be kept in the store, only in the records: %v", err)
	}
	for _, e := range p.Evidence {
		r.Evidence(ctx, name, "%s", e)
	}
	if damaged {
		var below *store.BrokenError
		if errors.As(verdict, &below) {
			id = below.Image // what leans on it is broken, too
		}
		state, err := pr.rec.Damaged(ctx, id, r.ID)
		if err != nil {
			return p, err
		}
		r.Log(ctx, name, "%s", stores.Verdict(id, state))
	} else if p.Passed && p.Level == image.ByRead {
		if mended, err := pr.rec.Mended(ctx, id); err != nil {
			return p, err
		} else if mended {
			r.Log(ctx, name, "image %s is usable again: all of it was read and is right", id)
		}
	}
	return p, nil
}

// isDamage reports whether an error says that what the store holds of an image is not as it was written.
func isDamage(err error) bool {
	return errors.Is(err, chunk.ErrDamaged) || errors.Is(err, medium.ErrNotFound)
}

// ReadAgain queues the second readings of doubtful images that are due.
func (pr *Proofs) ReadAgain(ctx context.Context) error {
	ids, err := pr.rec.ToReadAgain(ctx)
	errs := []error{err}
	for _, id := range ids {
		_, err := pr.runs.Queue(ctx, runs.Order{Kind: run.Proof, Cause: run.Upkeep, Request: Request{id, image.ByRead}})
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// failed is a verdict on the image, as opposed to trouble on the way.
type failed struct{ error }

func (pr *Proofs) byRead(ctx context.Context, st store.Store, m *image.Manifest, _ string, progress func(int64)) ([]string, error) {
	return st.ReadBack(ctx, m, progress)
}

// ofExport has the error of an export be a verdict, where it is one.
func ofExport(evidence []string, err error) ([]string, error) {
	if errors.Is(err, source.ErrExport) {
		err = failed{err}
	}
	return evidence, err
}

// byMount opens every file system, lists it, reads its files, and checks a ledger where there is one. Of an export it opens the archive.
func (pr *Proofs) byMount(ctx context.Context, st store.Store, m *image.Manifest, _ string, progress func(int64)) (evidence []string, err error) {
	if m.Scope == image.Exported {
		return ofExport(pr.exports.Open(ctx, st, m, progress))
	}
	opened, err := pr.stores.LookInto(ctx, st, m, progress)
	if err != nil {
		return nil, err
	}
	defer func() {
		if closed := opened.Close(); closed != nil {
			pr.log.Error("what a proof had open could not all be removed; the next start will", "image", m.ID, "error", closed)
		}
	}()
	whole := 0
	for _, f := range opened.FileSystems() {
		var c mount.Count
		if f.Why == "" {
			c, err = opened.Count(ctx, f.Name)
		} else if f.Refused {
			err = errors.New(f.Why)
		} else {
			evidence = append(evidence, f.Name+": not opened: "+f.Why)
			continue
		}
		if ctx.Err() != nil {
			return evidence, context.Cause(ctx)
		}
		if err != nil {
			err = fmt.Errorf("%s (%s): %w", f.Name, f.Format, err)
			if trouble := opened.Trouble(); trouble != nil {
				return evidence, errors.Join(trouble, err) // not the file system, but what it lies in
			}
			if errors.Is(err, line.ErrCut) {
				return evidence, err
			}
			return evidence, failed{err}
		}
		evidence = append(evidence, fmt.Sprintf("%s: %s mounted, %d folders and %d entries listed, %d files read whole (%s)", f.Name, f.Format, c.Folders, c.Entries, c.Read, humanize.IBytes(uint64(c.Bytes))))
		if c.Ledger != "" {
			evidence = append(evidence, f.Name+": "+c.Ledger)
		}
		whole++
	}
	if whole > 0 && !pr.stores.OnHost { // what was read is what can be searched
		rec, err := pr.rec.Image(ctx, m.ID)
		if err == nil {
			err = pr.lists.KeepOpened(ctx, rec.MachineID, m.ID, opened.FileSystems(), opened.Tree(), opened)
		}
		if err != nil {
			pr.log.Warn("the files of an image that was proven could not be listed", "image", m.ID, "error", err)
		}
		odd, err := pr.rec.Unusual(ctx, m.ID)
		if err != nil {
			return evidence, err
		}
		for _, o := range odd { // which is no word on whether it can be trusted, and nothing to be silent of
			evidence = append(evidence, "unusual: "+o.Text)
		}
	}
	if whole == 0 {
		return evidence, failed{errors.New("no file system of the image could be opened")}
	}
	return evidence, nil
}
