package records_test

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store/medium/dir"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// open makes an empty database and opens it as often as asked, as so many processes.
func open(t *testing.T, processes int) []*records.Records {
	t.Helper()
	return recordstest.OpenAll(t, processes)
}

// withPolicies saves a site with so many policies, due at a moment.
func withPolicies(t *testing.T, r *records.Records, n int, due time.Time) {
	t.Helper()
	next := site.Site{Zone: "Europe/Lisbon", Stores: map[string]site.Store{"quay-shelf": {Medium: "dir", Layout: "pooled", Settings: &dir.Settings{Folder: "/x"}}}, Policies: map[string]site.Policy{}}
	for i := range n {
		next.Policies[fmt.Sprint("policy-", i)] = site.Policy{Machines: []string{"*"}, Store: "quay-shelf", Rotation: "newest 3"}
	}
	require.NoError(t, r.SaveSite(t.Context(), next, func(site.Policy) time.Time { return due }, nil))
}

func TestTheSiteComesBack(t *testing.T) {
	r := open(t, 1)[0]
	empty, err := r.Site(t.Context())
	require.NoError(t, err)
	require.Equal(t, site.Site{Zone: "UTC"}, empty)
	next := site.Site{Zone: "Europe/Lisbon", TasksAtOnce: 3, KeepRuns: "90 days", Webhooks: map[string]site.Webhook{"desk": {URL: "https://desk.brindle.example/runs"}},
		Hypervisors: map[string]site.Hypervisor{"quay-1": {URI: "qemu:///system", Pool: "quay"}},
		Stores:      map[string]site.Store{"quay-shelf": {Medium: "dir", Layout: "pooled", Settings: &dir.Settings{Folder: "/srv/shelf"}}},
		Policies: map[string]site.Policy{"nightly-guests": {Machines: []string{"tickets-db"}, Tags: "tier=gold", Store: "quay-shelf",
			Quiesce: "required", Schedules: []site.Schedule{{When: "every day at 23:00"}, {When: "every sun at 01:00", Capture: "full"}}, Rotation: "newest 3", Prove: "read"}}}
	due := time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC)
	save := func(s site.Site) error {
		return r.SaveSite(t.Context(), s, func(site.Policy) time.Time { return due }, map[string]string{"quay-shelf": "id-1"})
	}
	require.NoError(t, save(next))
	got, err := r.Site(t.Context())
	require.NoError(t, err)
	require.Equal(t, next, got)
	id, err := r.StoreID(t.Context(), "quay-shelf")
	require.NoError(t, err)
	require.Equal(t, "id-1", id)
	// A change that fails changes nothing.
	broken := next
	broken.Zone, broken.TasksAtOnce = "Etc/UTC", 1<<40 // a number that PostgreSQL refuses
	require.Error(t, save(broken))
	got, err = r.Site(t.Context())
	require.NoError(t, err)
	require.Equal(t, next, got)
	standings, err := r.PolicyStandings(t.Context())
	require.NoError(t, err)
	require.True(t, due.Equal(*standings[0].NextDue))
}

// firing lets every due policy run, and be due again at a moment.
func firing(next time.Time, newID func() string) func(site.Site, []records.Due) []records.Firing {
	return func(s site.Site, due []records.Due) (out []records.Firing) {
		for _, d := range due {
			at := d.At
			out = append(out, records.Firing{Run: records.Run{ID: newID(), Kind: "backup", Policy: d.Policy, Cause: "schedule", State: "queued", Due: &at}, Next: next})
		}
		return out
	}
}

