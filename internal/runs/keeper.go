package runs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
)

const (
	// lookEvery is how often the keeper looks for what dead processes left.
	lookEvery = 5 * time.Second
	// comeBack is how long others have to come back to a database that was away before they are taken for dead.
	comeBack = 30 * time.Second
	// recoverTime bounds one look, so that what hangs does not keep the next one from what can be cleared.
	recoverTime = 10 * time.Minute
)

// errTakenOver is why a run ends that another process took for dead.
var errTakenOver = errors.New("another process took this one for dead, and ended the run")

// keeper holds the process's sign of life, and clears up after processes that died.
type keeper struct {
	e     *Engine
	owner *records.Owner // only live uses it
	// patient is until when nobody is taken for dead.
	patient time.Time
	// stray are runs that are recorded as this process's and that it does not have under way, as of the last look.
	stray map[string]bool
	// looked says when the first look was taken for what a task left.
	looked map[int64]time.Time
}

// live holds the sign of life, and does nothing else: a lock that the database gives back when its connection breaks. A connection that broke
// is made anew. Runs under way go on meanwhile; those end that another process has taken over.
func (k *keeper) live(ctx context.Context) error {
	for {
		err := k.owner.Broken(ctx)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		k.e.log.Warn("the connection broke that shows that this process lives; runs under way go on, and it is made anew", "error", err)
		k.owner.Release()
		again, err := k.e.rec.Own(ctx, k.e.owner)
		if err != nil {
			return err
		}
		k.owner = again
		k.e.mu.Lock()
		k.patient = time.Now().Add(comeBack)
		k.e.mu.Unlock()
		if err := k.e.endTakenOver(ctx); err != nil && ctx.Err() == nil {
			k.e.log.Error("could not look whether runs under way are still this process's", "error", err)
		}
		k.e.log.Info("the connection that shows that this process lives is there again")
	}
}

// endTakenOver ends the runs under way in this process that are not recorded as its own any more.
func (e *Engine) endTakenOver(ctx context.Context) error {
	under := e.inProcess()
	mine, err := e.rec.RunningOf(ctx, e.owner)
	if err != nil {
		return err
	}
	for id, stop := range under {
		if slices.Contains(mine, id) {
			continue
		}
		if r, err := e.rec.Run(ctx, id); err != nil || r.Over() && !e.under(id) {
			continue // it has just ended
		}
		stop(errTakenOver)
	}
	return nil
}

// inProcess are the runs under way in this process, with what ends them.
func (e *Engine) inProcess() map[string]context.CancelCauseFunc {
	e.mu.Lock()
	defer e.mu.Unlock()
	return maps.Clone(e.cancels)
}

func (e *Engine) under(id string) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.cancels[id] != nil
}

// keep looks for runs that are to end, lines that wait to be recorded, and what dead processes left.
func (k *keeper) keep(ctx context.Context) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var clearing chan struct{} // open while a look is under way: one that hangs keeps nothing else
	for {
		select {
		case <-ctx.Done():
			if clearing != nil {
				<-clearing
			}
			return ctx.Err()
		case <-clearing:
			clearing = nil
			continue
		case <-tick.C:
		}
		k.e.catchUp(ctx)
		if err := k.e.heedCancels(ctx); err != nil && ctx.Err() == nil {
			k.e.log.Error("could not look for runs that are to be cancelled", "error", err)
		}
		if err := k.e.endTakenOver(ctx); err != nil && ctx.Err() == nil {
			k.e.log.Error("could not look whether runs under way are still this process's; looking again", "error", err)
		}
		if clearing != nil {
			continue
		}
		clearing = make(chan struct{})
		go func(done chan struct{}) {
			defer close(done)
			bounded, end := context.WithTimeoutCause(ctx, recoverTime, fmt.Errorf("it took longer than %s", recoverTime))
			defer end()
			if err := k.recover(bounded); err != nil && ctx.Err() == nil {
				k.e.log.Error("could not clear what a dead process left; trying again", "error", err)
			}
		}(clearing)
	}
}

