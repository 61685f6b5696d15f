package planning

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/runs"
	"keenlodge/internal/stores/storestest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

type bench struct {
	*testing.T
	pl   *Planning
	rec  *records.Records
	site site.Site
}

// newBench has two hosts, a store in memory, and the machines tickets-db on quay-1 and timetable on quay-2.
func newBench(t *testing.T, policies map[string]site.Policy, warnings ...string) *bench {
	rec := recordstest.Open(t)
	ss, _, shelf := storestest.New(t, rec)
	b := &bench{T: t, rec: rec, pl: New(rec, recordstest.Quiet(t, warnings...), ss), site: site.Site{Zone: "Europe/Lisbon",
		Hypervisors: map[string]site.Hypervisor{"quay-1": {URI: "test:///quay-1"}, "quay-2": {URI: "test:///quay-2"}},
		Stores:      map[string]site.Store{"quay-shelf": shelf}, Policies: policies}}
	b.save()
	for host, name := range map[string]string{"quay-1": "tickets-db", "quay-2": "timetable"} {
		_, _, err := rec.SaveMachines(t.Context(), host, []records.Machine{{Name: name, UUID: "u-" + name, State: machine.Running, Tags: map[string]string{}, Disks: []records.MachineDisk{{Target: "vda", Size: 8 << 30}}}})
		require.NoError(t, err)
	}
	return b
}

func (b *bench) save() {
	require.NoError(b, b.rec.SaveSite(b.Context(), b.site, func(site.Policy) time.Time { return time.Time{} }, nil))
}

func lisbon(t *testing.T) *time.Location {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	return zone
}

// What comes of a due moment: a run with what its schedule asks for, or a record that it was skipped, and the moment after.
func TestDecide(t *testing.T) {
	zone := lisbon(t)
	at := time.Date(2026, 3, 10, 23, 0, 0, 0, zone)
	spec := site.Policy{Schedules: []site.Schedule{{When: "every day at 23:00", Note: "nightly"}, {When: "every tue at 23:00", Capture: image.Full, Disks: []string{"vda"}}, {When: "every day at 05:00"}}}
	f := decide(zone, spec, records.Due{Policy: "nightly-guests", At: at}, at.Add(time.Millisecond))
	require.Equal(t, run.Queued, f.Run.State)
	require.Equal(t, []any{run.Backup, run.Schedule, "nightly-guests", "nightly"}, []any{f.Run.Kind, f.Run.Cause, f.Run.Policy, f.Run.Note}, "a note of a merged moment is kept")
	require.Equal(t, at, *f.Run.Due)
	require.Equal(t, at.Add(6*time.Hour), f.Next)
	var asked Request
	require.NoError(t, json.Unmarshal(f.Run.Request, &asked))
	require.Equal(t, Request{When: "every tue at 23:00", Capture: image.Full, Disks: []string{"vda"}}, asked)

	f = decide(zone, spec, records.Due{Policy: "nightly-guests", At: at}, at.Add(lateAfter))
	require.NoError(t, json.Unmarshal(f.Run.Request, &asked))
	require.False(t, asked.Missed, "that late is in time")
	f = decide(zone, spec, records.Due{Policy: "nightly-guests", At: at}, at.Add(26*time.Hour))
	require.NoError(t, json.Unmarshal(f.Run.Request, &asked))
	require.True(t, asked.Missed)
	require.Equal(t, run.Queued, f.Run.State)
	require.Equal(t, at.Add(30*time.Hour), f.Next, "moments that were missed together are one run")
	spec.Missed = "skip"
	f = decide(zone, spec, records.Due{Policy: "nightly-guests", At: at}, at.Add(2*time.Hour))
	require.Equal(t, run.Skipped, f.Run.State)
	require.Equal(t, "its moment was missed by 2h0m0s: no service ran; its entry says to skip such", f.Run.Error)
	require.Equal(t, run.Queued, decide(zone, spec, records.Due{At: at}, at.Add(time.Second)).Run.State)
	until := at.AddDate(0, 0, 2)
	f = decide(zone, spec, records.Due{At: at, Paused: true, Pause: records.Pause{Until: &until, Why: "harbour upgrade"}}, at)
	require.Equal(t, run.Skipped, f.Run.State)
	require.Equal(t, "it is paused until 2026-03-12 23:00: harbour upgrade", f.Run.Error)
	require.Empty(t, PauseWords(records.Pause{}, zone))
}

