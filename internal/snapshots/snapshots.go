// Package snapshots keeps snapshots in place: moments of machines on the machines' own storage, taken by policies of that scope or by hand, rotated by
// the same phrases as images are, and gone back to. They are no copy. What others made is listed, and never touched.
package snapshots

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/capture"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/field"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/inplace"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/inventory"
	"keenlodge/internal/records"
	record "keenlodge/internal/records/inplace"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/wire"
)

// Snapshots keeps them.
type Snapshots struct {
	rec       *records.Records
	log       *slog.Logger
	inventory *inventory.Inventory
	captures  *capture.Captures
	runs      *runs.Engine

	mu      sync.Mutex // guards what follows
	looked  time.Time
	unknown map[string][]source.Snapshot // by source: they bear our mark, and no record knows them
	unused  map[string][]source.Unused   // by source
	// told are the headlines as they were at toldAt, nil where they are to be made anew: a summary is asked for again and again.
	told   []Told
	toldAt time.Time
}

// New makes a Snapshots and registers runs by hand with the engine.
func New(rec *records.Records, log *slog.Logger, inv *inventory.Inventory, c *capture.Captures, e *runs.Engine) *Snapshots {
	ss := &Snapshots{rec: rec, log: log, inventory: inv, captures: c, runs: e, unknown: map[string][]source.Snapshot{}, unused: map[string][]source.Unused{}}
	e.Register(run.Snapshot, handler{ss: ss})
	return ss
}

// doing is what a run by hand does.
type doing string

const (
	take doing = "take"
	drop doing = "drop"
	back doing = "back"
)

// request is what is asked of a run by hand.
type request struct {
	Do       doing  `json:"do"`
	Machine  string `json:"machine,omitempty"` // its ID
	Snapshot string `json:"snapshot,omitempty"`
	Memory   bool   `json:"memory,omitempty"`
	Keep     string `json:"keep,omitempty"`
	Off      bool   `json:"off,omitempty"`
}

// Take queues a snapshot of a machine by hand, for who.
func (ss *Snapshots) Take(ctx context.Context, who, word string, q wire.SnapshotBody) (records.Run, error) {
	m, err := ss.inventory.Resolve(ctx, word)
	if err != nil {
		return records.Run{}, err
	}
	if !m.Live() {
		return records.Run{}, fmt.Errorf("%w: machine %s is %s; its source does not have it", fault.ErrConflict, m.Label, m.State)
	}
	if _, err := field.SpanOr(q.Keep, inplace.ByHand); err != nil {
		return records.Run{}, fmt.Errorf("%w: keep: %w", fault.ErrInvalid, err)
	}
	return ss.runs.Queue(ctx, runs.Order{Kind: run.Snapshot, Cause: run.Hand, Who: who, Note: q.Note, Request: request{Do: take, Machine: m.ID, Memory: q.Memory, Keep: q.Keep}})
}

// Drop queues the removal of a machine's snapshot, for who.
func (ss *Snapshots) Drop(ctx context.Context, who, word, id string) (records.Run, error) {
	s, err := ss.of(ctx, word, id)
	if err == nil && s.Pinned {
		err = fmt.Errorf("%w: snapshot %s is pinned (%s); let go of it first: keenlodge snapshot unpin %[2]s", fault.ErrConflict, id, s.PinNote)
	}
	if err != nil {
		return records.Run{}, err
	}
	return ss.runs.Queue(ctx, runs.Order{Kind: run.Snapshot, Cause: run.Hand, Who: who, Request: request{Do: drop, Machine: s.MachineID, Snapshot: id}})
}

// Back queues going back to a snapshot, for who, which confirms it by the machine's name.
func (ss *Snapshots) Back(ctx context.Context, who, word, id string, q wire.BackBody) (records.Run, error) {
	s, err := ss.of(ctx, word, id)
	if err != nil {
		return records.Run{}, err
	}
	if s.State != inplace.Kept {
		return records.Run{}, fmt.Errorf("%w: snapshot %s is %s; nobody can go back to it", fault.ErrConflict, id, s.State)
	}
	if q.Confirm != s.Label && q.Confirm != s.Machine {
		return records.Run{}, fmt.Errorf("%w: going back loses what %s has written since; confirm it by the machine's name", fault.ErrInvalid, s.Label)
	}
	return ss.runs.Queue(ctx, runs.Order{Kind: run.Snapshot, Cause: run.Hand, Who: who, Request: request{Do: back, Machine: s.MachineID, Snapshot: id, Off: q.Off}})
}