// Many processes look at once for what is due: each policy's moment has exactly one run.
func TestADueMomentHasOneRun(t *testing.T) {
	const policies, processes = 1200, 4
	rs := open(t, processes)
	due := time.Now().Add(-time.Minute)
	withPolicies(t, rs[0], policies, due)
	var mu sync.Mutex
	ids := 0
	newID := func() string { mu.Lock(); defer mu.Unlock(); ids++; return fmt.Sprintf("run%05d", ids) }
	later := time.Now().Add(time.Hour)
	var all sync.WaitGroup
	for _, r := range rs {
		all.Go(func() {
			_, err := r.FireDue(t.Context(), time.Now(), firing(later, newID))
			require.NoError(t, err)
		})
	}
	all.Wait()
	runs, err := rs[0].Runs(t.Context(), records.RunFilter{Page: listing.Page{Limit: 5000}})
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, run := range runs {
		require.False(t, seen[run.Policy], "%s twice", run.Policy)
		seen[run.Policy] = true
		require.EqualValues(t, "schedule", run.Cause)
		require.WithinDuration(t, due, *run.Due, time.Millisecond)
	}
	require.Len(t, seen, policies)
	var jobs int
	require.NoError(t, rs[0].Pool().QueryRow(t.Context(), "select count(distinct args->>'run') from river_job").Scan(&jobs))
	require.Equal(t, policies, jobs)
	n, err := rs[0].FireDue(t.Context(), time.Now(), firing(later, newID))
	require.NoError(t, err)
	require.Zero(t, n, "the next moment is an hour off")

	// The clock goes back, and the moment comes again: it has had its run.
	moved, err := rs[0].PullForward(t.Context(), func(site.Policy) time.Time { return due })
	require.NoError(t, err)
	require.Len(t, moved, policies)
	n, err = rs[0].FireDue(t.Context(), time.Now(), firing(later, newID))
	require.NoError(t, err)
	require.Equal(t, policies, n)
	again, err := rs[0].Runs(t.Context(), records.RunFilter{Page: listing.Page{Limit: 5000}})
	require.NoError(t, err)
	require.Len(t, again, policies)
	moved, err = rs[0].PullForward(t.Context(), func(site.Policy) time.Time { return later.Add(time.Hour) })
	require.NoError(t, err)
	require.Empty(t, moved, "never later")
}

// While a run of a policy is going a second one by hand is refused, and one by schedule is recorded as skipped.
func TestRunsOfOnePolicyDoNotOverlap(t *testing.T) {
	r, ctx := open(t, 1)[0], t.Context()
	withPolicies(t, r, 1, time.Now().Add(-time.Second))
	run := records.Run{ID: "one", Kind: "backup", Policy: "policy-0", Cause: "hand", Who: "first"}
	require.NoError(t, r.QueueRun(ctx, run))
	run.ID = "two"
	require.ErrorIs(t, r.QueueRun(ctx, run), records.ErrRunning)
	_, err := r.FireDue(ctx, time.Now(), firing(time.Time{}, func() string { return "three" }))
	require.NoError(t, err)
	skipped, err := r.Run(ctx, "three")
	require.NoError(t, err)
	require.EqualValues(t, "skipped", skipped.State)
	require.NotNil(t, skipped.Ended)
	_, err = r.Run(ctx, "two")
	require.ErrorIs(t, err, fault.ErrNotFound)

	begun, err := r.BeginRun(ctx, "one", 7)
	require.NoError(t, err)
	require.Equal(t, "first", begun.Who)
	_, err = r.BeginRun(ctx, "one", 8)
	require.ErrorIs(t, err, fault.ErrNotFound, "begun once")
	follower := records.Run{ID: "four", Kind: "backup", Policy: "policy-9", Cause: "chain", State: "queued"}
	require.NoError(t, r.EndRun(ctx, "one", "done", "", follower))
	follower.ID = "five"
	require.NoError(t, r.EndRun(ctx, "one", "failed", "", follower))
	one, err := r.Run(ctx, "one")
	require.NoError(t, err)
	require.EqualValues(t, "done", one.State, "it had ended")
	_, err = r.Run(ctx, "four")
	require.NoError(t, err, "its end started the next, in the same transaction")
	_, err = r.Run(ctx, "five")
	require.ErrorIs(t, err, fault.ErrNotFound, "and only once")
	require.NoError(t, r.QueueRun(ctx, run), "now it may")
	// Proofs of one policy's images may overlap.
	for _, id := range []string{"p1", "p2"} {
		require.NoError(t, r.QueueRun(ctx, records.Run{ID: id, Kind: "proof", Policy: "policy-0", Cause: "hand"}))
	}

	// A queued run that is cancelled never begins.
	cancelled, err := r.CancelRun(ctx, "two", "by first")
	require.NoError(t, err)
	require.EqualValues(t, "cancelled", cancelled.State)
	_, err = r.BeginRun(ctx, "two", 7)
	require.ErrorIs(t, err, fault.ErrNotFound)
	_, err = r.CancelRun(ctx, "two", "again")
	require.ErrorIs(t, err, records.ErrOver)
}

