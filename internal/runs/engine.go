// Package runs carries runs out: it queues them, begins each in one process, ends it whatever happens, and clears up after processes
// that died. It knows no kind of run: a kind registers a [Handler]. What a run does with machines, stores and images is in the rooms
// above.
package runs

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
)

const (
	// runsAtOnce is how many runs one process has under way at the same time. Their tasks wait for their turn by the limits of the site;
	// a run itself costs little.
	runsAtOnce = 48
)

// StopTime is how long a graceful stop waits for runs to clear up. Tests shorten it, for processes that are to be as good as killed.
var StopTime = 40 * time.Second

// ErrStopping is why work ends when the service stops.
var ErrStopping = errors.New("the service was stopped")

// ErrLater is what a handler's Cleanup returns that has to wait for something else to end.
var ErrLater = errors.New("later")

// Handler carries out the runs of one kind. It may implement [Waiter], [Bounded] and [Chained], too.
type Handler interface {
	// Run carries a run out. How it ended follows from its tasks and warnings; an error fails it, a [run.Skip] skips it.
	Run(ctx context.Context, r *Run) error
	// Settle decides what became of a task whose process died in the middle of it. The engine has set it to failed; Settle may know
	// better. While it returns an error, it is tried again.
	Settle(ctx context.Context, r *Run, t *records.Task) error
	// Cleanup removes what a task that needs it left outside of the lodge. While it returns an error, it is tried again.
	Cleanup(ctx context.Context, t records.Task) error
}

// Waiter is a handler whose runs may have to wait before they begin.
type Waiter interface {
	// Wait says whether a queued run has to wait, or is not to be carried out at all.
	Wait(ctx context.Context, r records.Run) (Wait, error)
}

// Wait is what keeps a queued run from beginning. The zero Wait is nothing.
type Wait struct {
	// Until is when to ask again; the zero time is at once.
	Until time.Time
	// Why says what it waits for.
	Why string
	// Skip, if not empty, says why it is not carried out.
	Skip string
}

// Bounded is a handler whose runs may not take for ever.
type Bounded interface {
	// Longest is how long a run may take; 0 is for ever.
	Longest(ctx context.Context, r records.Run) (time.Duration, error)
}

// Limited is a handler of whose runs only so many are under way in a process at once: what they take of memory, mounts and lines is bounded by
// that, and no kind keeps all workers from the others.
type Limited interface {
	AtOnce() int
}

// Plain is a handler whose runs are no more than their tasks: one of a dead process is done where all of these are.
type Plain interface{ Plain() }

// Chained is a handler whose runs' ends start others.
type Chained interface {
	Next(ctx context.Context, r records.Run, ended run.State) ([]records.Run, error)
}

// Base leaves nothing behind: handlers embed it that need no Settle and no Cleanup.
type Base struct{}

// Settle implements [Handler].
func (Base) Settle(context.Context, *Run, *records.Task) error { return nil }

// Cleanup implements [Handler].
func (Base) Cleanup(context.Context, records.Task) error { return nil }

// Engine is a process's part in carrying runs out.
type Engine struct {
	rec      *records.Records
	log      *slog.Logger
	owner    int64
	handlers map[run.Kind]Handler
	workers  *river.Workers
	queues   map[string]river.QueueConfig
	line     line
	journal  journal
	// alive lives for some time after the service was stopped, so that what ended can be recorded.
	alive context.Context

	mu sync.Mutex
	// cancels end the runs under way in this process, by ID.
	cancels map[string]context.CancelCauseFunc
	// going counts the runs under way of limited kinds.
	going map[run.Kind]int
}

