package lodge

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/capture"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/hooks"
	"keenlodge/internal/planning"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/snapshots"
	"keenlodge/internal/store"
	"keenlodge/internal/trials"
)

// RunPolicy queues a run of a policy by hand, for who. note, which may be empty, says what it is for; its images bear it. While one is
// going, or the policy is paused, it is [fault.ErrConflict]. Windows do not hold it.
func (l *Lodge) RunPolicy(ctx context.Context, policy, who, note string) (records.Run, error) {
	s, err := l.rec.Site(ctx)
	if err == nil {
		_, err = s.Policy(policy)
	}
	if err != nil {
		return records.Run{}, err
	}
	pauses, err := l.Planning.Pauses(ctx)
	if err != nil {
		return records.Run{}, err
	}
	if p := pauses[policy]; p.Holds(time.Now()) {
		return records.Run{}, fmt.Errorf("%w: policy %s is paused%s; resume it first: keenlodge policy resume %[2]s", fault.ErrConflict, policy, planning.PauseWords(p, s.Location()))
	}
	r, err := l.Runs.Queue(ctx, runs.Order{Kind: run.Backup, Policy: policy, Cause: run.Hand, Who: who, Note: note})
	if errors.Is(err, records.ErrRunning) {
		return records.Run{}, fmt.Errorf("%w: a run of policy %s is going already; wait for its end: keenlodge run watch", fault.ErrConflict, policy)
	}
	return r, err
}

// backups carries runs of policies out.
type backups struct{ l *Lodge }

// Wait implements [runs.Waiter].
func (b backups) Wait(ctx context.Context, r records.Run) (runs.Wait, error) {
	return b.l.Planning.WaitForWindow(ctx, r)
}

// Longest implements [runs.Bounded].
func (b backups) Longest(ctx context.Context, r records.Run) (time.Duration, error) {
	s, err := b.l.rec.Site(ctx)
	return s.Policies[r.Policy].LongestRun(), err
}

// Next implements [runs.Chained].
func (b backups) Next(ctx context.Context, r records.Run, ended run.State) ([]records.Run, error) {
	return b.l.Planning.Followers(ctx, r, ended)
}

// Settle implements [runs.Handler].
func (b backups) Settle(ctx context.Context, r *runs.Run, t *records.Task) error {
	return b.l.captures.Settle(ctx, r, t)
}

// Cleanup implements [runs.Handler].
func (b backups) Cleanup(ctx context.Context, t records.Task) error { return b.l.cleanUp(ctx, t) }

// cleanUp removes what a task's capture left on its source.
func (l *Lodge) cleanUp(ctx context.Context, t records.Task) error {
	if busy, err := l.rec.Capturing(ctx, t.MachineID); err != nil {
		return err
	} else if busy {
		return runs.ErrLater // a freeze would not hold that is ended here; and whoever captures it has cleared what was in the way
	}
	found, err := l.captures.Clear(ctx, t)
	for _, f := range found {
		l.Runs.Log(ctx, t.Run, t.Machine, run.Note, "cleared: "+f)
	}
	return err
}

// backup is a run of a policy under way.
type backup struct {
	*runs.Run
	l      *Lodge
	site   site.Site
	policy site.Policy
	store  store.Store
	order  capture.Order

	together []together

	mu    sync.Mutex
	begun map[string]bool // by machine: it has a task
	going sync.WaitGroup
	done  []records.Task
}

// Run implements [runs.Handler]: the story of a policy's run.
func (b backups) Run(ctx context.Context, r *runs.Run) error {
	l := b.l
	s, err := l.rec.Site(ctx)
	if err != nil {
		return err
	}
	policy, err := s.Policy(r.Policy)
	if err != nil {
		return err
	}
	asked, err := runs.Request[planning.Request](r.Run)
	if err != nil {
		return err
	}
	k := &backup{Run: r, l: l, site: s, policy: policy, begun: map[string]bool{}}
	k.order = capture.Order{Site: s, Policy: policy, Run: r, Capture: asked.Capture, Disks: asked.Disks}
	err = k.hook(ctx, hooks.Event{Moment: site.Begun})
	if err == nil {
		err = k.images(ctx)
	}
	if cause := context.Cause(ctx); cause != nil && err != nil {
		err = cause
	}
	return errors.Join(err, k.hookEnd(context.WithoutCancel(ctx), err))
}

