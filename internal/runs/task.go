package runs

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
)

// Task is a task under way: its record, saved whenever it changes and twice a second while bytes flow.
type Task struct {
	records.Task
	r *Run
	// moved counts bytes while a step moves them.
	moved atomic.Int64
	// stepped is when the present step began.
	stepped time.Time
}

// saveEvery is how often progress is recorded.
const saveEvery = 500 * time.Millisecond

// Perform carries a queued task out: work may set the record's figures and warnings; its error fails the task, a [run.Skip] skips it.
// The end is recorded even when ctx has ended.
func (r *Run) Perform(ctx context.Context, rec records.Task, work func(ctx context.Context, t *Task) error) records.Task {
	t := &Task{Task: rec, r: r}
	now := time.Now()
	t.State, t.Started = run.Running, &now
	err := t.Save(ctx)
	if err == nil {
		err = work(ctx, t)
	}
	t.closeStep()
	ended := time.Now()
	t.Ended, t.Task.Step, t.Why = &ended, "", ""
	last, end := r.e.lasting(ctx)
	defer end()
	if cause := context.Cause(ctx); cause != nil && err != nil {
		r.Log(last, t.Machine, "ended in the middle: %v", err)
		err = cause
	}
	var skip run.Skip
	switch {
	case errors.As(err, &skip):
		t.State, t.Why, err = run.Skipped, skip.Why, nil
		r.Log(last, t.Machine, "skipped: %s", skip.Why)
	case err != nil:
		t.State, t.Error = run.Failed, err.Error()
	case len(t.Warnings) > 0:
		t.State = run.Warned
	default:
		t.State = run.Done
	}
	if saved := t.Save(last); saved != nil {
		r.e.log.Error("a task's end could not be recorded", "run", r.ID, "machine", t.Machine, "error", saved)
	}
	signal(r.e.line.freed)
	for _, w := range t.Warnings {
		r.Caution(last, t.Machine, "%s", w)
	}
	if err != nil {
		r.e.Log(last, r.ID, t.Machine, run.Failure, err.Error())
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tasks = append(r.tasks, t.State)
	return t.Task
}

// Save records the task as it is, and waits for a database that does not answer.
func (t *Task) Save(ctx context.Context) error {
	return records.Surely(ctx, func(ctx context.Context) error { return t.r.e.rec.SaveTask(ctx, t.Task) })
}

// note records the task by the way: what a database does not take that does not answer, the next time will bring.
func (t *Task) note(ctx context.Context) error {
	err := byTheWay(ctx, func(ctx context.Context) error { return t.r.e.rec.SaveTask(ctx, t.Task) })
	if records.Away(err) {
		err = nil
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// Log adds a line to the run's log, for the task's machine.
func (t *Task) Log(ctx context.Context, format string, args ...any) {
	t.r.Log(ctx, t.Machine, format, args...)
}

// Caution adds a warning to the run's log that does not change how the task ends.
func (t *Task) Caution(ctx context.Context, format string, args ...any) {
	t.r.Caution(ctx, t.Machine, format, args...)
}

// Warn notes something that a person should look at; the task ends as warned, or worse.
func (t *Task) Warn(format string, args ...any) {
	t.Warnings = append(t.Warnings, fmt.Sprintf(format, args...))
}

// Begin names what is being done, in the run's log too. It does not wait for a database that does not answer: who needs more to be recorded
// before he goes on calls Save.
func (t *Task) Begin(ctx context.Context, step string) error {
	t.closeStep()
	t.Step = step
	t.Log(ctx, "%s", step)
	return t.note(ctx)
}

// closeStep notes how long the present step took.
func (t *Task) closeStep() {
	now := time.Now()
	if t.Step != "" {
		t.Steps = append(t.Steps, records.TaskStep{Name: t.Step, At: t.stepped, Took: now.Sub(t.stepped).Nanoseconds()})
	}
	t.stepped = now
}

// Add counts bytes that the present step moved.
func (t *Task) Add(bytes int64) { t.moved.Add(bytes) }

// Moving records progress while work moves bytes. figures, which may be nil, refreshes the record before each save; without it, what
// [Task.Add] counted is the progress.
func (t *Task) Moving(ctx context.Context, figures func(*records.Task), work func() error) error {
	update := func() {
		t.Done = t.moved.Load()
		if figures != nil {
			figures(&t.Task)
		}
	}
	finished := make(chan error, 1)
	go func() { finished <- work() }()
	tick := time.NewTicker(saveEvery)
	defer tick.Stop()
	for {
		select {
		case err := <-finished:
			update()
			if err != nil {
				return err
			}
			return t.note(ctx)
		case <-tick.C:
			update()
			if err := t.note(ctx); err != nil && ctx.Err() == nil {
				t.r.e.log.Warn("progress could not be recorded", "run", t.r.ID, "error", err)
			}
		}
	}
}

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