// New readies a process's part; Serve starts it.
func New(rec *records.Records, log *slog.Logger) (*Engine, error) {
	n, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		return nil, err
	}
	e := &Engine{rec: rec, log: log, owner: n.Int64() + 1, handlers: map[run.Kind]Handler{}, workers: river.NewWorkers(),
		queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: runsAtOnce}}, cancels: map[string]context.CancelCauseFunc{}, going: map[run.Kind]int{}, alive: context.Background()}
	e.line.joined, e.line.freed = make(chan struct{}, 1), make(chan struct{}, 1)
	river.AddWorker(e.workers, &worker{e: e})
	return e, nil
}

// Process is the number of this process in the records, by which others tell whether it lives.
func (e *Engine) Process() int64 { return e.owner }

// Register makes a handler the one of its kind.
func (e *Engine) Register(kind run.Kind, h Handler) { e.handlers[kind] = h }

// AddJobs has the queue carry out other jobs than runs, so many at once. Call it before Serve.
func AddJobs[T river.JobArgs](e *Engine, queue string, atOnce int, w river.Worker[T]) {
	river.AddWorker(e.workers, w)
	e.queues[queue] = river.QueueConfig{MaxWorkers: atOnce}
}

// Serve clears up after processes that died, then carries runs out until ctx ends, with loops beside it. ready is called when work may
// be queued. When ctx ends, runs are ended cleanly: each handler thaws, closes and removes what it began.
func (e *Engine) Serve(ctx context.Context, ready func(), loops ...func(context.Context) error) error {
	owner, err := e.rec.Own(ctx, e.owner)
	if err != nil {
		return err
	}
	k := &keeper{e: e, owner: owner}
	defer func() { k.owner.Release() }()
	// After the database was away others may still be on their way back to it; otherwise who has no lock is dead.
	if e.rec.Waited() {
		k.patient = time.Now().Add(comeBack)
	} else {
		first, end := context.WithTimeoutCause(ctx, firstLook, fmt.Errorf("it took longer than %s", firstLook))
		err := k.recover(first)
		end()
		if err != nil {
			e.log.Error("could not clear all that a dead process left; trying again", "error", err)
		}
	}
	work, stopWork := context.WithCancelCause(context.WithoutCancel(ctx))
	defer stopWork(nil)
	alive, die := context.WithCancel(context.WithoutCancel(ctx))
	defer die()
	e.alive = alive
	var queue *river.Client[pgx.Tx]
	err = records.Surely(ctx, func(context.Context) (err error) {
		if queue, err = e.client(); err == nil {
			err = queue.Start(work)
		}
		return err
	})
	if err != nil {
		return err
	}
	ready()
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return k.live(ctx) })
	group.Go(func() error { return k.keep(ctx) })
	group.Go(func() error { return e.serveLine(ctx) })
	for _, loop := range loops {
		group.Go(func() error { return loop(ctx) })
	}
	<-ctx.Done()
	stopWork(ErrStopping)
	stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), StopTime)
	defer cancel()
	stopped := queue.Stop(stopping)
	e.catchUp(stopping)
	err = group.Wait()
	if errors.Is(err, context.Canceled) {
		err = nil
	}
	return errors.Join(err, stopped)
}

// client makes the part of the queue that carries work out.
func (e *Engine) client() (*river.Client[pgx.Tx], error) {
	return river.NewClient(riverpgxv5.New(e.rec.Pool()), &river.Config{
		Queues: e.queues,
		// A run takes as long as it takes; whether its process lives is the keeper's to find out, not the queue's.
		JobTimeout: -1, RescueStuckJobsAfter: 30 * 24 * time.Hour, FetchPollInterval: time.Second,
		Workers: e.workers, Logger: e.log.With("part", "queue"),
	})
}

// LogIfKept is Log for a run whose records may be gone.
func (e *Engine) LogIfKept(ctx context.Context, id, machine string, kind run.Line, text string) {
	if _, err := e.rec.Run(ctx, id); err == nil {
		e.Log(ctx, id, machine, kind, text)
	}
}

// NewID draws a run's ID: eight letters and digits.
func NewID() string { return strings.ToLower(rand.Text()[:8]) }

