package runs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source"
	"keenlodge/internal/store/medium"
)

func TestMain(m *testing.M) {
	lookAgain, firstLook = time.Second, 2*time.Second
	recordstest.Main(m)
}

// handler is a kind of run whose parts a test gives; those that are missing do nothing.
type handler struct {
	run     func(ctx context.Context, r *Run) error
	wait    func(r records.Run) Wait
	longest time.Duration
	settle  func(t *records.Task) error
	cleanup func(t records.Task) error
	next    func(state run.State) []records.Run
}

func (h handler) Run(ctx context.Context, r *Run) error { return h.run(ctx, r) }
func (h handler) Settle(_ context.Context, _ *Run, t *records.Task) error {
	if h.settle == nil {
		return nil
	}
	return h.settle(t)
}
func (h handler) Cleanup(_ context.Context, t records.Task) error {
	if h.cleanup == nil {
		return nil
	}
	return h.cleanup(t)
}
func (h handler) Wait(_ context.Context, r records.Run) (Wait, error) {
	if h.wait == nil {
		return Wait{}, nil
	}
	return h.wait(r), nil
}
func (h handler) Longest(context.Context, records.Run) (time.Duration, error) { return h.longest, nil }
func (h handler) Next(_ context.Context, _ records.Run, state run.State) ([]records.Run, error) {
	if h.next == nil {
		return nil, nil
	}
	return h.next(state), nil
}

type bench struct {
	*testing.T
	e   *Engine
	rec *records.Records
}

// engine makes one that is not served yet. Of what is worse than information it logs what is expected, and no more.
func engine(t *testing.T, warnings ...string) *bench {
	rec := recordstest.Open(t)
	e, err := New(rec, recordstest.Quiet(t, warnings...))
	require.NoError(t, err)
	return &bench{t, e, rec}
}

// serve serves until stop is called, or the test ends.
func (b *bench) serve() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	ready, done := make(chan struct{}), make(chan error, 1)
	go func() { done <- b.e.Serve(ctx, func() { close(ready) }) }()
	<-ready
	stop = sync.OnceFunc(func() { cancel(); require.NoError(b, <-done) })
	b.Cleanup(stop)
	return stop
}

func (b *bench) queue(kind run.Kind) string {
	b.Helper()
	r, err := b.e.Queue(b.Context(), Order{Kind: kind, Cause: run.Hand, Who: "operator"})
	require.NoError(b, err)
	return r.ID
}

func (b *bench) until(so func() bool) {
	b.Helper()
	require.Eventually(b, so, 20*time.Second, 30*time.Millisecond)
}

func (b *bench) await(id string) (r records.Run) {
	b.Helper()
	b.until(func() bool {
		var err error
		r, err = b.rec.Run(b.Context(), id)
		require.NoError(b, err)
		return r.Over()
	})
	return r
}

func (b *bench) lines(id string) string { return recordstest.RunLog(b, b.rec, id) }

