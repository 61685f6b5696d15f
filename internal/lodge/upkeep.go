package lodge

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/core/run"

	"keenlodge/internal/store/open"
	"keenlodge/internal/store/pooled"

	"github.com/dustin/go-humanize"
	"golang.org/x/time/rate"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
)

const (
	// sweepEvery is how often each store is swept.
	sweepEvery = 24 * time.Hour
	// upkeepEvery is how often the lodge looks for a sweep that is due, or one that can go on.
	upkeepEvery = time.Minute
	// mostHit bounds the images in which files are looked for after damage was found.
	mostHit = 5
)

// SweepRequest asks for a store to be swept.
type SweepRequest struct {
	Store string `json:"store"`
	// Now ends the grace of all that is dropped: the store lacks room.
	Now bool `json:"now,omitempty"`
}

// SweepView is what a sweep would do, or did.
type SweepView struct {
	store.SweepReport
	// Left are the dropped images whose grace is over: they leave the store first. LeftBytes is what they took when they were stored.
	Left      []string `json:"left"`
	LeftBytes int64    `json:"left_bytes"`
	// Waiting is how many dropped images are still in their grace.
	Waiting int `json:"waiting"`
}

func (v *SweepView) add(leaving, gone []records.Image) {
	v.Left = []string{}
	for _, m := range leaving {
		v.Left, v.LeftBytes = append(v.Left, m.ID), v.LeftBytes+m.Stored
	}
	v.Waiting = len(gone) - len(leaving)
}

// PlanSweep tells what a sweep would do.
func (l *Lodge) PlanSweep(ctx context.Context, name string) (SweepView, error) {
	v := SweepView{}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return v, err
	}
	st, err := l.store(ctx, s, name)
	if err != nil {
		return v, err
	}
	gone, err := l.rec.Leaving(ctx, name, 0)
	if err != nil {
		return v, err
	}
	leaving, err := l.rec.Leaving(ctx, name, s.Stores[name].GraceTime())
	if err != nil {
		return v, err
	}
	v.add(leaving, gone)
	if pooled, ok := st.(*pooled.Store); ok {
		v.SweepReport, err = pooled.Sweep(ctx, store.SweepRequest{DryRun: true, Without: v.Left})
	}
	return v, err
}

// SweepStore queues a sweep.
func (l *Lodge) SweepStore(ctx context.Context, name string) (records.Run, error) {
	if _, err := l.storeNamed(ctx, name); err != nil {
		return records.Run{}, err
	}
	return l.queue(ctx, "sweep", "", SweepRequest{Store: name})
}

// SweepSoon queues a sweep that nobody asked for.
func (l *Lodge) SweepSoon(ctx context.Context, r SweepRequest) error {
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return l.rec.QueueRun(ctx, records.Run{ID: newRunID(), Kind: "sweep", Cause: "upkeep", Request: body})
}

// request reads what a run was asked for.
func request[T any](run records.Run) (r T, err error) {
	return r, json.Unmarshal(run.Request, &r)
}

// sweep carries a sweep out. One by hand does not wait for the window.
func (l *Lodge) sweep(ctx context.Context, run records.Run) (state run.State, err error) {
	var r SweepRequest
	if err := json.Unmarshal(run.Request, &r); err != nil {
		return "failed", err
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return "failed", err
	}
	st, err := l.store(ctx, s, r.Store)
	if err != nil {
		return "failed", err
	}
	rec, err := l.rec.AddTask(ctx, records.Task{Run: run.ID, Machine: r.Store})
	if err != nil {
		return "failed", err
	}
	done := l.perform(ctx, rec, func(ctx context.Context, t *task) error {
		if err := t.step(ctx, "sweeping"); err != nil {
			return err
		}
		return l.sweepStore(ctx, s, run, r, st, t)
	})
	return done.State, nil
}