// of finds a machine's snapshot that is not gone.
func (ss *Snapshots) of(ctx context.Context, word, id string) (record.Snapshot, error) {
	m, err := ss.inventory.Resolve(ctx, word)
	if err != nil {
		return record.Snapshot{}, err
	}
	s, err := ss.there(ctx, id)
	if err == nil && s.MachineID != m.ID {
		err = fmt.Errorf("%w: machine %s has no snapshot %s", fault.ErrNotFound, m.Label, id)
	}
	return s, err
}

// there finds a snapshot that is not gone.
func (ss *Snapshots) there(ctx context.Context, id string) (record.Snapshot, error) {
	s, err := ss.rec.Snapshots.Get(ctx, id)
	if err == nil && s.State == inplace.Gone {
		err = fmt.Errorf("%w: snapshot %s of %s is gone: %s; what there is: keenlodge snapshot list", fault.ErrConflict, id, s.Label, s.Why)
	}
	return s, err
}

// Pin keeps a snapshot from being rotated, Unpin lets it go again.
func (ss *Snapshots) Pin(ctx context.Context, word, id, note string) error {
	if note == "" {
		return fmt.Errorf("%w: a pin has a note that says why", fault.ErrInvalid)
	}
	return ss.pin(ctx, word, id, true, note)
}

// Unpin lets a snapshot go again.
func (ss *Snapshots) Unpin(ctx context.Context, word, id string) error {
	return ss.pin(ctx, word, id, false, "")
}

func (ss *Snapshots) pin(ctx context.Context, word, id string, pinned bool, note string) error {
	s, err := ss.of(ctx, word, id)
	if err != nil {
		return err
	}
	if ok, err := ss.rec.Snapshots.Pin(ctx, id, pinned, note); err != nil || !ok {
		return errors.Join(err, fmt.Errorf("%w: snapshot %s is %s; only one that is kept can be pinned", fault.ErrConflict, id, s.State))
	}
	return nil
}

// handler carries runs by hand out.
type handler struct {
	runs.Base
	ss *Snapshots
}

// AtOnce implements [runs.Limited].
func (handler) AtOnce() int { return 8 }

// Run implements [runs.Handler].
func (h handler) Run(ctx context.Context, r *runs.Run) error {
	ss := h.ss
	q, err := runs.Request[request](r.Run)
	if err != nil {
		return err
	}
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return err
	}
	m, err := ss.rec.Machine(ctx, q.Machine)
	if err != nil {
		return err
	}
	return r.PerformOne(ctx, records.Task{Machine: m.Label, MachineID: m.ID, Guest: m.Name, Hypervisor: m.Hypervisor}, func(ctx context.Context, t *runs.Task) error {
		switch q.Do {
		case take:
			keep, err := field.SpanOr(q.Keep, inplace.ByHand)
			if err != nil {
				return err
			}
			until := time.Now().Add(keep)
			_, err = ss.TakeOne(ctx, capture.Order{Site: s, Run: r}, t, Wish{Note: r.Note, Memory: q.Memory, Until: &until})
			return err
		case drop:
			if err := t.Begin(ctx, "removing it"); err != nil {
				return err
			}
			return ss.dropByHand(ctx, s, q.Snapshot, r.Who, t)
		case back:
			return ss.goBack(ctx, s, q, m, t)
		}
		return fmt.Errorf("a run can't %q with snapshots", q.Do)
	})
}

// Wish says what is special about a snapshot.
type Wish struct {
	Note   string
	Memory bool
	// Until is when a person is asked about it, or when it goes by itself where it is Passing; nil for one that a policy rotates.
	Until   *time.Time
	Passing bool
}

// Before takes a snapshot of a task's machine before something is done to it, which goes by itself after some days.
func (ss *Snapshots) Before(ctx context.Context, s site.Site, r *runs.Run, t *runs.Task, note string) (id string, err error) {
	until := time.Now().Add(inplace.BeforeRestore)
	return ss.TakeOne(ctx, capture.Order{Site: s, Run: r}, t, Wish{Note: note, Until: &until, Passing: true})
}

