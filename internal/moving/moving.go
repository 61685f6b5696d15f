// Package moving brings a store to another place, or to another medium, while runs go on: its objects are copied, as often as it takes to be close
// behind, and in a moment in which nobody writes the last of them, and the site's entry, change over. The old place stays as it is.
package moving

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/stores"
	"keenlodge/internal/throttle"
	"keenlodge/internal/wire"
)

// Moving moves stores.
type Moving struct {
	rec    *records.Records
	log    *slog.Logger
	stores *stores.Stores
	runs   *runs.Engine
	// Change changes the site.
	Change func(ctx context.Context, change func(site.Site) (site.Site, error)) error
}

// New makes a Moving and registers moves with the engine.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores, e *runs.Engine) *Moving {
	m := &Moving{rec: rec, log: log, stores: ss, runs: e}
	e.Register(run.Move, handler{m: m})
	return m
}

// Request asks for a store to be moved. To is its entry at the new place; what signs in there is kept apart.
type Request struct {
	Store     string     `json:"store"`
	To        site.Store `json:"to"`
	Bandwidth string     `json:"bandwidth,omitempty"`
}

// Start queues a move, for who. The new place has to be empty, or one to which a move of this store was begun.
func (m *Moving) Start(ctx context.Context, who, name string, q wire.Move) (records.Run, error) {
	s, err := m.rec.Site(ctx)
	if err != nil {
		return records.Run{}, err
	}
	spec, err := s.Store(name)
	if err != nil {
		return records.Run{}, err
	}
	next := spec
	next.Medium, next.Settings = q.Spec.Medium, q.Spec.Settings
	switch {
	case spec.Layout != site.Pooled:
		return records.Run{}, fmt.Errorf("%w: store %s has the %s layout, whose files change in place; stop the service, move the folder, and change its entry", fault.ErrConflict, name, spec.Layout)
	case next.Settings == nil || next.Medium == spec.Medium && next.Location() == spec.Location():
		return records.Run{}, fmt.Errorf("%w: store %s lies there already; name another place", fault.ErrInvalid, name)
	}
	if err := next.Check(name); err != nil {
		return records.Run{}, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	if q.Bandwidth != "" {
		if n, err := humanize.ParseBytes(q.Bandwidth); err != nil || n == 0 {
			return records.Run{}, fmt.Errorf(`%w: bandwidth %q is no length; write for example "2 MiB"`, fault.ErrInvalid, q.Bandwidth)
		}
	}
	if going, err := m.rec.MoveUnderWay(ctx, name, "", run.Queued, run.Running); err != nil {
		return records.Run{}, err
	} else if going != "" {
		return records.Run{}, fmt.Errorf("%w: store %s is being moved by run %s already", fault.ErrConflict, name, going)
	}
	if err := m.stores.KeepForPlace(ctx, name, next, q.Access); err != nil {
		return records.Run{}, err
	}
	to, id, err := m.reach(ctx, name, next)
	if err != nil {
		return records.Run{}, fmt.Errorf("%w: %w", fault.ErrInvalid, medium.Advise(err))
	}
	defer to.Close()
	if err := mayTake(ctx, to, id); err != nil {
		return records.Run{}, fmt.Errorf("%w: %w", fault.ErrConflict, err)
	}
	return m.runs.Queue(ctx, runs.Order{Kind: run.Move, Cause: run.Hand, Who: who, Request: Request{Store: name, To: next, Bandwidth: q.Bandwidth}})
}

// reach opens the new place.
func (m *Moving) reach(ctx context.Context, name string, next site.Store) (to medium.Medium, id string, err error) {
	if id, err = m.rec.StoreID(ctx, name); err == nil {
		to, err = m.stores.Reach(ctx, name, next)
	}
	return to, id, err
}

// marker is an object that says that a store is on its way to a place, and of which.
func marker(id string) string { return "moving/" + id }

// mayTake is nil where a place is empty, or where a move of the store was begun.
func mayTake(ctx context.Context, to medium.Medium, id string) error {
	if _, err := to.Stat(ctx, marker(id)); err == nil || !errors.Is(err, medium.ErrNotFound) {
		return err
	}
	full := errors.New("something is there")
	err := to.List(ctx, "", func(medium.Object) error { return full })
	if errors.Is(err, full) {
		return fmt.Errorf("%s is not empty; name an empty place", to)
	}
	return err
}

type handler struct {
	runs.Base
	m *Moving
}

// Wait implements [runs.Waiter]: of two moves that were asked for at once, one is carried out.
func (h handler) Wait(ctx context.Context, r records.Run) (runs.Wait, error) {
	q, err := runs.Request[Request](r)
	if err != nil {
		return runs.Wait{}, nil // the run says so
	}
	other, err := h.m.rec.MoveUnderWay(ctx, q.Store, r.ID, run.Running)
	if err == nil && other == "" {
		if other, err = h.m.rec.MoveUnderWay(ctx, q.Store, r.ID, run.Queued); other > r.ID {
			other = "" // that one makes way
		}
	}
	if err != nil || other == "" {
		return runs.Wait{}, err
	}
	return runs.Wait{Skip: fmt.Sprintf("store %s is being moved by run %s", q.Store, other)}, nil
}

// move is one under way.
type move struct {
	*runs.Run
	m    *Moving
	q    Request
	id   string
	from store.Store
	to   medium.Medium
	pace throttle.Wait // nil for no limit
	// last says that nobody writes any more: only then the header is put, with which the new place is a store.
	last bool
}

// Run implements [runs.Handler].
func (h handler) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[Request](r.Run)
	if err != nil {
		return err
	}
	s, err := h.m.rec.Site(ctx)
	if err != nil {
		return err
	}
	k := &move{Run: r, m: h.m, q: q, pace: throttle.Steady(bytesOf(q.Bandwidth))}
	if k.from, err = h.m.stores.Open(ctx, s, q.Store); err != nil {
		return err
	}
	if k.to, k.id, err = h.m.reach(ctx, q.Store, q.To); err != nil {
		return err
	}
	defer k.to.Close()
	if err := mayTake(ctx, k.to, k.id); err != nil {
		return err
	}
	return r.PerformOne(ctx, records.Task{Machine: q.Store}, k.all)
}

