package lodge

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"keenlodge/internal/core/run"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/mount"
	"keenlodge/internal/records"
)

const (
	// runsAtOnce is how many runs one process has under way at the same time. Their tasks wait for their turn by the limits of the site;
	// a run itself costs little.
	runsAtOnce = 48
	// deliveriesAtOnce is how many webhooks are told at the same time.
	deliveriesAtOnce = 4
	// lookEvery is how often the keeper looks for what dead processes left, and whether it still holds its own lock.
	lookEvery = 5 * time.Second
	// stopTime is how long a graceful stop waits for runs to clear up.
	stopTime = 40 * time.Second
)

// errStopping is why work ends when the service stops.
var errStopping = errors.New("the service was stopped")

// Serve clears what dead processes left, then runs the loops until ctx ends. A graceful stop ends runs cleanly: guests are
// thawed, jobs closed. ready is called when work may be queued.
func (l *Lodge) Serve(ctx context.Context, ready func()) error {
	owner, err := l.rec.Own(ctx, l.owner)
	if err != nil {
		return err
	}
	defer owner.Release()
	if found, err := mount.Clean(l.mounts()); err != nil {
		l.log.Warn("mounts of a dead process could not all be removed", "error", err)
	} else if len(found) > 0 {
		l.log.Info("removed what a dead process had mounted", "found", found)
	}
	if err := l.recover(ctx); err != nil {
		l.log.Error("could not clear all that a dead process left; trying again", "error", err)
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{l: l})
	river.AddWorker(workers, &courier{l: l})
	queue, err := river.NewClient(riverpgxv5.New(l.rec.Pool()), &river.Config{
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: runsAtOnce}, deliveryQueue: {MaxWorkers: deliveriesAtOnce}},
		// A run takes as long as it takes; whether its process lives is the keeper's to find out, not the queue's.
		JobTimeout: -1, RescueStuckJobsAfter: 30 * 24 * time.Hour, FetchPollInterval: time.Second,
		Workers: workers, Logger: l.log.With("part", "queue"),
	})
	if err != nil {
		return err
	}
	work, stopWork := context.WithCancelCause(context.WithoutCancel(ctx))
	defer stopWork(nil)
	if err := queue.Start(work); err != nil {
		return err
	}
	ready()
	if id, err := bootID(); err != nil {
		l.log.Error("it can't be told whether the host has booted, so policies that run at boot do not", "error", err)
	} else if err := l.Boot(ctx, id); err != nil {
		l.log.Error("policies that run at boot could not be started", "error", err)
	}
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return l.schedule(ctx) })
	group.Go(func() error { return l.keep(ctx, owner) })
	group.Go(func() error { return l.tell(ctx) })
	group.Go(func() error { return l.upkeep(ctx) })
	<-ctx.Done()
	stopWork(errStopping)
	stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTime)
	defer cancel()
	stopped := queue.Stop(stopping)
	err = group.Wait()
	if errors.Is(err, context.Canceled) {
		err = nil
	}
	return errors.Join(err, stopped)
}

// worker carries runs out for the queue.
type worker struct {
	river.WorkerDefaults[records.Work]
	l *Lodge
}

// Work implements river.Worker. How the run ended is in its record; the queue only learns of trouble with the records, and of runs that
// wait for their window.
func (w *worker) Work(ctx context.Context, job *river.Job[records.Work]) error {
	queued, err := w.l.rec.Run(ctx, job.Args.Run)
	if errors.Is(err, records.ErrNotFound) {
		return nil // its record was removed
	}
	if err != nil {
		return err
	}
	wait, over, err := w.l.hold(ctx, queued)
	if err != nil || over {
		return err
	}
	if wait > 0 {
		return river.JobSnooze(wait)
	}
	longest, err := w.l.longest(ctx, queued)
	if err != nil {
		return err
	}
	run, err := w.l.rec.BeginRun(ctx, job.Args.Run, w.l.owner)
	if errors.Is(err, records.ErrNotFound) {
		return nil // begun elsewhere, or cancelled
	}
	if err != nil {
		return err
	}
	under, end := w.l.underWay(ctx, run, longest)
	defer end()
	state, err := w.l.carryOut(under, run)
	text := ""
	if cause := context.Cause(under); cause != nil && err != nil {
		err = cause // what it led to is in the log and in the tasks
	}
	if errors.Is(err, errCancelled) {
		state = "cancelled"
	}
	last := context.WithoutCancel(ctx)
	if err != nil {
		text = err.Error()
		w.l.say(last, run.ID, "", string(state)+": "+text)
	}
	return w.l.endRun(last, run, state, text)
}

// longest is how long a run may take, 0 for ever.
func (l *Lodge) longest(ctx context.Context, run records.Run) (time.Duration, error) {
	if run.Kind != "backup" {
		return 0, nil
	}
	s, err := l.rec.Site(ctx)
	return s.Policies[run.Policy].LongestRun(), err
}

func (l *Lodge) carryOut(ctx context.Context, run records.Run) (state run.State, err error) {
	defer func() {
		if p := recover(); p != nil {
			state, err = "failed", fmt.Errorf("a fault in keenlodge itself: %v", p)
			l.log.Error("panic", "run", run.ID, "panic", p)
		}
	}()
	switch run.Kind {
	case "backup":
		return l.backup(ctx, run)
	case "rehearsal":
		return l.rehearse(ctx, run)
	case "proof":
		return l.prove(ctx, run)
	case "restore":
		return l.restore(ctx, run)
	case "check":
		return l.check(ctx, run)
	case "sweep":
		return l.sweep(ctx, run)
	case "fold":
		return l.fold(ctx, run)
	}
	return "failed", fmt.Errorf("a run of kind %q is not known to this program", run.Kind)
}