// How a run ends follows from its tasks, its warnings and its handler's error.
func TestOutcomes(t *testing.T) {
	t.Parallel()
	b := engine(t, "panic=no such deck")
	tasks := func(outcomes ...error) func(context.Context, *Run) error {
		return func(ctx context.Context, r *Run) error {
			for _, err := range outcomes {
				work := func(ctx context.Context, t *Task) error {
					if err != nil && err.Error() == "warn" {
						t.Warn("its clock is %d minutes late", 5)
						return nil
					}
					return err
				}
				if err := r.PerformOne(ctx, records.Task{Machine: "timetable"}, work); err != nil {
					return err
				}
			}
			return nil
		}
	}
	bad, skip, warn := errors.New("its disk is on fire"), run.Skip{Why: "it is not the active one"}, errors.New("warn")
	var do atomic.Pointer[handler]
	b.e.Register(run.Check, handler{run: func(ctx context.Context, r *Run) error { return do.Load().run(ctx, r) }})
	b.serve()
	for name, c := range map[string]struct {
		run   func(context.Context, *Run) error
		state run.State
		says  string
	}{
		"none":     {tasks(), run.Done, ""},
		"done":     {tasks(nil, skip), run.Done, "note timetable: skipped: it is not the active one"},
		"warned":   {tasks(nil, warn), run.Warned, "warning timetable: its clock is 5 minutes late"},
		"failed":   {tasks(warn, bad, nil), run.Failed, "failure timetable: its disk is on fire"},
		"skipped":  {tasks(skip), run.Skipped, ""},
		"error":    {func(context.Context, *Run) error { return bad }, run.Failed, "failure : its disk is on fire"},
		"skip":     {func(context.Context, *Run) error { return fmt.Errorf("now: %w", skip) }, run.Skipped, "note : now: it is not the active one"},
		"panic":    {func(context.Context, *Run) error { panic("no such deck") }, run.Failed, "failure : a fault in keenlodge itself: no such deck"},
		"a word":   {func(ctx context.Context, r *Run) error { r.Warn(ctx, "", "rope %d is frayed", 3); return nil }, run.Warned, "warning : rope 3 is frayed"},
		"doubt":    {func(_ context.Context, r *Run) error { r.Doubt(); return nil }, run.Warned, ""},
		"caution":  {func(ctx context.Context, r *Run) error { r.Caution(ctx, "", "slowly"); return nil }, run.Done, "warning : slowly"},
		"evidence": {func(ctx context.Context, r *Run) error { r.Evidence(ctx, "x", "%d files", 2); return nil }, run.Done, "evidence x: 2 files"},
		"worst":    {func(ctx context.Context, r *Run) error { r.Doubt(); return tasks(bad)(ctx, r) }, run.Failed, ""},
	} {
		do.Store(&handler{run: c.run})
		id := b.queue(run.Check)
		require.Equal(t, c.state, b.await(id).State, name)
		require.Contains(t, b.lines(id), c.says, name)
	}
}

// A task's record says how long each step took and what moved, and is as it should be when nobody listens any more.
func TestTasks(t *testing.T) {
	t.Parallel()
	b := engine(t)
	further := make(chan bool)
	b.e.Register(run.Check, handler{run: func(ctx context.Context, r *Run) error {
		return r.PerformOne(ctx, records.Task{Machine: "timetable", Total: 100}, func(ctx context.Context, t *Task) error {
			for i, step := range []string{"reading", "weighing"} {
				if err := t.Begin(ctx, step); err != nil {
					return err
				}
				if err := t.Moving(ctx, func(rec *records.Task) { rec.Stored = int64(i + 1) }, func() error {
					t.Add(30)
					<-further
					t.Add(5)
					return nil
				}); err != nil {
					return err
				}
			}
			return nil
		})
	}})
	b.serve()
	id := b.queue(run.Check)
	task := func() records.Task {
		r, err := b.e.Find(t.Context(), id)
		require.NoError(t, err)
		if len(r.Tasks) == 0 {
			return records.Task{}
		}
		return r.Tasks[0]
	}
	b.until(func() bool { k := task(); return k.Step == "reading" && k.Done == 30 && k.Stored == 1 })
	require.Equal(t, run.Running, task().State)
	require.NotNil(t, task().Started)
	further <- true
	b.until(func() bool { k := task(); return k.Step == "weighing" && k.Done >= 65 })
	further <- true
	b.await(id)
	k := task()
	require.EqualValues(t, 70, k.Done)
	require.EqualValues(t, 2, k.Stored)
	require.Empty(t, k.Step)
	require.NotNil(t, k.Ended)
	require.Len(t, k.Steps, 2)
	require.Equal(t, "reading", k.Steps[0].Name)
	require.False(t, k.Steps[1].At.Before(k.Steps[0].At.Add(time.Duration(k.Steps[0].Took)).Add(-time.Millisecond)))
	require.Contains(t, b.lines(id), "note timetable: weighing")
	log, err := b.e.ReadLog(t.Context(), id)
	require.NoError(t, err)
	require.Equal(t, strings.Count(b.lines(id), "\n"), len(log))
	tasks, err := b.e.Tasks(t.Context(), id, 0, 10)
	require.NoError(t, err)
	require.Len(t, tasks, 1)
	_, err = b.e.Tasks(t.Context(), "nothing0", 0, 10)
	require.ErrorIs(t, err, fault.ErrNotFound)
	_, err = b.e.ReadLog(t.Context(), "nothing0")
	require.ErrorContains(t, err, `no run is called "nothing0"; look at: keenlodge run list`)
	listed, next, err := b.e.List(t.Context(), records.RunFilter{})
	require.NoError(t, err)
	require.Empty(t, next)
	require.Len(t, listed, 1)
}

