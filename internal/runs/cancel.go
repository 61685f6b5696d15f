package runs

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
)

// errCancelled is why a run ends that a person cancelled; errTooLong, one that took longer than it may.
var (
	errCancelled = errors.New("cancelled")
	errTooLong   = errors.New("it took too long")
)

// Cancel ends a run: one that waits never begins, one that is going clears up at once. who wants it, and why, which may be empty.
func (e *Engine) Cancel(ctx context.Context, id, who, why string) (records.Run, error) {
	text := "by " + who
	if why != "" {
		text += ": " + why
	}
	r, err := e.rec.CancelRun(ctx, id, text)
	if errors.Is(err, records.ErrOver) {
		return r, fmt.Errorf("%w: run %s is over already: it is %s", fault.ErrConflict, id, r.State)
	}
	if err != nil {
		return r, err
	}
	e.Log(ctx, id, "", "note", "cancelled "+text)
	return r, nil
}

// underWay notes a run's context, so that it can be cancelled and ends when its time is up. Call end when it has ended.
func (e *Engine) underWay(ctx context.Context, r records.Run, longest time.Duration) (under context.Context, end func()) {
	under, stop := context.WithCancelCause(ctx)
	cancel := context.CancelFunc(func() {})
	if longest > 0 {
		under, cancel = context.WithTimeoutCause(under, longest, fmt.Errorf("%w: its policy allows %s, then it is stopped", errTooLong, longest))
	}
	e.mu.Lock()
	e.cancels[r.ID] = stop
	e.mu.Unlock()
	return under, func() {
		e.mu.Lock()
		delete(e.cancels, r.ID)
		e.mu.Unlock()
		cancel()
		stop(nil)
	}
}

// HeedCancel ends a run of this process whose end is asked for.
func (e *Engine) HeedCancel(r records.Run) {
	if r.Cancel == "" {
		return
	}
	e.mu.Lock()
	stop := e.cancels[r.ID]
	e.mu.Unlock()
	if stop != nil {
		stop(fmt.Errorf("%w %s", errCancelled, r.Cancel))
	}
}

// heedCancels looks for runs of this process whose end is asked for, in case that word of it was lost.
func (e *Engine) heedCancels(ctx context.Context) error {
	e.mu.Lock()
	ids := slices.Collect(maps.Keys(e.cancels))
	e.mu.Unlock()
	for _, id := range ids {
		r, err := e.rec.Run(ctx, id)
		if err != nil {
			return err
		}
		e.HeedCancel(r)
	}
	return nil
}
