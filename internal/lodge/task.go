package lodge

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"keenlodge/internal/records"
)

// task is a task under way: its record, saved whenever it changes and twice a second while bytes flow.
type task struct {
	l   *Lodge
	rec records.Task
	// done counts bytes while a step moves them.
	done atomic.Int64
	// stepped is when the present step began.
	stepped time.Time
}

// skipped is why a task has nothing to do. It is no failure.
type skipped struct{ why string }

func (s skipped) Error() string { return s.why }

// saveEvery is how often progress is recorded.
const saveEvery = 500 * time.Millisecond

// perform carries a queued task out: work may set the record's figures and warnings; its error fails the task. The end is
// recorded even when ctx has ended.
func (l *Lodge) perform(ctx context.Context, rec records.Task, work func(ctx context.Context, t *task) error) records.Task {
	t := &task{l: l, rec: rec}
	now := time.Now()
	t.rec.State, t.rec.Started = "running", &now
	err := t.save(ctx)
	if err == nil {
		err = work(ctx, t)
	}
	t.closeStep()
	ended := time.Now()
	t.rec.Ended, t.rec.Step = &ended, ""
	var skip skipped
	if cause := context.Cause(ctx); cause != nil && err != nil {
		l.say(context.WithoutCancel(ctx), rec.Run, rec.Machine, "ended in the middle: "+err.Error())
		err = cause
	}
	switch {
	case errors.As(err, &skip):
		t.rec.State, t.rec.Why, err = "skipped", skip.why, nil
		l.say(ctx, rec.Run, rec.Machine, "skipped: "+skip.why)
	case err != nil:
		t.rec.State, t.rec.Error = "failed", err.Error()
	case len(t.rec.Warnings) > 0:
		t.rec.State = "warned"
	default:
		t.rec.State = "done"
	}
	last := context.WithoutCancel(ctx)
	if saved := t.save(last); saved != nil {
		l.log.Error("task's end could not be recorded", "run", rec.Run, "machine", rec.Machine, "error", saved)
	}
	for _, w := range t.rec.Warnings {
		l.say(last, rec.Run, rec.Machine, "warning: "+w)
	}
	if err != nil {
		l.say(last, rec.Run, rec.Machine, "failed: "+err.Error())
	}
	return t.rec
}

func (t *task) save(ctx context.Context) error { return t.l.rec.SaveTask(ctx, t.rec) }

// step names what is being done, in the run's log too.
func (t *task) step(ctx context.Context, name string) error {
	t.closeStep()
	t.rec.Step = name
	t.l.say(ctx, t.rec.Run, t.rec.Machine, name)
	return t.save(ctx)
}

// closeStep notes how long the present step took.
func (t *task) closeStep() {
	now := time.Now()
	if t.rec.Step != "" {
		t.rec.Steps = append(t.rec.Steps, records.TaskStep{Name: t.rec.Step, At: t.stepped, Took: now.Sub(t.stepped).Nanoseconds()})
	}
	t.stepped = now
}

// moving records progress while work moves bytes. figures, which may be nil, refreshes the record before each save.
func (t *task) moving(ctx context.Context, figures func(*records.Task), work func() error) error {
	update := func() {
		t.rec.Done = t.done.Load()
		if figures != nil {
			figures(&t.rec)
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
			return t.save(ctx)
		case <-tick.C:
			update()
			if err := t.save(ctx); err != nil && ctx.Err() == nil {
				t.l.log.Warn("progress could not be recorded", "run", t.rec.Run, "error", err)
			}
		}
	}
}

// say adds a line to a run's log; a line that can't be recorded goes to the service's own log.
func (l *Lodge) say(ctx context.Context, run, machine, text string) {
	l.log.Info(text, "run", run, "machine", machine)
	if err := l.rec.Log(ctx, run, machine, "note", text); err != nil && ctx.Err() == nil {
		l.log.Error("a line of a run's log could not be recorded", "run", run, "error", err)
	}
}