// open connects to the source of a task's machine, as far as it keeps snapshots. Close it.
func (ss *Snapshots) open(ctx context.Context, s site.Site, hypervisor string) (source.Source, source.Snapshotter, error) {
	h, err := ss.inventory.Connect(ctx, s, hypervisor)
	if err != nil {
		return nil, nil, err
	}
	keeps, err := source.As[source.Snapshotter](h, "keep snapshots in place")
	if err != nil {
		h.Close()
	}
	return h, keeps, err
}

// TakeOne takes a snapshot of a task's machine. It is recorded before it is asked for, so that one is found whose taker died.
func (ss *Snapshots) TakeOne(ctx context.Context, o capture.Order, t *runs.Task, w Wish) (id string, err error) {
	h, keeps, err := ss.open(ctx, o.Site, t.Hypervisor)
	if err != nil {
		return "", err
	}
	defer h.Close()
	if err := t.Begin(ctx, "taking a snapshot"); err != nil {
		return "", err
	}
	rec := record.Snapshot{ID: image.NewID(), MachineID: t.MachineID, Machine: t.Guest, Hypervisor: t.Hypervisor, Policy: o.Run.Policy, Run: o.Run.ID, Note: w.Note, Taken: time.Now(), Bytes: -1, State: inplace.Making, Until: w.Until, Passing: w.Passing}
	if w.Passing { // no policy's rotation knows of it
		rec.Policy = ""
	}
	asked, err := ss.captures.Asking(ctx, h, o, t, rec.ID)
	if err == nil {
		err = ss.rec.Snapshots.Save(ctx, rec)
	}
	if err != nil {
		return "", err
	}
	by := "by policy " + rec.Policy
	switch {
	case w.Passing:
		by = "for a while"
	case rec.Policy == "":
		by = "by hand"
	}
	note := "kept " + by + ", run " + rec.Run
	if w.Note != "" {
		note += ": " + w.Note
	}
	got, err := keeps.Snap(ctx, asked, note, w.Memory)
	if err != nil {
		return "", errors.Join(err, ss.undo(context.WithoutCancel(ctx), keeps, rec, err))
	}
	rec.Ref, rec.Taken, rec.Memory, rec.State, rec.Bytes = got.Ref, got.Taken, got.Memory, inplace.Kept, got.Bytes
	rec.Consistency, rec.Frozen = got.Consistency, got.Frozen.Nanoseconds()
	t.Warnings, t.Frozen = append(t.Warnings, got.Warnings...), rec.Frozen
	if err := ss.rec.Snapshots.Save(context.WithoutCancel(ctx), rec); err != nil {
		return "", errors.Join(err, ss.undo(context.WithoutCancel(ctx), keeps, rec, err)) // one that no record knows is nobody's
	}
	t.Log(ctx, "snapshot %s taken, consistency %s", rec.ID, rec.Consistency)
	return rec.ID, ss.spread(ctx, h, keeps, o.Policy.AlsoIn, rec, got.Snapshot, t)
}

// spread copies a snapshot to other regions. What fails is a warning: the snapshot itself is there, and the next one is copied again.
func (ss *Snapshots) spread(ctx context.Context, h source.Source, keeps source.Snapshotter, regions []string, rec record.Snapshot, got source.Snapshot, t *runs.Task) error {
	for _, region := range regions {
		to, err := source.As[source.Spreader](h, "copy snapshots to other regions")
		if err != nil {
			t.Warn("%v", err)
			return nil
		}
		if to.Region(got) == region {
			continue
		}
		if err := t.Begin(ctx, "copying it to "+region); err != nil {
			return err
		}
		c := rec
		c.ID, c.Ref, c.Region, c.CopyOf, c.State = image.NewID(), "", region, rec.ID, inplace.Making
		if err := ss.rec.Snapshots.Save(ctx, c); err != nil {
			return err
		}
		there, err := to.Spread(ctx, got, region, c.ID)
		if err != nil {
			t.Warn("it is not in %s, too: %v", region, errors.Join(err, ss.undo(context.WithoutCancel(ctx), keeps, c, err)))
			continue
		}
		c.Ref, c.State = there.Ref, inplace.Kept
		if err := ss.rec.Snapshots.Save(context.WithoutCancel(ctx), c); err != nil {
			return errors.Join(err, ss.undo(context.WithoutCancel(ctx), keeps, c, err))
		}
		t.Log(ctx, "snapshot %s is that of %s in %s", c.ID, rec.ID, region)
	}
	return nil
}