// A machine is late by its own policy's promise: the longest gap to come, and some time to make the image in.
func TestFreshnessLimit(t *testing.T) {
	s := site.Site{Zone: "Europe/Lisbon", Policies: map[string]site.Policy{}}
	add := func(name string, whens ...string) {
		p := site.Policy{}
		for _, w := range whens {
			p.Schedules = append(p.Schedules, site.Schedule{When: w})
		}
		s.Policies[name] = p
	}
	add("hourly", "every 2 hours from 00:20")
	add("nightly", "every day at 23:00")
	add("workdays", "every mon-fri at 23:00")
	add("both", "every day at 05:00", "every day at 23:00")
	add("follows", "after nightly")
	add("second", "after follows")
	add("hand")
	add("seldom", "every 24 months on the 1st at 04:00 from 2026-01-01")
	add("leap", "RRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29;BYHOUR=4")
	add("autumn", "RRULE:FREQ=YEARLY;BYMONTH=9;BYMONTHDAY=1;BYHOUR=4", "RRULE:FREQ=YEARLY;BYMONTH=10;BYMONTHDAY=1;BYHOUR=4")
	add("boot", "at boot")
	now := time.Date(2026, 5, 12, 12, 0, 0, 0, lisbon(t))
	// One day of autumn has 25 hours.
	for name, want := range map[string]time.Duration{"hourly": 4 * time.Hour, "nightly": 27 * time.Hour, "workdays": 75 * time.Hour, "both": 20 * time.Hour, "follows": 27 * time.Hour, "second": 27 * time.Hour, "hand": 0, "boot": 0,
		"seldom": (366+365)*24*time.Hour + 2*time.Hour, "leap": (4*365+1)*24*time.Hour + 2*time.Hour, "autumn": 335*24*time.Hour + 2*time.Hour} {
		require.Equal(t, want, FreshnessLimit(s, name, now), name)
	}
}

// A run waits for the hours of its policy, its store and the hosts of its machines; one by hand for none; one that was missed is skipped.
func TestWaitForWindow(t *testing.T) {
	ctx := t.Context()
	now := time.Now().In(lisbon(t))
	hours := func(from, until int) []string {
		return []string{fmt.Sprintf("only %s-%s", now.Add(time.Duration(from)*time.Hour).Format("15:00"), now.Add(time.Duration(until)*time.Hour).Format("15:00"))}
	}
	b := newBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"tickets-db"}, Store: "quay-shelf", Windows: hours(-1, 1)}})
	wait := func(cause run.Cause, missed bool) runs.Wait {
		t.Helper()
		b.save()
		body, err := json.Marshal(Request{Missed: missed})
		require.NoError(t, err)
		w, err := b.pl.WaitForWindow(ctx, records.Run{ID: "first000", Policy: "nightly-guests", Cause: cause, Request: body})
		require.NoError(t, err)
		return w
	}
	require.Zero(t, wait(run.Schedule, false))
	far := b.site.Hypervisors["quay-2"]
	far.Windows = hours(6, 8)
	b.site.Hypervisors["quay-2"] = far
	require.Zero(t, wait(run.Schedule, false), "none of its machines is there")
	p := b.site.Policies["nightly-guests"]
	p.Windows = hours(4, 6)
	b.site.Policies["nightly-guests"] = p
	w := wait(run.Chain, false)
	opens := now.Add(4 * time.Hour).Truncate(time.Hour)
	require.True(t, w.Until.Equal(opens), "%s, not %s", w.Until, opens)
	require.Equal(t, "the window opens at "+opens.Format("15:04 on 2006-01-02"), w.Why)
	require.Zero(t, wait(run.Hand, false))
	w = wait(run.Schedule, true)
	require.Equal(t, "its moment was missed, for no service ran, and the windows of nightly-guests, its store are not open at once now", w.Skip)
	p.Machines = []string{"*"}
	b.site.Policies["nightly-guests"] = p
	w = wait(run.Schedule, false)
	require.Contains(t, w.Skip, "its store and hypervisor quay-2 are not open at once now, and never will be")
	hosts, err := b.pl.HostsOf(ctx, b.site, "nightly-guests")
	require.NoError(t, err)
	require.Equal(t, []string{"quay-2"}, hosts)
	require.Empty(t, AndHosts(nil))
}

