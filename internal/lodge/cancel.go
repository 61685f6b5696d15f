package lodge

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/records"
)

// errCancelled is why a run ends that a person cancelled; errTooLong, one that took longer than its policy allows.
var (
	errCancelled = errors.New("cancelled")
	errTooLong   = errors.New("it took too long")
)

// CancelRun ends a run: one that waits never begins, one that is going thaws guests and clears up at once. who wants it, and why, which
// may be empty.
func (l *Lodge) CancelRun(ctx context.Context, id, who, why string) (records.Run, error) {
	text := "cancelled by " + who
	if why != "" {
		text += ": " + why
	}
	run, err := l.rec.CancelRun(ctx, id, text)
	if errors.Is(err, records.ErrOver) {
		return run, fmt.Errorf("%w: run %s is over already: it is %s", ErrConflict, id, run.State)
	}
	if err != nil {
		return run, err
	}
	l.say(ctx, id, "", text)
	return run, nil
}

// underWay notes a run's context, so that it can be cancelled and ends when its time is up. Call end when it has ended.
func (l *Lodge) underWay(ctx context.Context, run records.Run, longest time.Duration) (under context.Context, end func()) {
	under, stop := context.WithCancelCause(ctx)
	cancel := context.CancelFunc(func() {})
	if longest > 0 {
		under, cancel = context.WithTimeoutCause(under, longest, fmt.Errorf("%w: its policy allows %s, then it is stopped", errTooLong, longest))
	}
	l.mu.Lock()
	l.cancels[run.ID] = stop
	l.mu.Unlock()
	return under, func() {
		l.mu.Lock()
		delete(l.cancels, run.ID)
		l.mu.Unlock()
		cancel()
		stop(nil)
	}
}

// heedCancel ends a run of this process whose end is asked for.
func (l *Lodge) heedCancel(run records.Run) {
	if run.Cancel == "" {
		return
	}
	l.mu.Lock()
	stop := l.cancels[run.ID]
	l.mu.Unlock()
	if stop != nil {
		stop(fmt.Errorf("%w%s", errCancelled, run.Cancel[len("cancelled"):]))
	}
}

// heedCancels looks for runs of this process whose end is asked for, in case that word of it was lost.
func (l *Lodge) heedCancels(ctx context.Context) error {
	l.mu.Lock()
	ids := keys(l.cancels)
	l.mu.Unlock()
	for _, id := range ids {
		run, err := l.rec.Run(ctx, id)
		if err != nil {
			return err
		}
		l.heedCancel(run)
	}
	return nil
}