// A queued run waits, or is skipped, where its handler says so; its end starts what comes after it.
func TestWaitsAndChains(t *testing.T) {
	t.Parallel()
	b := engine(t)
	var wait atomic.Pointer[Wait]
	wait.Store(&Wait{Until: time.Now().Add(1500 * time.Millisecond), Why: "the window opens"})
	b.e.Register(run.Check, handler{wait: func(records.Run) Wait { return *wait.Load() }, run: func(context.Context, *Run) error { return nil },
		next: func(state run.State) []records.Run {
			return []records.Run{{ID: NewID(), Kind: run.Sweep, Cause: run.Chain, Note: "after " + string(state), State: run.Queued}}
		}})
	b.e.Register(run.Sweep, handler{run: func(context.Context, *Run) error { return nil }})
	b.serve()
	id := b.queue(run.Check)
	b.until(func() bool {
		r, err := b.rec.Run(t.Context(), id)
		require.NoError(t, err)
		return r.Waits == "the window opens"
	})
	wait.Store(&Wait{})
	require.Equal(t, run.Done, b.await(id).State)
	sweeps := func() []records.Run {
		all, err := b.rec.Runs(t.Context(), records.RunFilter{Kind: string(run.Sweep)})
		require.NoError(t, err)
		return all
	}
	b.until(func() bool { all := sweeps(); return len(all) == 1 && all[0].State == run.Done })
	require.Equal(t, "after done", sweeps()[0].Note)
	wait.Store(&Wait{Skip: "never open at once"})
	r := b.await(b.queue(run.Check))
	require.Equal(t, run.Skipped, r.State)
	require.Equal(t, "never open at once", r.Error)
	require.Nil(t, r.Started)
}

// A run that is cancelled, takes too long, or whose service stops, ends at once, and says which.
func TestEnds(t *testing.T) {
	t.Parallel()
	b := engine(t)
	began := make(chan string, 8)
	hang := func(ctx context.Context, r *Run) error {
		return r.PerformOne(ctx, records.Task{Machine: "timetable"}, func(ctx context.Context, t *Task) error {
			began <- r.ID
			<-ctx.Done()
			return fmt.Errorf("read vda: %w", ctx.Err())
		})
	}
	b.e.Register(run.Check, handler{run: hang})
	b.e.Register(run.Sweep, handler{run: hang, longest: 50 * time.Millisecond})
	stop := b.serve()
	id := b.queue(run.Check)
	<-began
	r, err := b.e.Cancel(t.Context(), id, "operator", "the ferry sails")
	require.NoError(t, err)
	b.e.HeedCancel(r)
	r = b.await(id)
	require.Equal(t, run.Cancelled, r.State)
	require.Equal(t, "cancelled by operator: the ferry sails", r.Error)
	require.Equal(t, run.Failed, r.Tasks[0].State)
	require.Contains(t, b.lines(id), "ended in the middle: read vda: context canceled")
	_, err = b.e.Cancel(t.Context(), id, "operator", "")
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, "is over already: it is cancelled")
	_, err = b.e.Cancel(t.Context(), "nothing0", "operator", "")
	require.ErrorIs(t, err, fault.ErrNotFound)

	id = b.queue(run.Check) // word of this one is lost; the keeper looks
	<-began
	_, err = b.e.Cancel(t.Context(), id, "operator", "")
	require.NoError(t, err)
	require.Equal(t, "cancelled by operator", b.await(id).Error)

	r = b.await(b.queue(run.Sweep))
	require.Equal(t, run.Failed, r.State)
	require.Contains(t, r.Error, "it took too long: its policy allows 50ms")
	<-began

	id = b.queue(run.Check)
	<-began
	stop()
	r = b.await(id)
	require.Equal(t, run.Failed, r.State)
	require.Equal(t, "the service was stopped", r.Error)
}