// sweepStore lets the images go whose grace is over, or all that are gone where the floor asks for it, and gives their space back.
func (l *Lodge) sweepStore(ctx context.Context, s site.Site, run records.Run, r SweepRequest, st store.Store, t *task) error {
	name, spec := r.Store, s.Stores[r.Store]
	grace := spec.GraceTime()
	lacks, err := l.lacks(ctx, spec, st, 0)
	if err != nil {
		return err
	}
	if r.Now || lacks > 0 {
		grace = 0
	}
	gone, err := l.rec.Leaving(ctx, name, 0)
	if err != nil {
		return err
	}
	left, err := l.letGo(ctx, name, st, grace, func(text string) { l.say(ctx, run.ID, name, text) })
	if err != nil {
		return err
	}
	var v SweepView
	v.add(left, gone)
	show := func(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
	switch st := st.(type) {
	case *open.Store:
		if err := st.Tidy(ctx); err != nil {
			return err
		}
		v.Freed = v.LeftBytes
		l.say(ctx, run.ID, name, fmt.Sprintf("%d images left, %s given back; %d dropped ones can still be brought back", len(left), show(v.Freed), v.Waiting))
	case *pooled.Store:
		q := store.SweepRequest{Progress: func(n int64) { t.done.Add(n) }, Pace: pace(spec.SweepBytes())}
		if run.Cause == "upkeep" && grace > 0 {
			q.Until, _ = spec.SweepUntil(time.Now().In(s.Location()))
		}
		err := t.moving(ctx, nil, func() (err error) {
			v.SweepReport, err = st.Sweep(ctx, q)
			return err
		})
		if err != nil {
			return err
		}
		l.say(ctx, run.ID, name, fmt.Sprintf("%d images left; %d images need %d blocks; %d packs deleted, %s given back, %s moved", len(left), v.Images, v.Blocks, v.Deleted, show(v.Freed-v.Moved), show(v.Moved)))
	}
	for _, why := range v.Why {
		l.say(ctx, run.ID, name, why)
	}
	return l.rec.SetResult(ctx, run.ID, v)
}

// pace lets so many bytes pass in a second; 0 is no limit.
func pace(bytes int64) func(context.Context, int) error {
	if bytes <= 0 {
		return nil
	}
	limit := rate.NewLimiter(rate.Limit(bytes), int(min(bytes, 1<<30)))
	return func(ctx context.Context, n int) error { return pass(ctx, limit, n) }
}

// upkeep starts the sweeps that are due, and lets those go on that had to wait.
func (l *Lodge) upkeep(ctx context.Context) error {
	tick := time.NewTicker(upkeepEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		if err := l.upkeepOnce(ctx); err != nil && ctx.Err() == nil {
			l.log.Error("upkeep of the stores", "error", err)
		}
	}
}

func (l *Lodge) upkeepOnce(ctx context.Context) error {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return err
	}
	var errs []error
	if n, err := l.rec.ForgetRuns(ctx, time.Now().Add(-s.RunsKept())); err != nil {
		errs = append(errs, err)
	} else if n > 0 {
		l.log.Info("records of runs that are older than the site keeps were removed", "runs", n)
	}
	for _, name := range keys(s.Stores) {
		if _, open := s.Stores[name].SweepUntil(time.Now().In(s.Location())); !open {
			continue
		}
		due, err := l.rec.ClaimSweep(ctx, name, sweepEvery)
		if err == nil && due {
			err = errors.Join(l.SweepSoon(ctx, SweepRequest{Store: name}), l.tidyAllMarks(ctx, s))
		} else if err == nil {
			err = l.collect(ctx, s, name)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// tidyAllMarks removes checkpoints on which nothing will build, on every guest that runs: those of policies that are no more, too.
func (l *Lodge) tidyAllMarks(ctx context.Context, s site.Site) error {
	machines, err := l.rec.Machines(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, name := range keys(s.Hypervisors) {
		h, err := l.hypervisor(ctx, s, name)
		if err != nil {
			continue // finding machines tells of it
		}
		for _, m := range machines {
			if m.Hypervisor == name && m.State == "running" {
				errs = append(errs, l.tidyMarks(ctx, s, h, m.Name))
			}
		}
		h.Close()
	}
	return errors.Join(errs...)
}

// collect deletes what is condemned in a store, as far as nobody is in the way.
func (l *Lodge) collect(ctx context.Context, s site.Site, name string) error {
	l.mu.Lock()
	st := l.stores[s.Stores[name].Place()]
	l.mu.Unlock()
	pooled, ok := st.(*pooled.Store)
	if !ok {
		return nil
	}
	r, err := pooled.Collect(ctx)
	if r.Deleted > 0 {
		l.log.Info("what was condemned is deleted", "store", name, "packs", r.Deleted, "bytes", r.Freed)
	}
	return err
}