// Limits of tasks at once hold for all processes together.
func TestTasksAtOnce(t *testing.T) {
	rs, ctx := open(t, 2), t.Context()
	require.NoError(t, rs[0].QueueRun(ctx, records.Run{ID: "one", Kind: "backup", Policy: "x", Cause: "hand"}))
	_, err := rs[0].BeginRun(ctx, "one", 7)
	require.NoError(t, err)
	limits := records.Limits{Lodge: 9, Hypervisor: 3, Store: 5}
	var mu sync.Mutex
	begun := map[string]int{}
	var last string
	var all sync.WaitGroup
	for i := range 20 {
		task, err := rs[0].AddTask(ctx, records.Task{Run: "one", Machine: fmt.Sprint("m", i), Hypervisor: fmt.Sprint("quay-", i%2), Store: "quay-shelf"})
		require.NoError(t, err)
		all.Go(func() {
			full, err := rs[i/10].ClaimTasks(ctx, []records.Claim{{Task: task, Limits: limits}})
			require.NoError(t, err)
			mu.Lock()
			defer mu.Unlock()
			if full[0] == "" {
				begun[task.Hypervisor]++
			} else {
				last = full[0]
			}
		})
	}
	all.Wait()
	require.Equal(t, 5, begun["quay-0"]+begun["quay-1"], "the store's limit")
	require.LessOrEqual(t, max(begun["quay-0"], begun["quay-1"]), 3)
	require.Contains(t, last, "tasks at once")
}

// A turn that comes after its task was ended changes nothing any more, whether there is room for it or not.
func TestATurnTooLate(t *testing.T) {
	r, ctx := open(t, 1)[0], t.Context()
	require.NoError(t, r.QueueRun(ctx, records.Run{ID: "one", Kind: "backup", Policy: "x", Cause: "hand"}))
	_, err := r.BeginRun(ctx, "one", 7)
	require.NoError(t, err)
	for limit := range 2 {
		task, err := r.AddTask(ctx, records.Task{Run: "one", Machine: fmt.Sprint("m", limit)})
		require.NoError(t, err)
		ended := task
		ended.State, ended.Error = run.Failed, "cancelled"
		require.NoError(t, r.SaveTask(ctx, ended))
		_, err = r.ClaimTasks(ctx, []records.Claim{{Task: task, Limits: records.Limits{Lodge: limit, Hypervisor: 1, Store: 1}}})
		require.NoError(t, err)
		tasks, err := r.Tasks(ctx, "one", task.ID-1, 1)
		require.NoError(t, err)
		require.Equal(t, []string{"failed", ""}, []string{string(tasks[0].State), tasks[0].Why})
	}
}

// A pause is in force until its end; records of old runs go, but for those that have something to clear.
func TestPausesAndOldRuns(t *testing.T) {
	r, ctx := open(t, 1)[0], t.Context()
	now := time.Now()
	until := now.Add(time.Hour)
	withPolicies(t, r, 2, now.Add(-time.Second))
	require.NoError(t, r.PausePolicy(ctx, "policy-1", records.Pause{Since: &now, Until: &until, Why: "harbour upgrade", By: "first"}))
	paused := map[string]bool{}
	var mu sync.Mutex
	_, err := r.FireDue(ctx, now, func(s site.Site, due []records.Due) (out []records.Firing) {
		mu.Lock()
		defer mu.Unlock()
		for _, d := range due {
			paused[d.Policy] = d.Paused
			require.Equal(t, d.Paused, d.Holds(now))
			require.False(t, d.Holds(until))
		}
		return firing(until, func() string { return fmt.Sprint("run", len(paused), time.Now().UnixNano()) })(s, due)
	})
	require.NoError(t, err)
	require.Equal(t, map[string]bool{"policy-0": false, "policy-1": true}, paused)

	for _, id := range []string{"clean", "unclean"} {
		require.NoError(t, r.QueueRun(ctx, records.Run{ID: id, Kind: "proof", Cause: "hand"}))
		task, err := r.AddTask(ctx, records.Task{Run: id, Machine: "tickets-db"})
		require.NoError(t, err)
		task.NeedsCleanup = id == "unclean"
		task.State, task.Steps = "failed", []records.TaskStep{{Name: "capturing", At: now, Took: 5}}
		require.NoError(t, r.SaveTask(ctx, task))
		require.NoError(t, r.EndRun(ctx, id, "failed", "why"))
	}
	n, err := r.ForgetRuns(ctx, now.Add(-time.Hour))
	require.NoError(t, err)
	require.Zero(t, n)
	n, err = r.ForgetRuns(ctx, now.Add(time.Hour))
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	run, err := r.Run(ctx, "unclean")
	require.NoError(t, err)
	require.Equal(t, "capturing", run.Tasks[0].Steps[0].Name)

	first, err := r.Boot(ctx, "boot-1")
	require.NoError(t, err)
	require.True(t, first)
	first, err = r.Boot(ctx, "boot-1")
	require.NoError(t, err)
	require.False(t, first)
}