func bytesOf(text string) int64 {
	n, err := humanize.ParseBytes(text)
	if err != nil {
		return 0 // Start has looked
	}
	return int64(n)
}

const (
	// near is how much may be missing at the new place before the store changes over, in bytes; it is what others then wait for.
	near = 64 << 20
	// atOnce is how many objects are on their way at the same time.
	atOnce = 4
	// lastWords is how long what began before a store was held may take to write what belongs to no run.
	lastWords = 2 * time.Second
)

// FreeEvery is how often it is looked whether nobody uses the store. Tests shorten it.
var FreeEvery = 10 * time.Second

// patience is how often that is done before no other run begins that would use it: until then nobody is kept waiting.
const patience = 30

// all copies until little is missing, and changes over when nobody is in the way.
func (k *move) all(ctx context.Context, t *runs.Task) error {
	if err := t.Begin(ctx, "copying"); err != nil {
		return err
	}
	if err := k.to.Put(ctx, marker(k.id), []byte(k.q.Store)); err != nil {
		return err
	}
	if err := k.catchUp(ctx, t); err != nil {
		return err
	}
	if err := t.Begin(ctx, "waiting for runs that use it"); err != nil {
		return err
	}
	defer func() {
		if err := k.m.rec.Drain(context.WithoutCancel(ctx), k.q.Store, ""); err != nil {
			k.m.log.Error("runs wait for a store that is not moved any more; they begin when this run has ended", "store", k.q.Store, "error", err)
		}
	}()
	told := ""
	for n := 0; ; n++ {
		if n == patience {
			k.Log(ctx, k.q.Store, "there is always a run that uses it; no other begins now until it has changed over")
			if err := k.m.rec.Drain(ctx, k.q.Store, k.ID); err != nil {
				return err
			}
		}
		using, err := k.others(ctx)
		if err == nil && len(using) == 0 {
			if err = k.catchUp(ctx, t); err == nil { // others may begin meanwhile
				var changed bool
				if changed, using, err = k.changeOver(ctx, t); changed {
					return err
				}
			}
		}
		if err != nil {
			return err
		}
		if words := strings.Join(using, ", "); words != told {
			k.Log(ctx, k.q.Store, "it changes over when these runs have ended: %s", words)
			told = words
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(FreeEvery):
		}
	}
}

