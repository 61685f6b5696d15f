package lodge

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/records"
)

// errStopped is why a run ends that a person stopped; errTooLong, one that took longer than its policy allows.
var (
	errStopped = errors.New("stopped")
	errTooLong = errors.New("it took too long")
)

// StopRun ends a run: one that waits never begins, one that is going thaws guests and clears up at once. who wants it, and why, which
// may be empty.
func (l *Lodge) StopRun(ctx context.Context, id, who, why string) (records.Run, error) {
	text := "stopped by " + who
	if why != "" {
		text += ": " + why
	}
	run, err := l.rec.StopRun(ctx, id, text)
	if errors.Is(err, records.ErrOver) {
		return run, fmt.Errorf("%w: run %s is over already: it is %s", ErrConflict, id, run.State)
	}
	if err != nil {
		return run, err
	}
	l.say(ctx, id, "", text)
	return run, nil
}

// underWay notes a run's context, so that it can be stopped and ends when its time is up. Call end when it has ended.
func (l *Lodge) underWay(ctx context.Context, run records.Run, longest time.Duration) (under context.Context, end func()) {
	under, stop := context.WithCancelCause(ctx)
	cancel := context.CancelFunc(func() {})
	if longest > 0 {
		under, cancel = context.WithTimeoutCause(under, longest, fmt.Errorf("%w: its policy allows %s, then it is stopped", errTooLong, longest))
	}
	l.mu.Lock()
	l.stops[run.ID] = stop
	l.mu.Unlock()
	return under, func() {
		l.mu.Lock()
		delete(l.stops, run.ID)
		l.mu.Unlock()
		cancel()
		stop(nil)
	}
}

// heedStop ends a run of this process whose end is asked for.
func (l *Lodge) heedStop(run records.Run) {
	if run.Stop == "" {
		return
	}
	l.mu.Lock()
	stop := l.stops[run.ID]
	l.mu.Unlock()
	if stop != nil {
		stop(fmt.Errorf("%w%s", errStopped, run.Stop[len("stopped"):]))
	}
}

// heedStops looks for runs of this process whose end is asked for, in case that word of it was lost.
func (l *Lodge) heedStops(ctx context.Context) error {
	l.mu.Lock()
	ids := keys(l.stops)
	l.mu.Unlock()
	for _, id := range ids {
		run, err := l.rec.Run(ctx, id)
		if err != nil {
			return err
		}
		l.heedStop(run)
	}
	return nil
}