// What a dead process left is settled and cleared, again and again until that goes well; what no handler knows is left alone.
func TestOrphans(t *testing.T) {
	t.Parallel()
	b := engine(t, "could not clear all that a dead process left", "a run of a kind that this program does not know")
	ctx := t.Context()
	now := time.Now()
	for id, kind := range map[string]run.Kind{"orphan01": run.Check, "orphan02": run.Check, "strange0": run.Fold} {
		require.NoError(t, b.rec.QueueRun(ctx, records.Run{ID: id, Kind: kind, Cause: run.Hand}))
		_, err := b.rec.BeginRun(ctx, id, 424242)
		require.NoError(t, err)
		for _, state := range []run.State{run.Running, run.Done} {
			task, err := b.rec.AddTask(ctx, records.Task{Run: id, Machine: "timetable"})
			require.NoError(t, err)
			task.State, task.Started, task.NeedsCleanup = state, &now, state == run.Running
			require.NoError(t, b.rec.SaveTask(ctx, task))
		}
	}
	_, err := b.rec.CancelRun(ctx, "orphan02", "by operator")
	require.NoError(t, err)
	var settled, cleaned atomic.Int32
	b.e.Register(run.Check, handler{
		settle: func(t *records.Task) error {
			if settled.Add(1) == 1 {
				return errors.New("not yet")
			}
			t.Why = "settled"
			return nil
		},
		cleanup: func(t records.Task) error {
			if cleaned.Add(1) == 1 {
				return errors.New("not yet")
			}
			return nil
		}})
	b.serve()
	const why = "the service ended in the middle of it; what had arrived is reused by the next run"
	r := b.await("orphan01")
	require.Equal(t, run.Failed, r.State)
	require.Equal(t, why, r.Error)
	require.Equal(t, run.Failed, r.Tasks[0].State)
	require.Equal(t, "settled", r.Tasks[0].Why)
	require.Equal(t, run.Done, r.Tasks[1].State, "what was over stays as it was")
	r = b.await("orphan02")
	require.Equal(t, run.Cancelled, r.State)
	require.Equal(t, "cancelled by operator", r.Error)
	b.until(func() bool {
		left, err := b.rec.Unclean(ctx)
		require.NoError(t, err)
		return len(left) == 1 && left[0].Run == "strange0"
	})
	require.Equal(t, run.Failed, b.await("strange0").State)
	require.EqualValues(t, 3, settled.Load())
	require.EqualValues(t, 5, cleaned.Load(), "each is looked at twice, for what a call was doing may happen after its caller died; once it could not be")
}

// A run of a kind that this program does not know waits for one that does.
func TestUnknownKinds(t *testing.T) {
	t.Parallel()
	b := engine(t, "a run of a kind that this program does not know")
	// One whose handler can do no more than it must.
	b.e.Register(run.Check, struct{ Handler }{handler{run: func(context.Context, *Run) error { return nil }}})
	b.serve()
	strange, known := b.queue(run.Fold), b.queue(run.Check)
	b.await(known)
	r, err := b.rec.Run(t.Context(), strange)
	require.NoError(t, err)
	require.Equal(t, run.Queued, r.State)
	b.e.LogIfKept(t.Context(), "nothing0", "", run.Note, "to nobody")
	b.e.LogIfKept(t.Context(), known, "", run.Note, "to the known one")
	require.Contains(t, b.lines(known), "to the known one")

	// Nothing has been said of the one that waits; of none that there never was can anything be said.
	for id, want := range map[string]int{known: 1, strange: 0} {
		lines, err := b.e.ReadLog(t.Context(), id)
		require.NoError(t, err)
		require.Len(t, lines, want)
	}
	_, err = b.e.ReadLog(t.Context(), "nothing0")
	require.ErrorIs(t, err, fault.ErrNotFound)
	_, err = b.e.Tasks(t.Context(), "nothing0", 0, 5)
	require.ErrorIs(t, err, fault.ErrNotFound)
}