// A run is an orphan from the moment on at which its process's lock is free, and not before.
func TestOrphansAreFoundByTheirLock(t *testing.T) {
	rs, ctx := open(t, 2), t.Context()
	dying, watching := rs[0], rs[1]
	const big = int64(1)<<61 + 12345 // both halves of the lock's number count
	owner, err := dying.Own(ctx, big)
	require.NoError(t, err)
	require.NoError(t, dying.QueueRun(ctx, records.Run{ID: "one", Kind: "backup", Policy: "x", Cause: "hand"}))
	_, err = dying.BeginRun(ctx, "one", big)
	require.NoError(t, err)
	task, err := dying.AddTask(ctx, records.Task{Run: "one", Machine: "tickets-db", Hypervisor: "quay-1", Image: "img"})
	require.NoError(t, err)
	task.NeedsCleanup, task.State = true, "running"
	require.NoError(t, dying.SaveTask(ctx, task))
	orphans, err := watching.Orphans(ctx)
	require.NoError(t, err)
	require.Empty(t, orphans, "its process lives")
	owner.Release()
	orphans, err = watching.Orphans(ctx)
	require.NoError(t, err)
	require.Len(t, orphans, 1)
	require.Equal(t, "img", orphans[0].Tasks[0].Image)
	unclean, err := watching.Unclean(ctx)
	require.NoError(t, err)
	require.Empty(t, unclean, "the run has not ended yet")
	require.NoError(t, watching.EndRun(ctx, "one", "failed", "why"))
	unclean, err = watching.Unclean(ctx)
	require.NoError(t, err)
	require.Len(t, unclean, 1)
	require.True(t, unclean[0].NeedsCleanup)
}

// An image's standing is its best passed proof; a failed one that came later outranks it.
func TestTheStandingOfAnImage(t *testing.T) {
	r, ctx := open(t, 1)[0], t.Context()
	now := time.Now()
	m := records.Image{ID: "img", Machine: "tickets-db", Policy: "p", Store: "quay-shelf", Taken: now, Scope: "machine", Capture: "full"}
	require.NoError(t, r.AddImage(ctx, m))
	m.Disks, m.Consistency = []records.ImageDisk{{Target: "vda", Size: 1 << 40}}, "filesystem"
	require.NoError(t, r.FinishImage(ctx, m))
	prove := func(level image.Level, passed bool) records.Image {
		require.NoError(t, r.AddProof(ctx, records.Proof{Image: "img", Level: level, Passed: passed, Began: now, Ended: time.Now(), Program: "test"}))
		got, err := r.Image(ctx, "img")
		require.NoError(t, err)
		return got
	}
	got, err := r.Image(ctx, "img")
	require.NoError(t, err)
	require.EqualValues(t, "usable", got.State)
	require.Equal(t, m.Disks, got.Disks)
	require.Empty(t, got.Proven)
	require.EqualValues(t, "mount", prove("mount", true).Proven)
	require.EqualValues(t, "mount", prove("read", true).Proven, "the best, not the last")
	require.True(t, prove("read", false).Failed)
	require.False(t, prove("read", true).Failed)

}

