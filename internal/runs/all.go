package runs

import (
	"context"
	"sync"
	"time"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
)

// PerformAll performs tasks of a run, each when it is its turn: by the spreading of starts over a time, and by the limits of tasks at once.
func (e *Engine) PerformAll(ctx context.Context, r *Run, s site.Site, tasks []records.Task, over time.Duration, work func(context.Context, *Task) error) []records.Task {
	done := make([]records.Task, len(tasks))
	starts := Spread(tasks, time.Now().In(s.Location()), over)
	var all sync.WaitGroup
	for i, rec := range tasks {
		all.Go(func() {
			limits := records.Limits{Lodge: s.Tasks(), Hypervisor: s.Hypervisors[rec.Hypervisor].Tasks(), Store: s.Stores[rec.Store].Tasks()}
			if rec.Store == "" {
				limits.Store = limits.Lodge // it stores nothing
			}
			late := e.Turn(ctx, &rec, limits, starts[i])
			done[i] = r.Perform(ctx, rec, func(ctx context.Context, t *Task) error {
				if late != nil {
					return late
				}
				return work(ctx, t)
			})
		})
	}
	all.Wait()
	return done
}