// Tasks begin in their turn, no more at once than their limits allow.
func TestTurns(t *testing.T) {
	t.Parallel()
	b := engine(t)
	var now, most atomic.Int32
	b.e.Register(run.Rehearsal, handler{run: func(ctx context.Context, r *Run) error {
		tasks := make([]records.Task, 6)
		for i := range tasks {
			tasks[i] = records.Task{Machine: fmt.Sprint("crew-rota-", i), Hypervisor: "quay-1"}
		}
		tasks, err := r.AddTasks(ctx, tasks)
		if err != nil {
			return err
		}
		var group sync.WaitGroup
		for i, start := range Spread(tasks, time.Now(), 60*time.Millisecond) {
			group.Go(func() {
				require.NoError(b, b.e.Turn(ctx, &tasks[i], records.Limits{Lodge: 9, Hypervisor: 2, Store: 9}, start))
				r.Perform(ctx, tasks[i], func(ctx context.Context, t *Task) error {
					most.Store(max(most.Load(), now.Add(1)))
					defer now.Add(-1)
					return sleep(ctx, 30*time.Millisecond)
				})
			})
		}
		group.Wait()
		return r.SetResult(ctx, map[string]int{"done": 6})
	}})
	b.serve()
	r := b.await(b.queue(run.Rehearsal))
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.LessOrEqual(t, most.Load(), int32(2))
	require.JSONEq(t, `{"done": 6}`, string(r.Result))

	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(errCancelled)
	waits := records.Task{Run: r.ID, Machine: "crew-rota-7"}
	require.ErrorIs(t, b.e.Turn(ctx, &waits, records.Limits{}, time.Time{}), errCancelled)
	b.e.line.mu.Lock()
	defer b.e.line.mu.Unlock()
	require.Empty(t, b.e.line.waiting, "who gave up waits no more")
}

// Who waits for a full place keeps nobody from another; room that comes is given at once.
func TestATurnOfAnotherPlace(t *testing.T) {
	t.Parallel()
	b := engine(t)
	limits := records.Limits{Lodge: 9, Hypervisor: 1, Store: 9}
	var order []string
	var mu sync.Mutex
	free, waits := make(chan struct{}), make(chan struct{})
	b.e.Register(run.Rehearsal, handler{run: func(ctx context.Context, r *Run) error {
		tasks, err := r.AddTasks(ctx, []records.Task{{Machine: "web", Hypervisor: "quay-1"}, {Machine: "shop", Hypervisor: "quay-1"}, {Machine: "radio", Hypervisor: "pier-2"}})
		if err != nil {
			return err
		}
		work := func(i int, hold <-chan struct{}) {
			require.NoError(b, b.e.Turn(ctx, &tasks[i], limits, time.Time{}))
			r.Perform(ctx, tasks[i], func(context.Context, *Task) error {
				mu.Lock()
				order = append(order, tasks[i].Machine)
				mu.Unlock()
				<-hold
				return nil
			})
		}
		done := make(chan struct{})
		close(done)
		var group sync.WaitGroup
		group.Go(func() { work(0, free) })
		b.until(func() bool { mu.Lock(); defer mu.Unlock(); return len(order) == 1 })
		group.Go(func() { work(1, done) })
		b.until(func() bool {
			told, err := b.rec.Tasks(ctx, r.ID, tasks[0].ID, 1)
			return err == nil && told[0].Why == "hypervisor quay-1 has its 1 tasks at once"
		})
		close(waits)
		work(2, done)
		close(free)
		group.Wait()
		return nil
	}})
	b.serve()
	id := b.queue(run.Rehearsal)
	<-waits
	require.Equal(t, run.Done, b.await(id).State, b.lines(id))
	require.Equal(t, []string{"web", "radio", "shop"}, order)
}