// A run's end starts the policies that come after it: well or anyway, but for paused ones and for what was skipped.
func TestFollowersAndPauses(t *testing.T) {
	ctx := t.Context()
	after := func(when string) site.Policy {
		return site.Policy{Machines: []string{"*"}, Store: "quay-shelf", Schedules: []site.Schedule{{When: "every day at 23:00"}, {When: when, Capture: image.Full, Note: "chained"}}}
	}
	// A phrase that this version can't read, which another may have let in, does not keep the next from being read.
	odd := after("after nightly-guests in any case")
	odd.Schedules = append([]site.Schedule{{When: "after"}}, odd.Schedules...)
	boot := after("at boot")
	boot.Schedules = append(boot.Schedules, site.Schedule{When: "at boot", Note: "a second time"})
	b := newBench(t, map[string]site.Policy{"nightly-guests": boot, "well": after(" after nightly-guests"), "anyway": odd, "other": after("after well")})
	followers := func(state run.State) (out []string) {
		all, err := b.pl.Followers(ctx, records.Run{Policy: "nightly-guests"}, state)
		require.NoError(t, err)
		for _, r := range all {
			require.Equal(t, []any{run.Chain, run.Backup, "chained"}, []any{r.Cause, r.Kind, r.Note})
			require.Contains(t, string(r.Request), `"capture":"full"`)
			out = append(out, r.Policy+" "+string(r.State))
		}
		return out
	}
	require.Equal(t, []string{"anyway queued", "well queued"}, followers(run.Done))
	require.Equal(t, []string{"anyway queued", "well queued"}, followers(run.Warned))
	require.Equal(t, []string{"anyway queued"}, followers(run.Failed))
	require.Empty(t, followers(run.Skipped))
	p, err := b.pl.Pause(ctx, "well", "operator", "harbour upgrade", time.Now().Add(time.Hour))
	require.NoError(t, err)
	require.Equal(t, "operator", p.By)
	require.Equal(t, []string{"anyway queued", "well skipped"}, followers(run.Done))
	require.NoError(t, b.pl.Resume(ctx, "well"))
	require.Equal(t, []string{"anyway queued", "well queued"}, followers(run.Done))
	require.ErrorIs(t, b.pl.Resume(ctx, "well"), fault.ErrConflict)
	require.ErrorContains(t, b.pl.Resume(ctx, "wel"), `did you mean "well"?`)
	_, err = b.pl.Pause(ctx, "well", "operator", "", time.Now().Add(-time.Second))
	require.ErrorIs(t, err, fault.ErrInvalid)
	_, err = b.pl.Pause(ctx, "wel", "operator", "", time.Time{})
	require.ErrorIs(t, err, fault.ErrNotFound)

	// Once for each boot of a host.
	booted := func() []records.Run {
		require.NoError(t, b.pl.Boot(ctx))
		all, err := b.rec.Runs(ctx, records.RunFilter{})
		require.NoError(t, err)
		return all
	}
	all := booted()
	require.Len(t, all, 1)
	require.Equal(t, []any{run.Boot, "nightly-guests"}, []any{all[0].Cause, all[0].Policy})
	require.Len(t, booted(), 1)
}

// The scheduler fires what is due once, and brings moments back that another clock set too far ahead.
func TestSchedule(t *testing.T) {
	b := newBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"*"}, Store: "quay-shelf", Schedules: []site.Schedule{{When: "every day at 23:00"}}}},
		"next moments of policies were brought back")
	far := time.Now().AddDate(1, 0, 0)
	require.NoError(t, b.rec.SaveSite(t.Context(), b.site, func(site.Policy) time.Time { return far }, nil))
	set := func(at time.Time) {
		_, err := b.rec.Pool().Exec(t.Context(), "update policies set next_due = $1", at)
		require.NoError(t, err)
	}
	set(far)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- b.pl.Schedule(ctx) }()
	due := func() time.Time {
		standings, err := b.rec.PolicyStandings(t.Context())
		require.NoError(t, err)
		return *standings[0].NextDue
	}
	require.Eventually(t, func() bool { return due().Before(time.Now().AddDate(0, 0, 2)) }, 10*time.Second, 30*time.Millisecond)
	soon := time.Now().Add(300 * time.Millisecond)
	set(soon)
	all := func() []records.Run {
		r, err := b.rec.Runs(t.Context(), records.RunFilter{})
		require.NoError(t, err)
		return r
	}
	require.Eventually(t, func() bool { return len(all()) == 1 }, 10*time.Second, 30*time.Millisecond)
	require.WithinDuration(t, soon, *all()[0].Due, time.Millisecond)
	require.True(t, due().After(time.Now()))
	cancel()
	require.ErrorIs(t, <-done, context.Canceled)
}