// worker carries runs out for the queue.
type worker struct {
	river.WorkerDefaults[records.Work]
	e *Engine
}

// unknownWait is how long a run of a kind that this program does not know waits for a process that does.
const unknownWait = time.Minute

// Work implements river.Worker. How the run ended is in its record; the queue only learns of trouble with the records, and of runs that
// have to wait.
func (w *worker) Work(ctx context.Context, job *river.Job[records.Work]) error {
	e := w.e
	queued, err := e.rec.Run(ctx, job.Args.Run)
	if isGone(err) {
		return nil
	}
	if err != nil {
		return err
	}
	h, ok := e.handlers[queued.Kind]
	if !ok {
		e.log.Warn("a run of a kind that this program does not know waits for one that does", "run", queued.ID, "kind", queued.Kind)
		return river.JobSnooze(unknownWait)
	}
	wait, over, err := e.hold(ctx, h, queued)
	if err != nil || over {
		return err
	}
	if wait > 0 {
		return river.JobSnooze(wait)
	}
	place, ok := e.takePlace(h, queued.Kind)
	if !ok {
		return errors.Join(e.rec.HoldRun(ctx, queued.ID, fmt.Sprintf("others of its kind are under way, of which only %d are at once", h.(Limited).AtOnce()), time.Now().Add(crowdedWait)), river.JobSnooze(crowdedWait))
	}
	defer place()
	var longest time.Duration
	if b, ok := h.(Bounded); ok {
		if longest, err = b.Longest(ctx, queued); err != nil {
			return err
		}
	}
	begun, err := e.rec.BeginRun(ctx, queued.ID, e.owner)
	if isGone(err) {
		return nil // begun elsewhere, or cancelled
	}
	if err != nil {
		return err
	}
	return e.carryOut(ctx, h, begun, longest)
}

// crowdedWait is how long a run waits for a place before it asks again.
const crowdedWait = 2 * time.Second

// takePlace takes a place among the runs of a limited kind; give it back.
func (e *Engine) takePlace(h Handler, kind run.Kind) (giveBack func(), ok bool) {
	limited, is := h.(Limited)
	if !is {
		return func() {}, true
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.going[kind] >= limited.AtOnce() {
		return nil, false
	}
	e.going[kind]++
	return func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		e.going[kind]--
	}, true
}

// hold has a queued run wait where its handler says so; over reports that it was ended instead.
func (e *Engine) hold(ctx context.Context, h Handler, queued records.Run) (wait time.Duration, over bool, err error) {
	waiter, ok := h.(Waiter)
	if !ok || queued.State != run.Queued {
		return 0, false, nil
	}
	w, err := waiter.Wait(ctx, queued)
	switch {
	case err != nil:
		return 0, false, err
	case w.Skip != "":
		return 0, true, e.rec.EndRun(ctx, queued.ID, run.Skipped, w.Skip)
	case w.Until.IsZero():
		return 0, false, nil
	}
	return time.Until(w.Until), false, e.rec.HoldRun(ctx, queued.ID, w.Why, w.Until)
}

// carryOut carries a begun run out and records its end.
func (e *Engine) carryOut(ctx context.Context, h Handler, begun records.Run, longest time.Duration) error {
	under, end := e.underWay(ctx, begun, longest)
	defer end()
	r := &Run{Run: begun, e: e}
	err := r.handle(under, h)
	if cause := context.Cause(under); cause != nil && (err != nil || r.Outcome(nil) == run.Failed) {
		err = cause // what it led to is in the log and in the tasks
	}
	state, text := r.Outcome(err), ""
	last, ended := e.lasting(ctx)
	defer ended()
	if err != nil {
		text = err.Error()
		kind := run.Failure
		if state == run.Skipped || state == run.Cancelled {
			kind = run.Note
		}
		e.Log(last, begun.ID, "", kind, text)
	}
	return e.end(last, begun, state, text)
}