// keep holds the process's sign of life and clears up after processes that died.
func (l *Lodge) keep(ctx context.Context, owner *records.Owner) error {
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
		if err := l.heedCancels(ctx); err != nil && ctx.Err() == nil {
			l.log.Error("could not look for runs that are to be cancelled", "error", err)
		}
		if err := l.recover(ctx); err != nil && ctx.Err() == nil {
			l.log.Error("could not clear what a dead process left; trying again", "error", err)
		}
	}
}

// recover ends the runs of dead processes, and clears hypervisors of what captures left.
func (l *Lodge) recover(ctx context.Context) error {
	orphans, err := l.rec.Orphans(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, run := range orphans {
		errs = append(errs, l.endOrphan(ctx, run))
	}
	unclean, err := l.rec.Unclean(ctx)
	if err != nil {
		return errors.Join(append(errs, err)...)
	}
	for _, t := range unclean {
		errs = append(errs, l.clear(ctx, t))
	}
	return errors.Join(append(errs, l.rec.Requeue(ctx))...)
}

// endOrphan ends the run of a dead process. While a store that it wrote to can't be reached, it is tried again.
func (l *Lodge) endOrphan(ctx context.Context, run records.Run) error {
	const why = "the service ended in the middle of it; blocks that had arrived are reused by the next run"
	for _, t := range run.Tasks {
		if t.State != "queued" && t.State != "running" {
			continue
		}
		now := time.Now()
		t.State, t.Error, t.Step, t.Ended = "failed", why, "", &now
		if run.Kind == "backup" && t.Image != "" {
			whole, err := l.settle(ctx, t.Image)
			if err != nil {
				return err
			}
			if whole {
				t.State, t.Error = "done", ""
				l.say(ctx, run.ID, t.Machine, "image "+t.Image+" was complete when the service ended")
			}
		}
		if err := l.rec.SaveTask(ctx, t); err != nil {
			return err
		}
	}
	l.say(ctx, run.ID, "", why)
	if run.Cancel != "" {
		return l.endRun(ctx, run, "cancelled", run.Cancel)
	}
	return l.endRun(ctx, run, "failed", why)
}

// settle decides what an image is that a dead process was writing: usable if its manifest had come to be, else nothing.
func (l *Lodge) settle(ctx context.Context, id string) (whole bool, err error) {
	rec, err := l.rec.Image(ctx, id)
	if errors.Is(err, records.ErrNotFound) || err == nil && rec.State != "writing" {
		return rec.State == "usable", nil
	}
	if err != nil {
		return false, err
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return false, err
	}
	if _, ok := s.Stores[rec.Store]; !ok {
		return false, l.rec.ForgetImage(ctx, id)
	}
	st, err := l.store(ctx, s, rec.Store)
	if err != nil {
		return false, err
	}
	m, err := st.Settle(ctx, id)
	if err != nil {
		return false, err
	}
	if m != nil {
		return true, l.rec.FinishImage(ctx, finished(rec, m))
	}
	return false, l.rec.ForgetImage(ctx, id)
}

// clear removes what a task's capture left on its hypervisor. While that does not answer, it is tried again.
func (l *Lodge) clear(ctx context.Context, t records.Task) error {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return err
	}
	if _, ok := s.Hypervisors[t.Hypervisor]; ok {
		h, err := l.hypervisor(ctx, s, t.Hypervisor)
		if err != nil {
			return err
		}
		defer h.Close()
		mark := t.Image
		found, err := h.Clear(ctx, t.Machine, mark, t.Woken)
		for _, f := range found {
			l.say(ctx, t.Run, t.Machine, "cleared: "+f)
		}
		if err != nil {
			return err
		}
	}
	t.Touched = false
	return l.rec.SaveTask(ctx, t)
}

// tell passes the database's notifications on to this process's listeners.
func (l *Lodge) tell(ctx context.Context) error {
	for {
		err := l.rec.Listen(ctx, func(what string) {
			kind, id, _ := strings.Cut(what, " ")
			if kind != "run" && kind != "cancel" {
				l.hub.send(Event{Kind: kind})
				return
			}
			run, err := l.rec.Run(ctx, id)
			switch {
			case err != nil: // its record was removed, or the stream breaks next
			case kind == "cancel":
				l.heedCancel(run)
			default:
				l.hub.send(Event{Kind: kind, Run: &run})
			}
		})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		l.log.Warn("the stream of changes broke; beginning again", "error", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// FirstToken makes the first token of a new lodge and writes it into a file that only this account can read. It returns
// the file's path if it made one.
func (l *Lodge) FirstToken(ctx context.Context) (string, error) {
	file := filepath.Join(l.state, "first-token")
	token := strings.ToLower(rand.Text() + rand.Text())
	made, err := l.rec.AddFirstToken(ctx, "first", token)
	if err != nil || !made {
		return "", err
	}
	if err := os.WriteFile(file, []byte(token+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("write the first token to %s: %w", file, err)
	}
	return file, nil
}