// A forecast plays what is known: sets, sizes, pauses, the store's room; a calendar has what was and what comes.
func TestForecastAndCalendar(t *testing.T) {
	ctx := t.Context()
	nightly := site.Policy{Machines: []string{"*"}, Store: "quay-shelf", Rotation: "newest 5", Cycle: "full every 7th", Schedules: []site.Schedule{{When: "every day at 23:00"}}}
	paused, other := nightly, nightly
	paused.Machines = []string{"timetable"}
	b := newBench(t, map[string]site.Policy{"nightly-guests": nightly, "paused": paused, "other": other})
	now := time.Now()
	for i := range 8 {
		m := records.Image{ID: fmt.Sprint("image00", i), Machine: "tickets-db", MachineID: "u-tickets-db", Policy: "nightly-guests", Store: "quay-shelf", Taken: now.AddDate(0, 0, -8+i), Scope: image.WholeMachine,
			Capture: image.Incremental, Disks: []records.ImageDisk{}, Stored: int64(10+i) << 20, Took: int64(time.Duration(i+1) * time.Minute)}
		if i == 0 {
			m.Capture, m.Stored = image.Full, 2<<30
		}
		require.NoError(t, b.rec.AddImage(ctx, m))
		if i < 7 {
			require.NoError(t, b.rec.FinishImage(ctx, m))
		}
	}
	recordstest.Break(t, b.rec, "image006")
	require.NoError(t, b.rec.DropImages(ctx, []records.Drop{{ID: "image000", Why: "for the test"}}))
	known, err := b.pl.experience(ctx, b.site)
	require.NoError(t, err)
	policy, guessed, err := known.policy(b.site, "nightly-guests")
	require.NoError(t, err)
	require.Len(t, policy.Sets, 2)
	require.Equal(t, []string{"nightly-guests of timetable"}, guessed)
	set := policy.Sets[0]
	require.Equal(t, []any{"tickets-db", "quay-1"}, []any{set.Machine, set.Hypervisor})
	require.Len(t, set.Images, 5, "neither what is gone nor what is broken")
	require.Equal(t, "image001", set.Images[0].ID)
	require.Len(t, set.Made, 7, "the cycle counts on from what is gone")
	require.True(t, set.Made[0].Full)
	require.EqualValues(t, 2<<30, set.Full.Likely)
	require.Equal(t, 4*time.Minute, set.Took, "the middle one")
	require.Len(t, policy.Hours, 4)

	_, err = b.pl.Pause(ctx, "paused", "operator", "", time.Time{})
	require.NoError(t, err)
	f, err := b.pl.Forecast(ctx, []string{"nightly-guests", "paused"}, 3)
	require.NoError(t, err)
	require.Equal(t, "Europe/Lisbon", f.Zone)
	require.Equal(t, now.In(lisbon(t)).Format(time.DateOnly), f.From)
	require.Len(t, f.Policies, 2)
	require.Len(t, f.Stores, 1)
	runsOf := map[string]int{}
	for _, p := range f.Policies {
		for _, d := range p.Days {
			runsOf[p.Policy] += len(d.Runs)
		}
	}
	require.GreaterOrEqual(t, runsOf["nightly-guests"], 2)
	require.Zero(t, runsOf["paused"])
	require.NotContains(t, f.Guessed, "other of timetable")
	all, err := b.pl.Forecast(ctx, nil, 1)
	require.NoError(t, err)
	require.Len(t, all.Policies, 3)
	for _, days := range []int{0, mostDays + 1} {
		_, err = b.pl.Forecast(ctx, nil, days)
		require.ErrorIs(t, err, fault.ErrInvalid)
	}
	_, err = b.pl.Forecast(ctx, nil, mostDays)
	require.NoError(t, err)
	_, err = b.pl.Forecast(ctx, []string{"nightly"}, 3)
	require.ErrorIs(t, err, fault.ErrNotFound)

	require.NoError(t, b.rec.QueueRun(ctx, records.Run{ID: "first000", Kind: run.Backup, Policy: "nightly-guests", Cause: run.Hand, Who: "operator"}))
	require.NoError(t, b.rec.QueueRun(ctx, records.Run{ID: "other000", Kind: run.Sweep, Cause: run.Hand}))
	entries, err := b.pl.Calendar(ctx)
	require.NoError(t, err)
	var was, comes int
	for _, e := range entries {
		if e.Coming {
			comes++
			require.False(t, e.From.Before(now))
			require.False(t, e.Until.Before(e.From))
			continue
		}
		was++
		require.Equal(t, "nightly-guests: queued", e.Title)
		require.Equal(t, "run first000, started by operator", e.Text)
	}
	require.Equal(t, 1, was)
	require.GreaterOrEqual(t, comes, 60, "two policies, a month")
	began, ended := now.Add(-time.Hour), now.Add(-time.Minute)
	e := pastEntry(records.Run{ID: "second00", Policy: "p", State: run.Failed, Cause: run.Schedule, Made: now.Add(-2 * time.Hour), Started: &began, Ended: &ended, Error: "no room",
		Tasks: []records.Task{{Machine: "timetable", State: run.Failed, Error: "its disk is on fire"}, {Machine: "tickets-db", State: run.Done}}}, now)
	require.Equal(t, Entry{ID: "second00", Title: "p: failed", From: began, Until: ended, Text: "run second00, started by schedule\ntimetable: failed: its disk is on fire\ntickets-db: done\nno room"}, e)
	require.Equal(t, now, pastEntry(records.Run{}, now).Until)
}

// A scheduler that can't reach its database says so, each time, and goes on.
func TestScheduleWithoutItsDatabase(t *testing.T) {
	b := newBench(t, nil, "the scheduler could not go through the policies", "the scheduler could not look for what is due")
	b.rec.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, b.pl.Schedule(ctx), context.DeadlineExceeded)
}
