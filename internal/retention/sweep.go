package retention

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/throttle"
	"keenlodge/internal/wire"
)

const (
	// sweepEvery is how often each store is swept.
	sweepEvery = 24 * time.Hour
	// locksSoon is how often it is tried in a store that is locked from now on, or for longer.
	locksSoon = 10 * time.Minute
	// upkeepEvery is how often the lodge looks for a sweep that is due, or one that can go on.
	upkeepEvery = time.Minute
)

// SweepRequest asks for a store to be swept.
type SweepRequest struct {
	Store string `json:"store"`
	// Now ends the grace of all that is dropped: the store lacks room.
	Now bool `json:"now,omitempty"`
}

func addLeaving(v *wire.SweepResult, leaving, gone []records.Image) {
	v.Left = []string{}
	for _, m := range leaving {
		v.Left, v.LeftBytes = append(v.Left, m.ID), v.LeftBytes+m.Stored
	}
	v.Waiting = len(gone) - len(leaving)
}

// PlanSweep tells what a sweep would do.
func (rt *Retention) PlanSweep(ctx context.Context, name string) (wire.SweepResult, error) {
	v := wire.SweepResult{}
	s, err := rt.rec.Site(ctx)
	if err != nil {
		return v, err
	}
	st, err := rt.stores.Open(ctx, s, name)
	if err != nil {
		return v, err
	}
	gone, err := rt.rec.Leaving(ctx, name, 0)
	if err != nil {
		return v, err
	}
	leaving, err := rt.rec.Leaving(ctx, name, s.Stores[name].GraceTime())
	if err != nil {
		return v, err
	}
	addLeaving(&v, leaving, gone)
	if sweeper, ok := st.(store.Sweeper); ok {
		v.SweepReport, err = sweeper.Sweep(ctx, store.SweepRequest{DryRun: true, Without: v.Left, Expected: rt.stores.Expected(name)})
	}
	return v, err
}

// Sweep queues a sweep of a store, for who.
func (rt *Retention) Sweep(ctx context.Context, who, name string) (records.Run, error) {
	if _, err := rt.stores.Named(ctx, name); err != nil {
		return records.Run{}, err
	}
	if waits, err := rt.rec.SweepUnderWay(ctx, name, run.Queued); err != nil {
		return records.Run{}, err
	} else if waits != "" {
		return records.Run{}, fmt.Errorf("%w: a sweep of store %s waits already: run %s", fault.ErrConflict, name, waits)
	}
	return rt.runs.Queue(ctx, runs.Order{Kind: run.Sweep, Cause: run.Hand, Who: who, Request: SweepRequest{Store: name}})
}

// SweepSoon queues a sweep that nobody asked for, unless one waits already that will find all that there is.
func (rt *Retention) SweepSoon(ctx context.Context, q SweepRequest) error {
	waits, err := rt.rec.SweepUnderWay(ctx, q.Store, run.Queued)
	if err != nil || waits != "" && !q.Now {
		return err
	}
	if waits != "" {
		return rt.rec.SetRequest(ctx, waits, q) // it is more urgent now
	}
	_, err = rt.runs.Queue(ctx, runs.Order{Kind: run.Sweep, Cause: run.Upkeep, Request: q})
	return err
}

// sweeps carries sweeps out. One by hand does not wait for the window.
type sweeps struct {
	runs.Base
	rt *Retention
}

// AtOnce implements [runs.Limited].
func (sweeps) AtOnce() int { return 4 }

// Wait implements [runs.Waiter]: a store is swept by one run at a time.
func (h sweeps) Wait(ctx context.Context, r records.Run) (runs.Wait, error) {
	q, err := runs.Request[SweepRequest](r)
	if err != nil {
		return runs.Wait{}, nil // the run says so
	}
	if by, err := h.rt.rec.Drained(ctx, q.Store); err != nil || by != "" {
		return runs.Wait{Until: time.Now().Add(2 * time.Second), Why: fmt.Sprintf("store %s changes over to another place when it is free (run %s)", q.Store, by)}, err
	}
	other, err := h.rt.rec.SweepUnderWay(ctx, q.Store, run.Running)
	if err != nil || other == "" {
		return runs.Wait{}, err
	}
	return runs.Wait{Until: time.Now().Add(2 * time.Second), Why: "store " + q.Store + " is being swept by run " + other}, nil
}

// Run implements [runs.Handler].
func (h sweeps) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[SweepRequest](r.Run)
	if err != nil {
		return err
	}
	s, err := h.rt.rec.Site(ctx)
	if err != nil {
		return err
	}
	st, err := h.rt.stores.Open(ctx, s, q.Store)
	if err != nil {
		return err
	}
	return r.PerformOne(ctx, records.Task{Machine: q.Store}, func(ctx context.Context, t *runs.Task) error {
		if err := t.Begin(ctx, "sweeping"); err != nil {
			return err
		}
		return h.rt.sweep(ctx, s, r, q, st, t)
	})
}