// others are the runs that use the store beside this one.
func (k *move) others(ctx context.Context) ([]string, error) {
	using, err := k.m.rec.Using(ctx, k.q.Store)
	return slices.DeleteFunc(using, func(id string) bool { return id == k.ID }), err
}

// catchUp copies in rounds until little is missing.
func (k *move) catchUp(ctx context.Context, t *runs.Task) error {
	for {
		missing, _, err := k.differ(ctx)
		if err != nil {
			return err
		}
		var size int64
		for _, o := range missing {
			size += o.Size
		}
		t.Total = t.Task.Done + size
		if err := t.Moving(ctx, nil, func() error { return k.copyAll(ctx, missing, t.Add) }); err != nil {
			return err
		}
		if size <= near {
			return nil
		}
	}
}

// differ lists what the old place has and the new one lacks, and what the new one has and the old one lacks. Signs of life of those who are at the
// old one are not of the store's matter.
func (k *move) differ(ctx context.Context) (missing []medium.Object, extra []string, err error) {
	there := map[string]int64{}
	if err := k.to.List(ctx, "", func(o medium.Object) error { there[o.Name] = o.Size; return nil }); err != nil {
		return nil, nil, err
	}
	err = k.from.Medium().List(ctx, "", func(o medium.Object) error {
		isHeader := o.Name == store.HeaderName || o.Name == store.HeaderCopy
		if strings.HasPrefix(o.Name, "visit/") || strings.HasPrefix(o.Name, "probe/") || isHeader && !k.last {
			return nil
		}
		if size, ok := there[o.Name]; !ok || size != o.Size {
			missing = append(missing, o)
		}
		delete(there, o.Name)
		return nil
	})
	delete(there, marker(k.id))
	return missing, slices.Sorted(maps.Keys(there)), err
}

// copyAll copies objects: packs before indexes before manifests, as they were written, and the header last, with which a place becomes a store.
func (k *move) copyAll(ctx context.Context, objects []medium.Object, add func(int64)) error {
	rank := func(name string) int {
		switch {
		case strings.HasPrefix(name, "pack/"):
			return 0
		case strings.HasPrefix(name, "index/"):
			return 1
		case name == store.HeaderCopy || name == store.HeaderName:
			return 3
		}
		return 2
	}
	for stage := range 4 {
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(atOnce)
		for _, o := range objects {
			if rank(o.Name) != stage || ctx.Err() != nil {
				continue
			}
			group.Go(func() error { return k.copy(ctx, o, add) })
		}
		if err := group.Wait(); err != nil {
			return err
		}
	}
	return nil
}

func (k *move) copy(ctx context.Context, o medium.Object, add func(int64)) error {
	body, err := k.from.Medium().Get(ctx, o.Name, 0, -1)
	if errors.Is(err, medium.ErrNotFound) {
		return nil // it went meanwhile
	}
	if err != nil {
		return err
	}
	if k.pace != nil {
		if err := k.pace(ctx, len(body)); err != nil {
			return err
		}
	}
	if err := k.to.Put(ctx, o.Name, body); err != nil {
		return err
	}
	add(o.Size)
	return nil
}

