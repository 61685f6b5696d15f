package events

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// serve makes a hub that serves until the test ends, and waits until it hears.
func serve(t *testing.T) (*Hub, *records.Records) {
	rec := recordstest.Open(t)
	h := New(rec, recordstest.Quiet(t))
	go h.Serve(t.Context())
	heard, end := h.Listen()
	defer end()
	require.Eventually(t, func() bool {
		require.NoError(t, rec.SaveSite(t.Context(), site.Site{Zone: "Europe/Lisbon"}, nil, nil))
		select {
		case e := <-heard:
			return e.Site
		case <-time.After(50 * time.Millisecond):
			return false
		}
	}, 10*time.Second, time.Millisecond)
	settle := time.After(3 * joinFor) // what was said of the site until now
	for {
		select {
		case <-heard:
		case <-settle:
			return h, rec
		}
	}
}

func next(t *testing.T, ch <-chan Event) Event {
	t.Helper()
	select {
	case e, ok := <-ch:
		require.True(t, ok, "cut off")
		return e
	case <-time.After(10 * time.Second):
		t.Fatal("no event comes")
		return Event{}
	}
}

// What happens within a fraction of a second comes as one event with what changed; of very much, only that it did.
func TestWhatHappensIsJoined(t *testing.T) {
	ctx := t.Context()
	h, rec := serve(t)
	ch, end := h.Listen()
	require.NoError(t, rec.QueueRun(ctx, records.Run{ID: "first000", Kind: run.Sweep, Cause: run.Hand}))
	task, err := rec.AddTask(ctx, records.Task{Run: "first000", Machine: "quay-shelf"})
	require.NoError(t, err)
	require.NoError(t, rec.SaveTask(ctx, task))
	e := next(t, ch)
	require.Len(t, e.Runs, 1)
	require.Equal(t, "first000", e.Runs[0].ID)
	require.Len(t, e.Tasks, 1)
	require.Equal(t, task.ID, e.Tasks[0].ID)
	require.False(t, e.ManyRuns || e.Images || e.Site)

	require.NoError(t, rec.AddImage(ctx, records.Image{ID: "image000", Machine: "timetable", MachineID: "u-timetable", Policy: "nightly-guests", Store: "quay-shelf", Run: "first000", Taken: time.Now(), Scope: image.WholeMachine, Capture: image.Full}))
	_, err = rec.Damaged(ctx, "image000", "first000")
	require.NoError(t, err)
	e = next(t, ch)
	require.True(t, e.Images)
	require.Empty(t, e.Runs)

	var many []records.Run
	for i := range mostTold + 1 {
		many = append(many, records.Run{ID: fmt.Sprintf("many%04d", i), Kind: run.Sweep, Cause: run.Hand, State: run.Queued})
	}
	require.NoError(t, rec.QueueRuns(ctx, many))
	e = next(t, ch)
	require.True(t, e.ManyRuns)
	require.Empty(t, e.Runs)
	g := gathered{runs: map[string]bool{}, tasks: map[int64]bool{}}
	for _, r := range many[1:] {
		g.runs[r.ID] = true
	}
	for i := range int64(mostTold) {
		g.tasks[i] = true
	}
	g.tasks[task.ID] = true
	delete(g.tasks, 0)
	e, err = h.event(ctx, g)
	require.NoError(t, err)
	require.False(t, e.ManyRuns, "so many can be told of")
	require.Len(t, e.Runs, mostTold)
	require.Len(t, e.Tasks, 1)
	for i := range int64(2) {
		g.tasks[-i] = true
	}
	e, err = h.event(ctx, g)
	require.NoError(t, err)
	require.True(t, e.ManyRuns)
	require.Empty(t, e.Tasks)
	require.Len(t, e.Runs, mostTold)

	end()
	require.NoError(t, rec.SaveSite(ctx, site.Site{Zone: "Europe/Lisbon"}, nil, nil))
	time.Sleep(2 * joinFor) // nobody hears that
	again, endAgain := h.Listen()
	defer endAgain()
	_, err = rec.Damaged(ctx, "image000", "first000")
	require.NoError(t, err)
	require.True(t, next(t, again).Images)
	endAgain()
	_, open := <-ch
	require.False(t, open)
	end() // ending twice harms nobody
	require.False(t, h.heard())
}