// recover ends the runs of dead processes, and those of this one that it does not have under way any more, and has handlers remove what tasks
// left outside. Of several processes one does each.
func (k *keeper) recover(ctx context.Context) error {
	e := k.e
	errs := []error{k.endStray(ctx)}
	e.mu.Lock()
	wait := time.Now().Before(k.patient)
	e.mu.Unlock()
	if !wait {
		orphans, err := e.rec.Orphans(ctx)
		if err != nil {
			return errors.Join(append(errs, err)...)
		}
		for _, r := range orphans {
			mine, err := e.rec.ClaimRun(ctx, r.ID, r.Owner, e.owner)
			if mine {
				err = e.endOrphan(ctx, r)
			}
			errs = append(errs, err)
		}
	}
	errs = append(errs, e.rec.Requeue(ctx)) // before the clearing, which may wait for hosts that are far away
	unclean, err := e.rec.Unclean(ctx)
	if err != nil {
		return errors.Join(append(errs, err)...)
	}
	for _, t := range unclean {
		mine, err := e.rec.ClaimCleaning(ctx, t.ID, e.owner)
		if mine {
			err = k.cleanUp(ctx, t)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// endStray ends runs that are recorded as going in this process and are not: one whose end could not be recorded, or that was claimed from a
// dead process and could not be settled. Two looks have to find it so, for one that begins is recorded first.
func (k *keeper) endStray(ctx context.Context) error {
	ids, err := k.e.rec.RunningOf(ctx, k.e.owner)
	if err != nil {
		return err
	}
	before := k.stray
	k.stray = map[string]bool{}
	var errs []error
	for _, id := range ids {
		if k.e.under(id) {
			continue
		}
		k.stray[id] = true
		if !before[id] {
			continue
		}
		r, err := k.e.rec.Orphan(ctx, id)
		if err == nil {
			err = k.e.endOrphan(ctx, r)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// endOrphan ends the run of a dead process. While its handler can't settle a task, it is tried again.
func (e *Engine) endOrphan(ctx context.Context, orphan records.Run) error {
	const why = "the service ended in the middle of it; what had arrived is reused by the next run"
	r := &Run{Run: orphan, e: e}
	done := len(orphan.Tasks) > 0
	for _, t := range orphan.Tasks {
		if t.State.Over() {
			done = done && t.State == run.Done
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
		done = done && t.State == run.Done
	}
	if _, plain := e.handlers[orphan.Kind].(Plain); plain && done {
		return e.end(ctx, orphan, run.Done, "")
	}
	r.Log(ctx, "", why)
	if orphan.Cancel != "" {
		return e.end(ctx, orphan, run.Cancelled, "cancelled "+orphan.Cancel)
	}
	var again []records.Run
	if slices.Contains([]run.Cause{run.Schedule, run.Chain, run.Boot}, orphan.Cause) && orphan.Again == "" {
		again = append(again, records.Run{ID: NewID(), Kind: orphan.Kind, Policy: orphan.Policy, Cause: orphan.Cause, Request: orphan.Request, State: run.Queued, Again: orphan.ID,
			Note: cmp.Or(orphan.Note, "takes up run "+orphan.ID+", which was interrupted")})
		r.Log(ctx, "", "nobody asked for its end, so it is taken up again, once: run %s", again[0].ID)
	}
	return e.end(ctx, orphan, run.Failed, why, again...)
}

// firstLook bounds the look with which a process begins, so that nothing else waits for a source that hangs. Tests shorten it.
var firstLook = 20 * time.Second

// lookAgain is how long after a first look a second one is taken: what a call was doing when its caller died may still happen, libvirt for
// one lets a call wait half a minute for its turn. Tests shorten it.
var lookAgain = 75 * time.Second

// cleanUp has a task's handler remove what it left, and look once more a while later. A task of a kind that this program does not know is left
// to one that does.
func (k *keeper) cleanUp(ctx context.Context, t records.UncleanTask) error {
	h, ok := k.e.handlers[t.Kind]
	if !ok {
		return nil
	}
	first, again := k.looked[t.ID]
	if again && time.Since(first) < lookAgain {
		return nil
	}
	if err := h.Cleanup(ctx, t.Task); errors.Is(err, ErrLater) {
		return nil
	} else if err != nil {
		return err
	}
	if !again {
		if k.looked == nil {
			k.looked = map[int64]time.Time{}
		}
		k.looked[t.ID] = time.Now()
		return nil
	}
	delete(k.looked, t.ID)
	t.NeedsCleanup, t.Owed = false, nil
	return k.e.rec.SaveTask(ctx, t.Task)
}