// sweep lets the images go whose grace is over, or all that are gone where the floor asks for it, and gives their space back.
func (rt *Retention) sweep(ctx context.Context, s site.Site, r *runs.Run, q SweepRequest, st store.Store, t *runs.Task) error {
	name, spec := q.Store, s.Stores[q.Store]
	grace := spec.GraceTime()
	lacks, err := stores.Lacks(ctx, spec, st, 0)
	if err != nil {
		return err
	}
	if q.Now || lacks > 0 {
		grace = 0
	}
	gone, err := rt.rec.Leaving(ctx, name, 0)
	if err != nil {
		return err
	}
	left, err := rt.expire(ctx, name, st, grace, r)
	if err != nil {
		return err
	}
	var v wire.SweepResult
	addLeaving(&v, left, gone)
	show := func(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
	if tidier, ok := st.(store.Tidier); ok {
		if err := tidier.Tidy(ctx); err != nil {
			return err
		}
	}
	sweeper, ok := st.(store.Sweeper)
	if !ok {
		v.Freed = v.LeftBytes
		r.Log(ctx, name, "%d dropped images were taken out, %s given back; %d dropped ones can still be brought back", len(left), show(v.Freed), v.Waiting)
		return r.SetResult(ctx, v)
	}
	how := store.SweepRequest{Expected: rt.stores.Expected(name), Progress: t.Add, Pace: throttle.Steady(spec.SweepBytes())}
	if r.Cause == run.Upkeep && grace > 0 {
		how.Until, _ = spec.SweepUntil(time.Now().In(s.Location()))
	}
	err = t.Moving(ctx, nil, func() (err error) {
		v.SweepReport, err = sweeper.Sweep(ctx, how)
		return err
	})
	// Locks are renewed even where nothing can be swept.
	if err = errors.Join(err, rt.renewLocks(ctx, s, name, st, r)); err != nil {
		return err
	}
	r.Log(ctx, name, "%d dropped images were taken out; %d images need %d pieces; %d packs deleted, %s given back, %s moved", len(left), v.Images, v.Blocks, v.Deleted, show(v.Freed-v.Moved), show(v.Moved))
	for _, why := range v.Why {
		r.Log(ctx, name, "%s", why)
	}
	return r.SetResult(ctx, v)
}

// Upkeep starts the sweeps that are due, lets those go on that had to wait, and forgets what the site keeps no longer, until ctx ends.
// often is called each time, daily for each store when its daily sweep was started.
func (rt *Retention) Upkeep(ctx context.Context, often func(context.Context) error, daily func(context.Context, site.Site) error) error {
	tick := time.NewTicker(upkeepEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		if err := errors.Join(often(ctx), rt.upkeepOnce(ctx, daily)); err != nil && ctx.Err() == nil {
			rt.log.Error("upkeep of the stores", "error", err)
		}
	}
}

func (rt *Retention) upkeepOnce(ctx context.Context, daily func(context.Context, site.Site) error) error {
	s, err := rt.rec.Site(ctx)
	if err != nil {
		return err
	}
	var errs []error
	if n, err := rt.rec.ForgetRuns(ctx, time.Now().Add(-s.RunsKept())); err != nil {
		errs = append(errs, err)
	} else if n > 0 {
		rt.log.Info("records of runs that are older than the site keeps were removed", "runs", n)
	}
	if n, err := rt.rec.ForgetImages(ctx, time.Now().Add(-s.ImagesKept())); err != nil {
		errs = append(errs, err)
	} else if n > 0 {
		rt.log.Info("records of images that left their stores longer ago than the site keeps them were removed", "images", n)
	}
	swept := false
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		if _, open := s.Stores[name].SweepUntil(time.Now().In(s.Location())); !open {
			continue
		}
		if away, err := rt.stores.Away(ctx, s, name); err != nil || away {
			errs = append(errs, err)
			continue
		}
		every := sweepEvery
		if due, err := rt.locksDue(ctx, s, name); err != nil {
			errs = append(errs, err)
		} else if due {
			every = locksSoon
		}
		due, err := rt.rec.ClaimSweep(ctx, name, every)
		if err == nil && due {
			swept = true
			err = errors.Join(rt.SweepSoon(ctx, SweepRequest{Store: name}), daily(ctx, s))
		} else if err == nil {
			err = rt.stores.Collect(ctx, name, s.Stores[name].Spot(name))
		}
		errs = append(errs, err)
	}
	if swept {
		errs = append(errs, rt.rotateRetired(ctx))
	}
	return errors.Join(errs...)
}