func TestSpread(t *testing.T) {
	begin := time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC)
	starts := Spread([]records.Task{{Hypervisor: "quay-1"}, {Hypervisor: "quay-2"}, {Hypervisor: "quay-1"}, {Hypervisor: "quay-1"}}, begin, time.Hour)
	require.Equal(t, []time.Time{begin, begin, begin.Add(20 * time.Minute), begin.Add(40 * time.Minute)}, starts)
}

// What may pass by itself is tried again so often, after its undoing; nothing else is.
func TestRetry(t *testing.T) {
	t.Parallel()
	b := engine(t)
	require.NoError(t, b.rec.QueueRun(t.Context(), records.Run{ID: "retry000", Kind: run.Check, Cause: run.Hand}))
	r := &Run{Run: records.Run{ID: "retry000"}, e: b.e}
	cut := fmt.Errorf("the line to quay-1: %w", source.ErrUnreachable)
	for name, c := range map[string]struct {
		errs         []error
		undone       error
		tries, undos int
		err          error
	}{
		"at once":   {[]error{nil}, nil, 1, 0, nil},
		"second":    {[]error{cut, nil}, nil, 2, 1, nil},
		"never":     {[]error{cut, cut, cut, cut}, nil, 3, 2, source.ErrUnreachable},
		"for good":  {[]error{source.ErrNoMachine, nil}, nil, 1, 0, source.ErrNoMachine},
		"not clear": {[]error{cut, nil}, io.ErrShortWrite, 1, 1, io.ErrShortWrite},
	} {
		tries, undos, waited := 0, 0, 0
		err := r.Retry(t.Context(), Retries{2, func(try int) time.Duration { waited += try; return time.Millisecond }}, "timetable", func() error { undos++; return c.undone },
			func(try int) error { tries++; require.Equal(t, tries, try); return c.errs[try-1] })
		require.ErrorIs(t, err, c.err, name)
		require.Equal(t, []int{c.tries, c.undos}, []int{tries, undos}, name)
		require.Equal(t, map[int]int{1: 0, 2: 1, 3: 3}[tries], waited, name)
	}
	require.Contains(t, b.lines("retry000"), "warning timetable: try 1 of 3 failed: the line to quay-1: does not answer; that may pass by itself, so it is tried again after 1ms")
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(errCancelled)
	err := r.Retry(ctx, Retries{2, func(int) time.Duration { return time.Hour }}, "timetable", func() error { t.Fatal("no undoing"); return nil }, func(int) error { return cut })
	require.ErrorIs(t, err, source.ErrUnreachable)
}

func TestIsTransient(t *testing.T) {
	for _, err := range []error{source.ErrUnreachable, source.ErrBusy, medium.ErrUnreachable, context.DeadlineExceeded, os.ErrDeadlineExceeded, io.ErrUnexpectedEOF, net.ErrClosed, syscall.ECONNRESET, syscall.EPIPE,
		&net.OpError{Op: "dial", Err: errors.New("odd")}, &net.DNSError{Err: "no such host"}} {
		require.True(t, IsTransient(fmt.Errorf("put pack: %w", err)), "%v", err)
	}
	for _, err := range []error{nil, io.EOF, medium.ErrRefused, medium.ErrNoRight, medium.ErrFull, medium.ErrNoPlace, source.ErrNoMachine, os.ErrPermission, context.Canceled, errors.Join(source.ErrUnreachable, medium.ErrFull)} {
		require.False(t, IsTransient(err), "%v", err)
	}
}

