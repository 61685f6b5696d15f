package runs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
)

// lookEvery is how often the keeper looks for what dead processes left, and whether it still holds its own lock.
const lookEvery = 5 * time.Second

// keep holds the process's sign of life and clears up after processes that died.
func (e *Engine) keep(ctx context.Context, owner *records.Owner) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		// Without the lock others take our runs for dead and clear them, so we must not go on with them.
		if err := owner.Alive(ctx); err != nil && ctx.Err() == nil {
			return fmt.Errorf("lost the database, so the service stops; start it again when PostgreSQL answers: %w", err)
		}
		if err := e.heedCancels(ctx); err != nil && ctx.Err() == nil {
			e.log.Error("could not look for runs that are to be cancelled", "error", err)
		}
		if err := e.recover(ctx); err != nil && ctx.Err() == nil {
			e.log.Error("could not clear what a dead process left; trying again", "error", err)
		}
	}
}

// recover ends the runs of dead processes, and has handlers remove what tasks left outside.
func (e *Engine) recover(ctx context.Context) error {
	orphans, err := e.rec.Orphans(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, r := range orphans {
		errs = append(errs, e.endOrphan(ctx, r))
	}
	unclean, err := e.rec.Unclean(ctx)
	if err != nil {
		return errors.Join(append(errs, err)...)
	}
	for _, t := range unclean {
		errs = append(errs, e.cleanUp(ctx, t))
	}
	return errors.Join(append(errs, e.rec.Requeue(ctx))...)
}

// endOrphan ends the run of a dead process. While its handler can't settle a task, it is tried again.
func (e *Engine) endOrphan(ctx context.Context, orphan records.Run) error {
	const why = "the service ended in the middle of it; what had arrived is reused by the next run"
	r := &Run{Run: orphan, e: e}
	for _, t := range orphan.Tasks {
		if t.State.Over() {
			continue
		}
		now := time.Now()
		t.State, t.Error, t.Step, t.Ended = run.Failed, why, "", &now
		if h, ok := e.handlers[orphan.Kind]; ok {
			if err := h.Settle(ctx, r, &t); err != nil {
				return err
			}
		}
		if err := e.rec.SaveTask(ctx, t); err != nil {
			return err
		}
	}
	r.Log(ctx, "", why)
	if orphan.Cancel != "" {
		return e.end(ctx, orphan, run.Cancelled, "cancelled "+orphan.Cancel)
	}
	return e.end(ctx, orphan, run.Failed, why)
}

// cleanUp has a task's handler remove what it left. A task of a kind that this program does not know is left to one that does.
func (e *Engine) cleanUp(ctx context.Context, t records.UncleanTask) error {
	h, ok := e.handlers[t.Kind]
	if !ok {
		return nil
	}
	if err := h.Cleanup(ctx, t.Task); err != nil {
		return err
	}
	t.NeedsCleanup = false
	return e.rec.SaveTask(ctx, t.Task)
}
