package lodge_test

import (
	"context"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/lodge/lodgetest"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// newBenchOverALine is newBench with a service that reaches its database over a line, which can be taken down; the bench itself has its own way.
func newBenchOverALine(t *testing.T, policies map[string]site.Policy) (*bench, *mediumtest.Line) {
	t.Helper()
	b := &bench{t: t, host: lodgetest.Guests(t), log: &lockedBuffer{}, site: lodgetest.Site(t, policies)}
	url := recordstest.URL(t)
	var line *mediumtest.Line
	over := recordstest.Over(t, url, func(socket string) int {
		line = mediumtest.NewLine(t, socket)
		return line.Port()
	})
	var err error
	b.rec, err = records.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(b.rec.Close)
	serving, err := records.Open(t.Context(), over)
	require.NoError(t, err)
	t.Cleanup(serving.Close)
	b.l, b.stop = lodgetest.Serve(t, serving, b.log)
	b.apply()
	return b, line
}

// A database that does not answer for a while ends neither the service nor a run: the capture goes on and ends, its image is there before the
// database is, and the records follow. What was due meanwhile is done afterwards. KEENLODGE_AWAY says for how long, such as 10m.
func TestADatabaseThatIsAway(t *testing.T) {
	t.Parallel()
	away := time.Second
	if long, err := time.ParseDuration(os.Getenv("KEENLODGE_AWAY")); err == nil {
		away = long
	}
	ctx := t.Context()
	b, line := newBenchOverALine(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	reading, goOn := make(chan bool), make(chan bool)
	var once sync.Once
	b.host.SetFault(func(call, guest string) error {
		if call == "read" && guest == "timetable" {
			once.Do(func() { reading <- true; <-goOn })
		}
		return nil
	})
	r, err := b.l.RunPolicy(ctx, "nightly-guests", "operator", "")
	require.NoError(t, err)
	<-reading
	b.until(func() bool { return len(b.shelf().Names("image/")) == 1 && b.host.Look("tickets-db").Job == "" }, "the other image") // what a capture asks the records before it reads waits for them
	line.Down(true)
	goOn <- true
	b.until(func() bool { return b.host.Look("timetable").Job == "" && len(b.shelf().Names("image/")) == 2 }, "both images, in the store")
	b.clean("timetable", 1)
	now, err := b.rec.Run(ctx, r.ID)
	require.NoError(t, err)
	require.Equal(t, run.Running, now.State, "nobody could record its end")
	limited, end := context.WithTimeout(ctx, 200*time.Millisecond)
	_, err = b.l.Runs.Find(limited, r.ID)
	end()
	require.Error(t, err)
	time.Sleep(away)
	line.Down(false)
	r = b.await(r.ID)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	for _, id := range []string{"u-tickets", "u-timetable"} {
		require.Equal(t, image.Usable, b.images(id)[0].State)
	}
	log := b.lines(r.ID)
	require.Contains(t, log, "note timetable: ending the capture", "what was logged meanwhile is there")
	require.EqualValues(t, run.Done, b.run("nightly-guests").State, "its policy is free")
	require.Contains(t, b.log.String(), "the connection broke that shows that this process lives")
}

// A service that was taken for dead while its line was down ends the runs that another one took over, and goes on.
func TestARunThatWasTakenOver(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b, line := newBenchOverALine(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	reading, goOn := make(chan bool, 9), make(chan bool)
	b.host.SetFault(func(call, guest string) error {
		if call == "read" && guest == "timetable" {
			reading <- true
			<-goOn
		}
		return nil
	})
	r, err := b.l.RunPolicy(ctx, "nightly-guests", "operator", "")
	require.NoError(t, err)
	<-reading
	line.Down(true)
	b.until(func() bool {
		orphans, err := b.rec.Orphans(ctx)
		require.NoError(t, err)
		return len(orphans) == 1
	}, "the lock to be free")
	require.NoError(t, b.rec.EndRun(ctx, r.ID, run.Failed, "taken over")) // as another service does
	before := lines(b.log.String(), "is there again")
	line.Down(false)
	b.until(func() bool { return lines(b.log.String(), "is there again") > before }, "the service to be back")
	b.host.SetFault(nil)
	close(goOn)
	b.until(func() bool { return b.host.Look("timetable").Job == "" }, "the capture to end")
	b.until(func() bool { return lines(b.log.String(), "another process took this one for dead") > 0 }, "its reason")
	require.EqualValues(t, run.Failed, b.await(r.ID).State)
	require.EqualValues(t, run.Done, b.run("nightly-guests").State)
	b.clean("timetable", 1)
}

// A scheduled run that was interrupted is taken up again, once; one by hand is its person's to start again. A run that is recorded as going in
// a process that does not have it any more is ended, and its policy is free.
func TestInterruptedRuns(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	stray := b.run("nightly-guests")
	begin := func(id string, r records.Run) { // as a process that is dead by now
		r.ID, r.Kind, r.Policy = id, run.Backup, "nightly-guests"
		require.NoError(t, b.rec.QueueRun(ctx, r))
		_, err := b.rec.BeginRun(ctx, id, 424242)
		require.NoError(t, err)
	}
	_, err := b.rec.Pool().Exec(ctx, "update runs set state = 'running', ended = null where id = $1", stray.ID) // as if its end had not been recorded
	require.NoError(t, err)
	require.Contains(t, b.await(stray.ID).Error, "the service ended in the middle of it")
	b.stop()
	begin("cut00000", records.Run{Cause: run.Schedule, Note: "before the fair"})
	b.start()
	require.EqualValues(t, run.Failed, b.await("cut00000").State)
	again := b.newest("nightly-guests")
	require.EqualValues(t, run.Done, again.State, b.lines(again.ID))
	require.Equal(t, []string{"cut00000", "before the fair", string(run.Schedule)}, []string{again.Again, again.Note, string(again.Cause)})
	require.Contains(t, b.lines("cut00000"), "it is taken up again, once: run "+again.ID)
	b.stop()
	begin("cut00001", records.Run{Cause: run.Schedule, Again: "cut00000"})
	b.start()
	require.EqualValues(t, run.Failed, b.await("cut00001").State)
	require.Equal(t, "cut00001", b.newest("nightly-guests").ID, "once is enough")
	require.EqualValues(t, run.Done, b.run("nightly-guests").State)
}

func lines(log, what string) int { return strings.Count(log, what) }

// An image whose last write fails did not come to be: nothing will build on it, so its checkpoint goes at once.
func TestAnImageThatDidNotComeToBe(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 3", Cycle: "full every 4th"}})
	b.shelf().Around = func(call, name string, act func() error) error {
		if call == "put" && strings.HasPrefix(name, "image/") {
			return medium.ErrFull
		}
		return act()
	}
	require.EqualValues(t, run.Failed, b.run("nightly-guests").State)
	b.clean("timetable", 0)
	require.Empty(t, b.images("u-timetable"))
}