// A listener that does not keep up is cut off, and others are not.
func TestASlowListenerIsCutOff(t *testing.T) {
	h := New(nil, recordstest.Quiet(t))
	slow, _ := h.Listen()
	quick, _ := h.Listen()
	for range backlog + 1 {
		h.send(Event{Site: true})
		<-quick
	}
	n := 0
	for range slow {
		n++
	}
	require.Equal(t, backlog, n, "it had what came before, then the end")
	require.True(t, h.heard())
}

// Whoever carries a run out hears at once that it is to end.
func TestCancelsArePassedOn(t *testing.T) {
	ctx := t.Context()
	rec := recordstest.Open(t)
	h := New(rec, recordstest.Quiet(t))
	var heard atomic.Pointer[records.Run]
	h.Cancelled = func(r records.Run) { heard.Store(&r) }
	require.NoError(t, rec.QueueRun(ctx, records.Run{ID: "first000", Kind: run.Sweep, Cause: run.Hand}))
	_, err := rec.BeginRun(ctx, "first000", 1)
	require.NoError(t, err)
	go h.Serve(ctx)
	require.Eventually(t, func() bool { // the hub may not hear yet
		_, err = rec.CancelRun(ctx, "first000", "by operator")
		require.NoError(t, err)
		return heard.Load() != nil
	}, 10*time.Second, 30*time.Millisecond)
	require.Equal(t, "by operator", heard.Load().Cancel)
}

// What can't be read of a notification is left out and harms nothing.
func TestGathering(t *testing.T) {
	g := gathered{runs: map[string]bool{}, tasks: map[int64]bool{}}
	for _, what := range []string{"run a", "run b", "run a", "task 17 c", "task x d", "image i", "news of the world", ""} {
		g.add(what)
	}
	require.Equal(t, gathered{runs: map[string]bool{"a": true, "b": true, "c": true}, tasks: map[int64]bool{17: true}, images: true}, g)
	g.add("runs")
	g.add("site")
	require.True(t, g.many && g.site)
}

// So many runs and tasks are told of one by one and no more; when they can't be read, everybody is told to ask.
func TestTheMostThatIsTold(t *testing.T) {
	ctx, rec := t.Context(), recordstest.Open(t)
	h := New(rec, recordstest.Quiet(t, "what changed could not be read"))
	g := gathered{runs: map[string]bool{}, tasks: map[int64]bool{}}
	var last records.Task
	var list []records.Run
	for i := range mostTold {
		id := fmt.Sprintf("run%05d", i)
		list = append(list, records.Run{ID: id, Kind: run.Sweep, Cause: run.Hand, State: run.Queued})
		g.runs[id] = true
	}
	require.NoError(t, rec.QueueRuns(ctx, list))
	for range mostTold {
		var err error
		last, err = rec.AddTask(ctx, records.Task{Run: list[0].ID, Machine: "timetable"})
		require.NoError(t, err)
		g.tasks[last.ID] = true
	}
	e, err := h.event(ctx, g)
	require.NoError(t, err)
	require.False(t, e.ManyRuns)
	require.Len(t, e.Runs, mostTold)
	require.Len(t, e.Tasks, mostTold)
	g.runs["one-more"] = true
	e, err = h.event(ctx, g)
	require.NoError(t, err)
	require.True(t, e.ManyRuns)
	require.Empty(t, e.Runs)
	require.Len(t, e.Tasks, mostTold)
	delete(g.runs, "one-more")
	g.tasks[last.ID+1] = true
	e, err = h.event(ctx, g)
	require.NoError(t, err)
	require.True(t, e.ManyRuns)
	require.Len(t, e.Runs, mostTold)
	require.Empty(t, e.Tasks)
	e, err = h.event(ctx, gathered{images: true})
	require.NoError(t, err)
	require.Equal(t, Event{Images: true}, e)

	ch, end := h.Listen()
	defer end()
	joining, stop := context.WithCancel(ctx)
	defer stop()
	go h.join(joining)
	rec.Close() // the database is gone
	h.happened <- "run " + list[0].ID
	require.Equal(t, Event{ManyRuns: true, Images: true, Site: true}, <-ch)
}