// What a run was asked for comes back as it was, or with an error that names the run.
func TestRequests(t *testing.T) {
	t.Parallel()
	b := engine(t)
	type request struct{ Store string }
	r, err := b.e.Queue(t.Context(), Order{Kind: run.Fold, Policy: "", Cause: run.Hand, Who: "operator", Note: "for the audit", Request: request{"quay-shelf"}})
	require.NoError(t, err)
	require.Equal(t, []string{"operator", "for the audit"}, []string{r.Who, r.Note})
	require.Len(t, r.ID, 8)
	got, err := Request[request](r)
	require.NoError(t, err)
	require.Equal(t, request{"quay-shelf"}, got)
	r.Request = []byte("{")
	_, err = Request[request](r)
	require.ErrorContains(t, err, "the request of run "+r.ID)
	_, err = b.e.Queue(t.Context(), Order{Kind: run.Fold, Request: make(chan int)})
	require.Error(t, err)
	_, err = b.e.Find(t.Context(), "nothing0")
	require.ErrorIs(t, err, fault.ErrNotFound)
}

// limited is a kind of which only so many are under way at once.
type limited struct {
	handler
	atOnce int
}

func (l limited) AtOnce() int { return l.atOnce }

// Of a limited kind so many are under way at once, and the rest waits and says why; other kinds are not kept from anything.
func TestLimitedKinds(t *testing.T) {
	t.Parallel()
	b := engine(t)
	var going, most atomic.Int32
	goOn := make(chan bool)
	b.e.Register(run.Proof, limited{handler{run: func(context.Context, *Run) error {
		if n := going.Add(1); n > most.Load() {
			most.Store(n)
		}
		<-goOn
		going.Add(-1)
		return nil
	}}, 2})
	b.e.Register(run.Check, handler{run: func(context.Context, *Run) error { return nil }})
	b.serve()
	var ids []string
	for range 60 {
		ids = append(ids, b.queue(run.Proof))
	}
	b.until(func() bool { return going.Load() == 2 })
	require.Equal(t, run.Done, b.await(b.queue(run.Check)).State, "it does not wait behind them")
	b.until(func() bool {
		r, err := b.rec.Run(t.Context(), ids[59])
		require.NoError(t, err)
		return strings.Contains(r.Waits, "others of its kind are under way, of which only 2 are at once")
	})
	for _, id := range ids[2:] {
		_, err := b.rec.CancelRun(t.Context(), id, "by operator")
		if err != nil {
			require.ErrorIs(t, err, records.ErrOver)
		}
	}
	close(goOn)
	for _, id := range ids {
		b.await(id)
	}
	require.EqualValues(t, 2, most.Load())
}

// hanging is a kind whose first clearing up waits for something that does not answer.
type hanging struct {
	handler
	asked *atomic.Int32
}

func (h hanging) Cleanup(ctx context.Context, _ records.Task) error {
	if h.asked.Add(1) == 1 {
		<-ctx.Done()
		return context.Cause(ctx)
	}
	return nil
}

// A process begins though what a dead one left can't be cleared just now, and clears it later.
func TestWhatHangsKeepsNoProcessFromBeginning(t *testing.T) {
	t.Parallel()
	b := engine(t, "could not clear all that a dead process left")
	ctx := t.Context()
	require.NoError(t, b.rec.QueueRun(ctx, records.Run{ID: "orphan03", Kind: run.Check, Cause: run.Hand}))
	_, err := b.rec.BeginRun(ctx, "orphan03", 424242)
	require.NoError(t, err)
	task, err := b.rec.AddTask(ctx, records.Task{Run: "orphan03", Machine: "timetable"})
	require.NoError(t, err)
	now := time.Now()
	task.State, task.Started, task.NeedsCleanup = run.Running, &now, true
	require.NoError(t, b.rec.SaveTask(ctx, task))
	var asked atomic.Int32
	b.e.Register(run.Check, hanging{handler{}, &asked})
	b.e.Register(run.Proof, handler{run: func(context.Context, *Run) error { return nil }})
	b.serve()
	require.Equal(t, run.Done, b.await(b.queue(run.Proof)).State)
	b.until(func() bool {
		left, err := b.rec.Unclean(ctx)
		require.NoError(t, err)
		return len(left) == 0
	})
	require.Greater(t, asked.Load(), int32(1))
}