// images makes an image of each machine that the policy covers, or keeps a snapshot in place of it, proves it where the policy says so, and rotates the
// sets that gained one.
func (k *backup) images(ctx context.Context) error {
	inPlace := k.policy.Covers() == image.InPlace
	if !inPlace {
		if err := k.reach(ctx); err != nil {
			return err
		}
	}
	if err := k.meet(ctx); err != nil {
		return err
	}
	done, missing, err := k.captureAll(ctx)
	if err != nil {
		return err
	}
	k.tellMoments(ctx)
	if inPlace {
		return errors.Join(append(missing, k.l.Snapshots.Rotate(ctx, k.site, k.Run, k.policy))...)
	}
	// A task that failed for want of room has given back what it stored; now that none is at work it can go.
	if err := k.l.Stores.Collect(context.WithoutCancel(ctx), k.policy.Store, k.site.Stores[k.policy.Store].Spot(k.policy.Store)); err != nil {
		k.Caution(ctx, "", "what is not needed in store %s could not be deleted yet: %v", k.policy.Store, err)
	}
	if len(missing) == 0 && len(done) == 0 {
		return fmt.Errorf("policy %s selects no machine that exists; look at: keenlodge machine list", k.Policy)
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	trusted, err := k.proveAll(ctx, done)
	if err == nil {
		if err = k.l.Retention.Rotate(ctx, k.site, k.Run, k.policy, k.store, trusted); err != nil {
			err = fmt.Errorf("rotate: %w", err)
		}
	}
	if err == nil {
		k.l.captures.Tidy(ctx, k.site, slices.DeleteFunc(done, func(t records.Task) bool { return t.State == run.Skipped }))
	}
	return errors.Join(append(missing, err)...)
}

// reach opens the store, again where that may help.
func (k *backup) reach(ctx context.Context) error {
	retries := runs.Retries{Again: k.policy.Retries, Wait: k.policy.Wait}
	return k.Retry(ctx, retries, "", func() error { return nil }, func(int) (err error) {
		k.store, err = k.l.Stores.Open(ctx, k.site, k.policy.Store)
		return err
	})
}

// take makes an image of a machine, or a snapshot in place.
func (k *backup) take(ctx context.Context, t *runs.Task) error {
	defer k.leave(t.Task)
	if k.policy.Covers() != image.InPlace {
		return k.l.captures.Capture(ctx, k.order, k.store, t)
	}
	_, err := k.l.Snapshots.TakeOne(ctx, k.order, t, snapshots.Wish{Note: k.Note})
	return err
}

// captureOne captures one machine, with its hooks around it, and again after what may pass by itself.
func (k *backup) captureOne(ctx context.Context, t *runs.Task) error {
	about := hooks.Event{Moment: site.MachineBegun, Policy: k.Policy, Run: k.ID, Cause: k.Cause, Machine: t.Machine}
	warnings, err := k.l.Hooks.Call(ctx, k.site, about)
	if err == nil {
		retries := runs.Retries{Again: k.policy.Retries, Wait: k.policy.Wait}
		err = k.Retry(ctx, retries, t.Machine, func() error { return k.l.captures.Undo(ctx, t) }, func(try int) error {
			t.Tries, t.Warnings, t.Image = try, nil, ""
			t.Done, t.Total, t.NewBytes, t.Stored, t.Frozen = 0, 0, 0, 0, 0
			err := k.take(ctx, t)
			if moved, looked := k.follow(ctx, t, err); moved || looked != nil {
				if err = errors.Join(k.l.captures.Undo(ctx, t), looked); err == nil {
					err = k.take(ctx, t)
				}
			}
			return err
		})
	}
	if err == nil && k.store != nil {
		if followed := k.l.Copies.Follow(ctx, k.policy.Store); followed != nil {
			t.Caution(ctx, "the rules that copy an image as soon as it is complete could not be started; their next moment does it: %v", followed)
		}
	}
	about.Moment, about.Image, about.State = site.MachineDone, t.Image, run.Done
	if err != nil {
		about.State, about.Error = run.Failed, err.Error()
	}
	if errors.As(err, new(run.Skip)) {
		about.State = run.Skipped
	}
	more, failed := k.l.Hooks.Call(context.WithoutCancel(ctx), k.site, about)
	t.Warnings = append(append(t.Warnings, warnings...), more...)
	if failed != nil {
		// The image exists and stays; what the hook was to see to did not happen.
		return errors.Join(err, failed)
	}
	return err
}

// proveAll proves the new images where the policy says so, and returns the identities of the machines whose sets may be rotated.
func (k *backup) proveAll(ctx context.Context, done []records.Task) (trusted []string, err error) {
	for _, t := range done {
		if t.State == run.Failed || t.State == run.Skipped {
			continue
		}
		if k.policy.Prove == image.ByBoot { // which may have to wait for its hours: the set is rotated when it has passed
			trial, err := k.l.Trials.Start(ctx, run.Chain, "", trials.Request{Images: []string{t.Image}})
			if err != nil {
				k.Warn(ctx, t.Machine, "image %s could not be tried, so nothing is rotated: %v", t.Image, err)
				continue
			}
			k.Log(ctx, t.Machine, "image %s is tried by run %s; its set is rotated once it has passed", t.Image, trial.ID)
			continue
		}
		if k.policy.Prove != "" {
			p, err := k.l.Proofs.Prove(ctx, k.store, k.Run, t.Image, k.policy.Prove, func(int64) {})
			if err != nil {
				return nil, fmt.Errorf("prove image %s of %s: %w", t.Image, t.Machine, err)
			}
			if !p.Passed {
				k.Warn(ctx, t.Machine, "image %s did not pass its proof, so nothing is rotated: %s", t.Image, p.Error)
				continue
			}
		}
		trusted = append(trusted, t.MachineID)
	}
	return trusted, nil
}

// hook calls the policy's hooks at a moment of the run itself.
func (k *backup) hook(ctx context.Context, e hooks.Event) error {
	e.Policy, e.Run, e.Cause = k.Policy, k.ID, k.Cause
	warnings, err := k.l.Hooks.Call(ctx, k.site, e)
	for _, w := range warnings {
		k.Warn(ctx, "", "%s", w)
	}
	return err
}

// hookEnd calls the policy's hooks at the end of the run. why is its error, or nil.
func (k *backup) hookEnd(ctx context.Context, why error) error {
	e := hooks.Event{Moment: site.Done, State: k.Outcome(why)}
	if e.State == run.Failed || e.State == run.Cancelled {
		e.Moment = site.Failed
	}
	if why != nil {
		e.Error = why.Error()
	}
	return k.hook(ctx, e)
}