// end records how a run ended, and starts what comes after it, and more.
func (e *Engine) end(ctx context.Context, r records.Run, state run.State, text string, more ...records.Run) error {
	return records.Surely(ctx, func(ctx context.Context) error {
		next := more
		if c, ok := e.handlers[r.Kind].(Chained); ok {
			chained, err := c.Next(ctx, r, state)
			if records.Away(err) {
				return err
			}
			if err != nil {
				e.log.Error("what comes after a run could not be started", "run", r.ID, "error", err)
			}
			next = append(slices.Clone(more), chained...)
		}
		e.catchUp(ctx) // whoever hears of the end finds the whole log
		return e.rec.EndRun(ctx, r.ID, state, text, next...)
	})
}

// lasting is a context for what is to be recorded though ctx has ended: it lives until the process is about to end.
func (e *Engine) lasting(ctx context.Context) (last context.Context, end func()) {
	last, cancel := context.WithCancel(context.WithoutCancel(ctx))
	forget := context.AfterFunc(e.alive, cancel)
	return last, func() { forget(); cancel() }
}

// Run is a run under way.
type Run struct {
	records.Run
	e *Engine

	mu     sync.Mutex
	warned bool
	tasks  []run.State // of those that were performed
}

// handle calls the handler; a panic in it fails the run and not the process.
func (r *Run) handle(ctx context.Context, h Handler) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a fault in keenlodge itself: %v", p)
			r.e.log.Error("panic", "run", r.ID, "panic", p)
		}
	}()
	return h.Run(ctx, r)
}

// Outcome is the state in which the run ends as things stand, by its tasks, its warnings, and the handler's error, which may be nil.
func (r *Run) Outcome(err error) run.State {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case errors.Is(err, errCancelled):
		return run.Cancelled
	case errors.As(err, new(run.Skip)):
		return run.Skipped
	case err != nil:
		return run.Failed
	}
	state := run.Worst(r.tasks...)
	if r.warned && state != run.Failed {
		return run.Warned
	}
	return state
}

// Log adds a line to the run's log. machine may be empty.
func (r *Run) Log(ctx context.Context, machine, format string, args ...any) {
	r.e.Log(ctx, r.ID, machine, run.Note, fmt.Sprintf(format, args...))
}

// Evidence adds what a proof, or a restored machine, showed.
func (r *Run) Evidence(ctx context.Context, machine, format string, args ...any) {
	r.e.Log(ctx, r.ID, machine, run.Evidence, fmt.Sprintf(format, args...))
}

// Warn adds a warning: the run ends as warned, or worse.
func (r *Run) Warn(ctx context.Context, machine, format string, args ...any) {
	r.Doubt()
	r.e.Log(ctx, r.ID, machine, run.Warning, fmt.Sprintf(format, args...))
}

// Doubt has the run end as warned, or worse, for what was logged otherwise.
func (r *Run) Doubt() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.warned = true
}

// Caution adds a warning that does not change how the run ends.
func (r *Run) Caution(ctx context.Context, machine, format string, args ...any) {
	r.e.Log(ctx, r.ID, machine, run.Warning, fmt.Sprintf(format, args...))
}

// PerformOne performs the only task of a run. The error is for a task that could not be recorded; how the task ended is the run's state.
func (r *Run) PerformOne(ctx context.Context, t records.Task, work func(ctx context.Context, t *Task) error) error {
	t.Run = r.ID
	t, err := r.e.rec.AddTask(ctx, t)
	if err == nil {
		r.Perform(ctx, t, work)
	}
	return err
}

// AddTasks records queued tasks of the run.
func (r *Run) AddTasks(ctx context.Context, tasks []records.Task) ([]records.Task, error) {
	for i := range tasks {
		tasks[i].Run = r.ID
	}
	return r.e.rec.AddTasks(ctx, tasks)
}

// SetResult keeps what the run found.
func (r *Run) SetResult(ctx context.Context, result any) error {
	return r.e.rec.SetResult(ctx, r.ID, result)
}