// undo removes what may be there of a snapshot that failed. What can't be removed now is by and by.
func (ss *Snapshots) undo(ctx context.Context, keeps source.Snapshotter, rec record.Snapshot, why error) error {
	_, err := keeps.Unsnap(ctx, rec.Machine, rec.ID, "")
	if err == nil {
		return ss.rec.Snapshots.Went(ctx, rec.ID, "it did not come to be: "+fault.Text(why))
	}
	return errors.Join(err, ss.rec.Snapshots.Abandon(ctx, rec.ID, "it did not come to be: "+fault.Text(why)), ss.rec.Snapshots.Trouble(ctx, rec.ID, fault.Text(err)))
}

// remove removes snapshots that are recorded as leaving; the errors are recorded with them, too.
func (ss *Snapshots) remove(ctx context.Context, s site.Site, leaving []record.Snapshot, gone func(record.Snapshot)) error {
	var errs []error
	for _, of := range bySource(leaving) {
		if err := ss.removeOf(ctx, s, of, gone); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// removeOf removes those of one source, over one connection.
func (ss *Snapshots) removeOf(ctx context.Context, s site.Site, of []record.Snapshot, gone func(record.Snapshot)) error {
	h, keeps, err := ss.open(ctx, s, of[0].Hypervisor)
	if err == nil {
		defer h.Close()
	}
	var errs []error
	for _, x := range of {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		failed := err
		if failed == nil {
			_, failed = keeps.Unsnap(ctx, x.Machine, x.ID, x.Ref)
		}
		if failed != nil {
			errs = append(errs, fmt.Errorf("snapshot %s of %s: %w", x.ID, x.Label, failed), ss.rec.Snapshots.Trouble(context.WithoutCancel(ctx), x.ID, fault.Text(failed)))
			continue
		}
		if err := ss.rec.Snapshots.Went(context.WithoutCancel(ctx), x.ID, ""); err != nil {
			errs = append(errs, err)
			continue
		}
		gone(x)
	}
	return errors.Join(errs...)
}

// bySource groups snapshots by where they are, in their order.
func bySource(all []record.Snapshot) (out [][]record.Snapshot) {
	at := map[string]int{}
	for _, s := range all {
		i, ok := at[s.Hypervisor]
		if !ok {
			i = len(out)
			at[s.Hypervisor], out = i, append(out, nil)
		}
		out[i] = append(out[i], s)
	}
	return out
}

func (ss *Snapshots) dropByHand(ctx context.Context, s site.Site, id, who string, t *runs.Task) error {
	going, err := ss.rec.Snapshots.Leave(ctx, map[string]string{id: "dropped by " + who})
	if err != nil {
		return err
	}
	x, err := ss.rec.Snapshots.Get(ctx, id)
	if err != nil {
		return err
	}
	if len(going) == 0 && x.State != inplace.Leaving && x.State != inplace.Making {
		return fmt.Errorf("%w: snapshot %s is %s now, or was pinned meanwhile", fault.ErrConflict, id, x.State)
	}
	return ss.remove(ctx, s, []record.Snapshot{x}, func(x record.Snapshot) { t.Log(ctx, "snapshot %s removed", x.ID) })
}

// List lists snapshots that see lets through, newest first. Of one machine, those are listed too that others made, where that is asked for.
func (ss *Snapshots) List(ctx context.Context, in right.Within, f wire.SnapshotFilter) ([]wire.Snapshot, error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	q := record.Filter{Policy: f.Policy, Gone: f.Gone}
	var m records.Machine
	if f.Machine != "" {
		if m, err = ss.inventory.Resolve(ctx, f.Machine); err != nil {
			return nil, err
		}
		q.MachineIDs = []string{m.ID}
	}
	found, err := ss.rec.Snapshots.List(ctx, q)
	if err != nil {
		return nil, err
	}
	now := time.Now().In(s.Location())
	lets := ss.letGo(s, found, now)
	out := []wire.Snapshot{}
	for _, x := range found {
		if in.All || in.SeenMachines[x.MachineID] {
			out = append(out, shown(x, headline(s, x, lets, now)))
		}
	}
	if !f.Others || m.ID == "" || !in.All && !in.SeenMachines[m.ID] {
		return out, nil
	}
	h, keeps, err := ss.open(ctx, s, m.Hypervisor)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	all, err := keeps.Snapshots(ctx, m.Name)
	if err != nil {
		return nil, err
	}
	for _, o := range all {
		if !slices.ContainsFunc(found, func(x record.Snapshot) bool { return x.ID == o.ID && x.Ref == o.Ref }) {
			out = append(out, wire.Snapshot{Machine: m.Label, MachineID: m.ID, Source: m.Hypervisor, Name: o.Name, Note: o.Note, Taken: o.Taken, Memory: o.Memory, Bytes: o.Bytes, State: inplace.Kept})
		}
	}
	return out, nil
}

// shown is a snapshot as people see it.
func shown(x record.Snapshot, headline string) wire.Snapshot {
	return wire.Snapshot{ID: x.ID, Machine: x.Label, MachineID: x.MachineID, Source: x.Hypervisor, Policy: x.Policy, Run: x.Run, Region: x.Region, CopyOf: x.CopyOf, Note: x.Note, Taken: x.Taken, Consistency: x.Consistency, Frozen: x.Frozen, Memory: x.Memory, Bytes: x.Bytes,
		State: x.State, Pinned: x.Pinned, PinNote: x.PinNote, Until: x.Until, Passing: x.Passing, Gone: x.Gone, Why: x.Why, Trouble: x.Trouble, Headline: headline}
}

// headline is what a person has to hear of a snapshot.
func headline(s site.Site, x record.Snapshot, lets map[string]bool, now time.Time) string {
	_, known := s.Policies[x.Policy]
	return x.Known().Headline(now, known, lets[x.ID])
}

// Told is what a person has to hear of a machine's snapshots.
type Told struct{ Machine, MachineID, Text string }

// toldFor is how long headlines stay as they are: what they tell of takes a day.
const toldFor = time.Minute

// Headlines lists what a person has to hear, as of a minute ago at the most: old ones, those that can't be removed, and those that bear our mark, and that
// no record knows; and what restores made that nobody uses.
func (ss *Snapshots) Headlines(ctx context.Context, s site.Site, now time.Time) ([]Told, error) {
	ss.mu.Lock()
	defer ss.mu.Unlock() // who asks meanwhile waits for the same answer
	if ss.told != nil && now.Sub(ss.toldAt) < toldFor {
		return ss.told, nil
	}
	now = now.In(s.Location())
	found, err := ss.rec.Snapshots.List(ctx, record.Filter{})
	if err != nil {
		return nil, err
	}
	out := []Told{}
	lets := ss.letGo(s, found, now)
	for _, x := range found {
		if text := headline(s, x, lets, now); text != "" {
			out = append(out, Told{x.Label, x.MachineID, text})
		}
	}
	for name, all := range ss.unknown {
		for _, x := range all {
			out = append(out, Told{Machine: name, Text: fmt.Sprintf("snapshot %s of %s bears our mark, and no record knows it: it was taken by a lodge whose records are lost, or by another one; look at: keenlodge snapshot list %[2]s --others", x.Name, x.Machine)})
		}
	}
	for name, all := range ss.unused {
		if _, ok := s.Hypervisors[name]; !ok {
			continue
		}
		for _, u := range all {
			if now.Sub(u.Made) >= inplace.UnusedLong {
				out = append(out, Told{Machine: name, Text: fmt.Sprintf("%s (%s) was made by a restore on %s, and nothing uses it: it costs, and no run removes it; remove it there if nobody needs it", u.Name, humanize.IBytes(uint64(max(0, u.Bytes))), u.Made.In(now.Location()).Format("Mon 2 Jan 15:04"))})
			}
		}
	}
	ss.told, ss.toldAt = out, now
	return out, nil
}