// What is dropped can be brought back, with all that it leans on, until its grace is over; what is on its way out can't, and
// nothing leaves its store on which an image leans that is there.
func TestDroppedImagesComeBack(t *testing.T) {
	r, ctx := open(t, 1)[0], t.Context()
	ids := []string{"full", "inc-1", "inc-2"}
	for i, id := range ids {
		m := records.Image{ID: id, Machine: "tickets-db", MachineID: "u", Policy: "p", Store: "plain-shelf", Taken: time.Now().Add(time.Duration(i) * time.Minute), Scope: "machine", Capture: "full", Disks: []records.ImageDisk{}}
		if i > 0 {
			m.Base = ids[i-1]
		}
		require.NoError(t, r.AddImage(ctx, m))
		require.NoError(t, r.FinishImage(ctx, m))
	}
	drop := func(ids ...string) (drops []records.Drop) {
		for _, id := range ids {
			drops = append(drops, records.Drop{ID: id, Why: "no clause keeps it"})
		}
		return drops
	}
	_, err := r.Pin(ctx, "inc-2", true, "before the harbour upgrade")
	require.NoError(t, err)
	require.ErrorContains(t, r.DropImages(ctx, drop(ids...)), "image inc-2 was pinned meanwhile; nothing was dropped")
	there, err := r.Images(ctx, records.ImageFilter{})
	require.NoError(t, err)
	require.Len(t, there, 3, "all or none")
	_, err = r.Pin(ctx, "inc-2", false, "")
	require.NoError(t, err)

	require.NoError(t, r.DropImages(ctx, drop(ids...)))
	there, err = r.Images(ctx, records.ImageFilter{})
	require.NoError(t, err)
	require.Empty(t, there)
	all, err := r.Images(ctx, records.ImageFilter{Gone: true, MachineID: "u"})
	require.NoError(t, err)
	require.Equal(t, "no clause keeps it", all[0].GoneWhy)
	leaving, err := r.Leaving(ctx, "plain-shelf", time.Hour)
	require.NoError(t, err)
	require.Empty(t, leaving, "in its grace")
	leaving, err = r.Leaving(ctx, "plain-shelf", 0)
	require.NoError(t, err)
	require.Equal(t, "inc-2", leaving[0].ID, "what leans leaves before what it leans on")
	ok, err := r.Leave(ctx, "full")
	require.NoError(t, err)
	require.False(t, ok, "another leans on it")

	back, err := r.UndropImage(ctx, "inc-1")
	require.NoError(t, err)
	require.ElementsMatch(t, []string{"full", "inc-1"}, back)
	ok, err = r.Leave(ctx, "full")
	require.NoError(t, err)
	require.False(t, ok, "it is back")
	ok, err = r.Leave(ctx, "inc-2")
	require.NoError(t, err)
	require.True(t, ok)
	back, err = r.UndropImage(ctx, "inc-2")
	require.NoError(t, err)
	require.Empty(t, back, "it is on its way out")
	leaving, err = r.Leaving(ctx, "plain-shelf", time.Hour)
	require.NoError(t, err)
	require.Len(t, leaving, 1, "who died on the way goes on with it, whatever the grace")
	require.NoError(t, r.Left(ctx, "inc-2"))
	leaving, err = r.Leaving(ctx, "plain-shelf", 0)
	require.NoError(t, err)
	require.Empty(t, leaving)

	// What leans on a broken image is broken, too.
	recordstest.Break(t, r, "full")
	m, err := r.Image(ctx, "inc-1")
	require.NoError(t, err)
	require.EqualValues(t, "broken", m.State)
}