// changeOver holds the store, and where no run uses it copies the last, looks whether all is there, and changes the site's entry. using are the runs
// that were in the way.
func (k *move) changeOver(ctx context.Context, t *runs.Task) (changed bool, using []string, err error) {
	m, name := k.m, k.q.Store
	if err := m.rec.Hold(ctx, name, k.ID); err != nil {
		return false, nil, err
	}
	defer func() { err = errors.Join(err, m.rec.Hold(context.WithoutCancel(ctx), name, "")) }()
	if using, err = k.others(ctx); err != nil || len(using) > 0 {
		return false, using, err
	}
	if err := t.Begin(ctx, "changing over"); err != nil {
		return false, nil, err
	}
	time.Sleep(lastWords)
	return true, nil, k.finish(ctx, t)
}

// finish does what is left while nobody uses the store.
func (k *move) finish(ctx context.Context, t *runs.Task) error {
	k.last = true
	missing, extra, err := k.differ(ctx)
	if err != nil {
		return err
	}
	if err := k.copyAll(ctx, missing, t.Add); err != nil {
		return err
	}
	for _, name := range extra { // sweeps and rotation took it out of the old place meanwhile
		if err := k.to.Delete(ctx, name); err != nil {
			return err
		}
	}
	if err := k.compare(ctx); err != nil {
		return err
	}
	var was site.Store
	err = k.m.Change(ctx, func(s site.Site) (site.Site, error) {
		spec, err := s.Store(k.q.Store)
		if err != nil {
			return s, err
		}
		was = spec
		spec.Medium, spec.Settings = k.q.To.Medium, k.q.To.Settings
		s.Stores = maps.Clone(s.Stores)
		s.Stores[k.q.Store] = spec
		return s, nil
	})
	if err != nil {
		return err
	}
	if err := errors.Join(k.m.stores.Moved(ctx, k.q.Store, was, k.q.To), k.m.rec.SetLocks(ctx, k.q.Store, records.Locks{}), k.to.Delete(ctx, marker(k.id))); err != nil {
		return err
	}
	old := fmt.Sprintf("%s, %s", was.Medium, was.Location())
	k.Log(ctx, k.q.Store, "it lies at %s now; the old place (%s) is as it was: when you have seen that all is well, delete what is there", k.to, old)
	return k.SetResult(ctx, wire.Moved{Store: k.q.Store, To: k.q.To.Location(), From: old, Bytes: t.Task.Done})
}

// compare opens the store at the new place and looks whether every image of the old one is there, with all that it needs.
func (k *move) compare(ctx context.Context) error {
	key, err := k.m.stores.Key(ctx, k.q.Store)
	if err != nil {
		return err
	}
	key.Spec.Medium, key.Spec.Settings = k.q.To.Medium, k.q.To.Settings
	if key.Credentials, err = k.m.stores.ForPlace(ctx, k.q.Store, key.Spec); err != nil {
		return err
	}
	there, err := key.Open(ctx)
	if err != nil {
		return err
	}
	defer there.Close()
	had, err := k.from.ImageIDs(ctx)
	if err != nil {
		return err
	}
	has, err := there.ImageIDs(ctx)
	if err != nil {
		return err
	}
	if !slices.Equal(had, has) {
		return fmt.Errorf("of %d images %d are at the new place; nothing was changed over; try again", len(had), len(has))
	}
	before, err := k.from.Check(ctx, false, func(int64) {})
	if err != nil {
		return err
	}
	after, err := there.Check(ctx, false, func(int64) {})
	if err != nil {
		return err
	}
	if n := len(after.Problems) + after.More; n > len(before.Problems)+before.More {
		return fmt.Errorf("the new place is not whole: %d problems, the first: %s: %s; nothing was changed over; try again", n, after.Problems[0].Object, after.Problems[0].What)
	}
	return nil
}