// An image in which damage is found is doubtful until another run has found it again at another time, or all of it was read and is right.
func TestASecondFindingBreaks(t *testing.T) {
	r, ctx := open(t, 1)[0], t.Context()
	at := time.Now()
	for _, m := range []records.Image{{ID: "full"}, {ID: "inc-1", Base: "full"}, {ID: "apart"}} {
		m.Machine, m.MachineID, m.Policy, m.Store, m.Taken, m.Scope, m.Capture, m.Disks = "timetable", "u-timetable", "nightly-guests", "plain-shelf", at, image.WholeMachine, image.Full, []records.ImageDisk{}
		require.NoError(t, r.AddImage(ctx, m))
		require.NoError(t, r.FinishImage(ctx, m))
	}
	states := func() (out []image.State) {
		for _, id := range []string{"full", "inc-1", "apart"} {
			m, err := r.Image(ctx, id)
			require.NoError(t, err)
			out = append(out, m.State)
		}
		return out
	}
	again := func() []string {
		ids, err := r.ToReadAgain(ctx)
		require.NoError(t, err)
		return ids
	}
	found := func(run string) {
		_, err := r.Damaged(ctx, "full", run)
		require.NoError(t, err)
	}
	found("check000")
	require.Equal(t, []image.State{"doubtful", "doubtful", "usable"}, states())
	found("check001")
	require.Equal(t, []image.State{"doubtful", "doubtful", "usable"}, states(), "at the same time, whatever reads it may be in the same state")
	require.Empty(t, again())
	recordstest.Later(t, r)
	found("check000")
	require.Equal(t, []image.State{"doubtful", "doubtful", "usable"}, states(), "the same run")
	require.ElementsMatch(t, []string{"full", "inc-1"}, again())
	require.Empty(t, again(), "somebody reads them")
	mended, err := r.Mended(ctx, "inc-1")
	require.NoError(t, err)
	require.True(t, mended)
	found("check002")
	require.Equal(t, []image.State{"broken", "doubtful", "usable"}, states(), "what was right meanwhile begins anew")
	mended, err = r.Mended(ctx, "full")
	require.NoError(t, err)
	require.True(t, mended)
	mended, err = r.Mended(ctx, "full")
	require.NoError(t, err)
	require.False(t, mended)
	require.Equal(t, []image.State{"usable", "doubtful", "usable"}, states())
	_, err = r.Damaged(ctx, "nobody", "check003")
	require.ErrorIs(t, err, fault.ErrNotFound)

	there, err := r.Pin(ctx, "full", true, "for good")
	require.NoError(t, err)
	require.True(t, there)
	require.NoError(t, r.DropImages(ctx, []records.Drop{{ID: "apart", Why: "for the test"}}))
	there, err = r.Pin(ctx, "apart", true, "too late")
	require.NoError(t, err)
	require.False(t, there)
}

// What one process changes another hears of.
func TestChangesAreHeard(t *testing.T) {
	rs := open(t, 2)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	heard := make(chan string, 10)
	go rs[1].Listen(ctx, func(what string) { heard <- what })
	require.Eventually(t, func() bool {
		require.NoError(t, rs[0].QueueRun(ctx, records.Run{ID: fmt.Sprint(time.Now().UnixNano()), Kind: "proof", Cause: "hand"}))
		select {
		case what := <-heard:
			require.Contains(t, what, "run ")
			return true
		case <-time.After(100 * time.Millisecond):
			return false
		}
	}, 10*time.Second, time.Millisecond)
}

// Texts are kept whatever is in them, but for what PostgreSQL can't keep: alone, in lists, and within documents.
func TestOddTexts(t *testing.T) {
	r, ctx := open(t, 1)[0], t.Context()
	const odd, kept = "a\x00b\xff\\u0000", "a\ufffdb\ufffd\\u0000"
	_, err := r.MachinesCalled(ctx, odd)
	require.NoError(t, err)
	_, err = r.Images(ctx, records.ImageFilter{MachineID: odd, Policy: odd})
	require.NoError(t, err)
	require.NoError(t, r.QueueRun(ctx, records.Run{ID: "odd00000", Kind: run.Sweep, Cause: run.Hand, Note: odd, Request: json.RawMessage(`{"name": "a\u0000b\\\\u0000"}`)}))
	task, err := r.AddTask(ctx, records.Task{Run: "odd00000", Machine: odd})
	require.NoError(t, err)
	task.Warnings, task.Error = []string{odd}, odd
	require.NoError(t, r.SaveTask(ctx, task))
	got, err := r.Run(ctx, "odd00000")
	require.NoError(t, err)
	require.Equal(t, []string{kept, kept, kept, kept}, []string{got.Note, got.Tasks[0].Machine, got.Tasks[0].Warnings[0], got.Tasks[0].Error})
	require.JSONEq(t, `{"name": "a\ufffdb\\\\u0000"}`, string(got.Request))
	_, err = r.AddTasks(ctx, []records.Task{{Run: "odd00000", Machine: odd, Hypervisor: odd}})
	require.NoError(t, err)
}
