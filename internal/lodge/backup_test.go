package lodge_test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/restore"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

// A run makes an image of each machine that the policy covers, whose content is the disks', and leaves nothing behind.
func TestARunMakesImages(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, r.Tasks, 2)
	require.Equal(t, records.RunFigures{Machines: 2, Moved: r.Tasks[0].Done + r.Tasks[1].Done, Stored: r.Tasks[0].Stored + r.Tasks[1].Stored}, r.Figures)
	for name, id := range map[string]string{"tickets-db": "u-tickets", "timetable": "u-timetable"} {
		images := b.images(id)
		require.Len(t, images, 1)
		require.Equal(t, image.FileSystem, images[0].Consistency)
		require.Equal(t, name, images[0].Machine)
		for target, want := range b.host.Look(name).Disks {
			require.True(t, bytes.Equal(want, b.content(images[0].ID, target)), "%s of %s", target, name)
		}
		b.clean(name, 0)
	}
	again := b.run("nightly-guests")
	require.EqualValues(t, run.Done, again.State)
	require.Zero(t, again.Tasks[0].Stored+again.Tasks[1].Stored, "what is there already is not stored again")
}

// Increments build on the newest image; whatever comes in between, what comes out is the disk.
func TestIncrements(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"hourly-tickets": growing("tickets-db", "newest 9")})
	same := func() {
		t.Helper()
		newest := b.images("u-tickets")[0]
		for target, want := range b.host.Look("tickets-db").Disks {
			require.True(t, bytes.Equal(want, b.content(newest.ID, target)), target)
		}
	}
	b.run("hourly-tickets")
	b.host.Write("tickets-db", "vda", 3*mib, []byte("a booking"))
	r := b.run("hourly-tickets")
	same()
	require.Less(t, r.Tasks[0].Done, int64(mib), "only what changed is read")
	require.Equal(t, []image.Capture{image.Incremental, image.Full}, captures(b.images("u-tickets")))
	b.clean("tickets-db", 1)

	for _, c := range []struct {
		what, why string
		do        func()
	}{
		{"its checkpoint is lost", "is not there any more", func() {
			b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.Checkpoints = nil })
			b.loseCheckpoints()
		}},
		{"a disk grew", "its size changed from 4.0 MiB to 5.0 MiB", func() {
			b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.Disks["vda"] = append(g.Disks["vda"], make([]byte, mib)...) })
		}},
		{"the newest image is gone from the store", "is not in the store any more", func() {
			b.shelf().Poke("image/"+b.images("u-tickets")[0].ID, nil)
		}},
		{"the hypervisor is wrong about what changed", "it changed where the hypervisor says that it did not", func() {
			b.host.Change("tickets-db", func(g *sourcetest.Guest) {
				for i := range g.Disks["vda"][:2*mib] {
					g.Disks["vda"][i] ^= 0x5a // behind its back
				}
			})
		}},
	} {
		t.Run(c.what, func(t *testing.T) {
			c.do()
			r := b.run("hourly-tickets")
			require.Contains(t, []run.State{run.Done, run.Warned}, r.State, b.lines(r.ID))
			require.Contains(t, b.lines(r.ID), c.why)
			same()
			b.clean("tickets-db", 2)
		})
	}
}

// loseCheckpoints makes the fake forget what changed since any.
func (b *bench) loseCheckpoints() {
	disks, tags := b.host.Look("tickets-db").Disks, b.host.Look("tickets-db").Tags
	b.host.Add("tickets-db", "u-tickets", tags, disks)
}

// No more tasks are under way at once than the site allows, and each says what it waits for.
func TestLimits(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	for i := range 6 {
		b.guest(fmt.Sprint("crew-rota-", i), fmt.Sprint("u-crew-", i), nil, 1)
	}
	h := b.site.Hypervisors["quay-1"]
	h.TasksAtOnce = 2
	b.site.Hypervisors["quay-1"] = h
	b.apply()
	hold := make(chan struct{})
	b.host.SetFault(func(call, _ string) error {
		if call == "read" {
			<-hold
		}
		return nil
	})
	r, err := b.l.RunPolicy(t.Context(), "nightly-guests", "operator", "")
	require.NoError(t, err)
	b.until(func() bool {
		r, err = b.rec.Run(t.Context(), r.ID)
		require.NoError(t, err)
		waiting := 0
		for _, task := range r.Tasks {
			if task.Why == "hypervisor quay-1 has its 2 tasks at once" {
				waiting++
			}
		}
		return waiting == 6
	}, "six that wait")
	close(hold)
	r = b.await(r.ID)
	require.EqualValues(t, run.Done, r.State)
	require.Equal(t, 2, b.host.MostOpen)
}

// After a run a set is rotated that gained an image, and no other; what failed its proof rotates nothing.
func TestRotationAfterARun(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 2")})
	for range 4 {
		b.run("nightly-guests")
	}
	require.Len(t, b.images("u-tickets"), 2)
	b.host.SetFault(func(call, guest string) error {
		if call == "capture" && guest == "tickets-db" {
			return errors.New("its disk is on fire")
		}
		return nil
	})
	before := b.images("u-tickets")
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Equal(t, before, b.images("u-tickets"), "it gained none, so none goes")
	require.Len(t, b.images("u-timetable"), 2)
	b.host.SetFault(nil)

	p := b.site.Policies["nightly-guests"]
	p.Prove = image.ByRead
	b.site.Policies["nightly-guests"] = p
	b.apply()
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, image.ByRead, b.images("u-tickets")[0].Proven)
	for _, name := range b.shelf().Names("pack/") {
		body := b.shelf().Peek(name)
		for i := len(body) / 4; i < len(body)/2; i++ {
			body[i] ^= 0xff
		}
		b.shelf().Poke(name, body)
	}
	ids := func() (out []string) {
		for _, m := range append(b.images("u-tickets"), b.images("u-timetable")...) {
			out = append(out, m.ID)
		}
		return out
	}
	were := ids()
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Warned, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "did not pass its proof, so nothing is rotated")
	require.Subset(t, ids(), were)
}

// A rule that would drop too much at once is held back until a person confirms what goes.
func TestTheGuard(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 20")})
	for range 8 {
		b.run("nightly-guests")
	}
	p := b.site.Policies["nightly-guests"]
	p.Rotation = "newest 1"
	b.site.Policies["nightly-guests"] = p
	applied, err := b.l.Apply(t.Context(), b.site, true)
	require.NoError(t, err)
	require.Len(t, applied.Rotation, 2)
	require.Contains(t, applied.Rotation[0], `policy nightly-guests, machine tickets-db: "newest 1" drops 7 of 8 images (`)
	require.Contains(t, applied.Rotation[0], `"newest 20" would drop 0; the guard would hold that back`)
	b.apply()
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Warned, r.State)
	require.Len(t, b.images("u-tickets"), 9, "nothing was dropped")
	standing, err := b.l.Summary(t.Context(), right.Everything)
	require.NoError(t, err)
	require.Equal(t, 1, standing.Held)
	preview, _, err := b.l.Retention.Preview(t.Context(), "nightly-guests", "", "", 0)
	require.NoError(t, err)
	var drops []string
	for _, s := range preview {
		require.NotEmpty(t, s.Guard)
		for _, m := range s.Images {
			if m.Verdict == "drop" {
				drops = append(drops, m.ID)
			}
		}
	}
	_, err = b.l.Retention.Confirm(t.Context(), "nightly-guests", drops[1:])
	require.ErrorContains(t, err, "what goes has changed since it was looked at")
	gone, err := b.l.Retention.Confirm(t.Context(), "nightly-guests", drops)
	require.NoError(t, err)
	require.Len(t, gone, len(drops))
	require.Len(t, b.images("u-tickets"), 1)
}

// What a process that died left is ended, cleared and, where it was whole, kept.
func TestOrphans(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	whole := b.run("nightly-guests").Tasks[0]
	b.stop()
	ctx := t.Context()
	// As a process leaves it that is killed in the middle: its lock is gone, its run goes on in the records.
	require.NoError(t, b.rec.QueueRun(ctx, records.Run{ID: "orphan00", Kind: run.Backup, Policy: "nightly-guests", Cause: run.Hand}))
	_, err := b.rec.BeginRun(ctx, "orphan00", 424242)
	require.NoError(t, err)
	dying, err := source.Dial(ctx, b.site.Hypervisors["quay-1"])
	require.NoError(t, err)
	capturer, err := source.As[source.Capturer](dying, "capture")
	require.NoError(t, err)
	b.host.SetFault(func(call, _ string) error {
		if call == "frozen" {
			return errors.New("killed")
		}
		return nil
	})
	_, err = capturer.Capture(ctx, source.Request{Machine: "tickets-db", ID: "imgorphan0", Quiesce: machine.Required, Checkpoint: true})
	require.ErrorContains(t, err, "killed")
	b.host.SetFault(nil)
	require.True(t, b.host.Look("tickets-db").Frozen)
	require.NoError(t, b.rec.AddImage(ctx, records.Image{ID: "imgorphan0", Machine: "tickets-db", MachineID: "u-tickets", Policy: "nightly-guests", Store: "quay-shelf", Run: "orphan00", Taken: time.Now(), Scope: image.WholeMachine, Capture: image.Full}))
	now := time.Now()
	for _, task := range []records.Task{
		{Machine: "tickets-db", MachineID: "u-tickets", Guest: "tickets-db", Image: "imgorphan0"},
		{Machine: "timetable", MachineID: "u-timetable", Guest: "timetable", Image: whole.Image},
	} {
		task.Run, task.Hypervisor = "orphan00", "quay-1"
		task, err := b.rec.AddTask(ctx, task)
		require.NoError(t, err)
		task.State, task.Started, task.NeedsCleanup = run.Running, &now, task.Image == "imgorphan0"
		if task.NeedsCleanup {
			task.Owed = []string{"tickets"}
		}
		require.NoError(t, b.rec.SaveTask(ctx, task))
	}

	b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.Commands["/etc/keenlodge/commands/tickets after"] = 0 })
	b.start()
	r := b.await("orphan00")
	require.EqualValues(t, run.Failed, r.State)
	require.Equal(t, []run.State{run.Failed, run.Done}, []run.State{r.Tasks[0].State, r.Tasks[1].State})
	require.Contains(t, b.lines(r.ID), "cleared: an open capture")
	require.Contains(t, b.lines(r.ID), "image "+whole.Image+" was complete when the service ended")
	b.until(func() bool { return !b.host.Look("tickets-db").Frozen }, "the thaw")
	b.until(func() bool {
		return slices.Contains(b.host.Look("tickets-db").Called, "/etc/keenlodge/commands/tickets after")
	}, "that what was at rest goes on")
	b.clean("tickets-db", 0)
	_, err = b.rec.Image(ctx, "imgorphan0")
	require.Error(t, err, "an image that did not come to be is forgotten")
	require.EqualValues(t, run.Done, b.run("nightly-guests").State, "the next run is not in the way of anything")
}

// A capture that a dead process left open, or that begins only after its caller died, is in no run's way. One of another lodge is.
func TestACaptureThatWasLeftOpen(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 3"}})
	first := b.run("nightly-guests").Tasks[0]
	b.host.Change("timetable", func(g *sourcetest.Guest) { g.Job = first.Image })
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	b.clean("timetable", 1)
	b.host.Change("timetable", func(g *sourcetest.Guest) { g.Job = "strangers0" })
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "capture strangers0 is open")
	require.Equal(t, "strangers0", b.host.Look("timetable").Job)
}

// A machine that is not the active one of its pair is skipped; one that is not in health is not captured, or captured with a warning.
func TestChecks(t *testing.T) {
	t.Parallel()
	p := everything("newest 3")
	p.Checks = []site.Health{{Command: []string{"/bin/ledger", "check"}}, {Free: 99, Else: "warn"}}
	p.Active = &site.Active{Tags: "role=database"}
	b := newBench(t, map[string]site.Policy{"nightly-guests": p})
	b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.Commands["/bin/ledger check"] = 0 })
	r := b.run("nightly-guests")
	require.Equal(t, []run.State{run.Warned, run.Skipped}, []run.State{r.Tasks[0].State, r.Tasks[1].State}, b.lines(r.ID))
	require.Contains(t, r.Tasks[1].Why, "it is not the active member of its pair")
	require.Contains(t, strings.Join(r.Tasks[0].Warnings, " "), "has 60 % free, less than 99 %")
	b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.Commands["/bin/ledger check"] = 4 })
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "the guest did not pass its check: command /bin/ledger check: it ended with 4: as it was told")
	require.Len(t, b.images("u-tickets"), 1)
	b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.State = machine.Off })
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.Tasks[0].State, "nothing in a machine that is off can be asked: %s", b.lines(r.ID))
	require.Equal(t, image.Off, b.images("u-tickets")[0].Consistency)
}

// Applications come to rest before a guest's file systems do, and go on afterwards whatever happens; an image is as the application wants it only
// where all of that held.
func TestApplications(t *testing.T) {
	t.Parallel()
	p := site.Policy{Machines: []string{"tickets-db"}, Store: "quay-shelf", Rotation: "newest 9", Cycle: "full once", Quiesce: machine.Preferred, Applications: []site.Application{{Name: "tickets"}, {Name: "ledger"}}}
	b := newBench(t, map[string]site.Policy{"nightly-guests": p})
	command := func(name, word string, code int) {
		b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.Commands[site.CommandFolder+"/"+name+" "+word] = code })
	}
	called := func() (out []string) {
		b.host.Change("tickets-db", func(g *sourcetest.Guest) {
			for _, c := range g.Called {
				out = append(out, strings.TrimPrefix(c, site.CommandFolder+"/"))
			}
			g.Called = nil
		})
		return out
	}
	for _, name := range []string{"tickets", "ledger"} {
		command(name, "before", 0)
		command(name, "after", 0)
	}
	all := []string{"tickets before", "ledger before", "ledger after", "tickets after"}
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	m := b.images("u-tickets")[0]
	require.Equal(t, image.Application, m.Consistency)
	require.Len(t, m.Rested, 2)
	require.Equal(t, all, called())

	command("ledger", "before", 7)
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Warned, r.State)
	require.Contains(t, r.Tasks[0].Warnings[0], "application ledger, before: it ended with 7")
	require.Equal(t, image.FileSystem, b.images("u-tickets")[0].Consistency)
	require.Equal(t, all, called())

	p.Quiesce = machine.Required
	b.site.Policies["nightly-guests"] = p
	b.apply()
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Equal(t, all, called())
	require.Len(t, b.images("u-tickets"), 2)

	// One that does not go on is told so until it does; a capture that fails after the freeze has all of them go on.
	command("ledger", "before", 0)
	command("tickets", "after", 5)
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Warned, r.State, b.lines(r.ID))
	require.Equal(t, image.FileSystem, b.images("u-tickets")[0].Consistency)
	require.Contains(t, b.images("u-tickets")[0].Rested[0].Failed, "it ended with 5")
	command("tickets", "after", 0)
	called()
	b.until(func() bool { return slices.Contains(called(), "tickets after") }, "that it goes on")
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, image.Incremental, b.images("u-tickets")[0].Capture, "nothing else of the image before was cleared")
	called()

	command("ledger", "before", 0)
	b.host.SetFault(func(call, _ string) error {
		if call == "read" {
			return errors.New("the disk is gone")
		}
		return nil
	})
	called()
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Equal(t, all, called())
}

// What may pass by itself is tried again, and leaves nothing in between; what will not pass is not.
func TestRetries(t *testing.T) {
	t.Parallel()
	p := everything("newest 3")
	p.Machines, p.Retries, p.RetryWait = []string{"timetable"}, 2, "1 second"
	b := newBench(t, map[string]site.Policy{"nightly-guests": p})
	var n atomic.Int32
	b.host.SetFault(func(call, _ string) error {
		if call == "read" && n.Add(1) <= 1 {
			return fmt.Errorf("the line to quay-1 %w", source.ErrUnreachable)
		}
		return nil
	})
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, 2, r.Tasks[0].Tries)
	require.Contains(t, b.lines(r.ID), "warning timetable: try 1 of 3 failed")
	b.clean("timetable", 0)
	require.Len(t, b.images("u-timetable"), 1, "the failed try left none")
	b.host.SetFault(func(call, _ string) error {
		if call == "capture" {
			n.Add(1)
			return errors.New("no such disk")
		}
		return nil
	})
	n.Store(0)
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.EqualValues(t, 1, n.Load())
	b.host.SetFault(func(call, _ string) error {
		if call == "dial" {
			return fmt.Errorf("quay-1 %w", source.ErrUnreachable)
		}
		return nil
	})
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Error, "machine timetable can't be backed up")
	require.Contains(t, b.lines(r.ID), "try 2 of 3 failed")
}

// Moments that came are run, once each; a policy after another follows it; one that is paused is skipped and says so.
func TestDueMomentsAndChains(t *testing.T) {
	t.Parallel()
	first, after := everything("newest 3"), everything("newest 3")
	first.Machines, after.Machines = []string{"timetable"}, []string{"tickets-db"}
	first.Schedules = []site.Schedule{{When: "every day at 23:00"}}
	after.Schedules = []site.Schedule{{When: " after nightly-guests"}}
	b := newBench(t, map[string]site.Policy{"nightly-guests": first, "weekly-system": after})
	due := time.Now().Add(-time.Second)
	set := func() {
		t.Helper()
		_, err := b.rec.Pool().Exec(t.Context(), "update policies set next_due = $1 where name = 'nightly-guests'", due)
		require.NoError(t, err)
	}
	set()
	b.until(func() bool { return len(b.images("u-tickets")) == 1 }, "the chained image")
	require.Equal(t, run.Schedule, b.newest("nightly-guests").Cause)
	require.Equal(t, run.Chain, b.newest("weekly-system").Cause)
	set() // the same moment again: a moment has one run
	b.until(func() bool {
		standings, err := b.rec.PolicyStandings(t.Context())
		require.NoError(t, err)
		return standings[0].NextDue.After(time.Now())
	}, "the next moment")
	runs, err := b.rec.Runs(t.Context(), records.RunFilter{Policy: "nightly-guests"})
	require.NoError(t, err)
	require.Len(t, runs, 1)
	_, err = b.l.Planning.Pause(t.Context(), "nightly-guests", "operator", "harbour upgrade", time.Time{})
	require.NoError(t, err)
	due = due.Add(time.Millisecond)
	set()
	b.until(func() bool { return b.newest("nightly-guests").State == run.Skipped }, "the skipped run")
	require.Equal(t, "it is paused: harbour upgrade", b.newest("nightly-guests").Error)
	_, err = b.l.RunPolicy(t.Context(), "nightly-guests", "operator", "")
	require.ErrorContains(t, err, "is paused: harbour upgrade; resume it first")
	standing, err := b.l.Summary(t.Context(), right.Everything)
	require.NoError(t, err)
	require.Nil(t, standing.Next, "what is paused does not run next")
	require.NoError(t, b.l.Planning.Resume(t.Context(), "nightly-guests"))
}

// A source that does not answer keeps only its own machines from being captured.
func TestASilentSource(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	other := sourcetest.Named(t.Name() + "/pier-2")
	other.Add("crew-rota", "u-crew", nil, b.host.Look("timetable").Disks)
	b.site.Hypervisors["pier-2"] = site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name() + "/pier-2"}
	b.apply()
	other.SetFault(func(call, _ string) error { return errors.New("the pier is flooded") })
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Error, "machine crew-rota can't be backed up: hypervisor pier-2: the pier is flooded")
	standing, err := b.l.Summary(t.Context(), right.Everything)
	require.NoError(t, err)
	require.Len(t, standing.Notices, 1)
	require.Contains(t, standing.Notices[0].Text, "the pier is flooded")
	require.Len(t, r.Tasks, 2)
	require.Len(t, b.images("u-tickets"), 1)
}

// A run that somebody cancels thaws and clears at once.
func TestCancel(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	reading := make(chan struct{})
	release := make(chan struct{})
	var once sync.Once
	b.host.SetFault(func(call, _ string) error {
		if call == "read" {
			once.Do(func() { close(reading) })
			<-release
		}
		return nil
	})
	r, err := b.l.RunPolicy(t.Context(), "nightly-guests", "operator", "")
	require.NoError(t, err)
	<-reading
	_, err = b.l.Runs.Cancel(t.Context(), r.ID, "operator", "the ferry sails")
	require.NoError(t, err)
	b.until(func() bool {
		r, err = b.rec.Run(t.Context(), r.ID)
		require.NoError(t, err)
		return r.Cancel != ""
	}, "the wish")
	b.l.Runs.HeedCancel(r) // the word of it may be on its way still, and what is read here is read in no time
	close(release)
	r = b.await(r.ID)
	require.EqualValues(t, run.Cancelled, r.State)
	require.Equal(t, "cancelled by operator: the ferry sails", r.Error)
	b.clean("tickets-db", 0)
	b.clean("timetable", 0)
	require.Empty(t, b.images("u-tickets"))
	_, err = b.l.Runs.Cancel(t.Context(), r.ID, "operator", "")
	require.ErrorContains(t, err, "is over already")
}

// Hooks are called at their moments with what they need to know; one that is to fail what it was called for does.
func TestHooks(t *testing.T) {
	t.Parallel()
	p := everything("newest 3")
	p.Machines = []string{"timetable"}
	hook := script(t, `echo "$KEENLODGE_MOMENT of $KEENLODGE_POLICY, $KEENLODGE_MACHINE $KEENLODGE_STATE"`)
	p.Hooks = []site.Hook{{At: site.Moments, Script: hook}}
	b := newBench(t, map[string]site.Policy{"nightly-guests": p})
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	var told []string
	for line := range strings.Lines(b.lines(r.ID)) {
		if before, text, ok := strings.Cut(strings.TrimSuffix(line, "\n"), " of nightly-guests, "); ok {
			told = append(told, before[strings.LastIndex(before, " ")+1:]+" "+text)
		}
	}
	require.Equal(t, []string{"begun  ", "machine-begun timetable ", "frozen timetable ", "thawed timetable ", "machine-done timetable done", "done  done"}, told, b.lines(r.ID))
	p.Hooks = []site.Hook{{At: []site.Moment{site.MachineBegun}, Script: script(t, "echo no; exit 3"), Else: "fail"}}
	b.site.Policies["nightly-guests"] = p
	b.apply()
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "hook at machine-begun")
	require.Len(t, b.images("u-timetable"), 1)
}

// A rehearsal finds what would go wrong, and writes nothing.
func TestRehearsal(t *testing.T) {
	t.Parallel()
	p := growing("tickets-db", "newest 2")
	b := newBench(t, map[string]site.Policy{"nightly-guests": p})
	b.run("nightly-guests")
	before := b.shelf().Names("")
	rehearse := func(freeze bool) (records.Run, string) {
		r, err := b.l.Rehearsals.Start(t.Context(), "nightly-guests", "operator", wire.RehearseRequest{Freeze: freeze})
		require.NoError(t, err)
		r = b.await(r.ID)
		return r, b.lines(r.ID)
	}
	r, log := rehearse(true)
	require.EqualValues(t, run.Done, r.State, log)
	for _, want := range []string{"✓ store quay-shelf", "✓ selection nightly-guests: tickets-db", "✓ freeze tickets-db", "✓ size tickets-db: incremental image: 0 B would be read", "✓ rotation tickets-db"} {
		require.Contains(t, log, want)
	}
	require.Equal(t, before, b.shelf().Names(""))
	b.clean("tickets-db", 1)
	b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.Agent = false })
	r, log = rehearse(false)
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, log, "✗ agent tickets-db: guest tickets-db: no agent answers in it")
	require.Contains(t, r.Error, "checks failed; a run would not go well now")
}

// An image is proven, found damaged, and restored as a guest of its own.
func TestProofsAndRestores(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.run("nightly-guests")
	m := b.images("u-tickets")[0]
	r, err := b.l.Restores.Start(t.Context(), "operator", restore.Request{Image: m.ID, As: "tickets-db-again", Start: true})
	require.NoError(t, err)
	r = b.await(r.ID)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, "operator", r.Who)
	again := b.host.Look("tickets-db-again")
	require.Equal(t, b.host.Look("tickets-db").Disks, again.Disks)
	require.Equal(t, machine.Running, again.State)
	_, err = b.l.Restores.Start(t.Context(), "operator", restore.Request{Image: m.ID, As: "tickets-db-again"})
	require.ErrorContains(t, err, "a guest called tickets-db-again exists already")
	b.host.SetFault(func(call, _ string) error {
		if call == "define" {
			return errors.New("the hypervisor will not have it")
		}
		return nil
	})
	made := len(b.host.Restored())
	r, err = b.l.Restores.Start(t.Context(), "operator", restore.Request{Image: m.ID, As: "another"})
	require.NoError(t, err)
	require.EqualValues(t, run.Failed, b.await(r.ID).State)
	require.Len(t, b.host.Restored(), made, "nothing of it stays")

	prove := func() records.Run {
		r, err := b.l.Proofs.Start(t.Context(), "operator", proof.Request{Image: m.ID, Level: image.ByRead})
		require.NoError(t, err)
		return b.await(r.ID)
	}
	r = prove()
	require.EqualValues(t, run.Done, r.State)
	require.Contains(t, b.lines(r.ID), "evidence tickets-db: ")
	_, err = b.l.Proofs.Start(t.Context(), "operator", proof.Request{Image: m.ID, Level: "seance"})
	require.ErrorContains(t, err, `can't prove by "seance"`)
	for _, name := range b.shelf().Names("pack/") {
		body := b.shelf().Peek(name)
		body[len(body)/3] ^= 1
		b.shelf().Poke(name, body)
	}
	r = prove()
	require.EqualValues(t, run.Failed, r.State)
	m, _, err = b.l.Proofs.Of(t.Context(), m.ID)
	require.NoError(t, err)
	require.Equal(t, image.Doubtful, m.State)
	// The service itself reads it a second time, an hour later.
	recordstest.Later(t, b.rec)
	require.NoError(t, b.l.Proofs.ReadAgain(t.Context()))
	b.until(func() bool {
		m, _, err = b.l.Proofs.Of(t.Context(), m.ID)
		require.NoError(t, err)
		return m.State == image.Broken
	}, "the second reading")
	_, err = b.l.Restores.Start(t.Context(), "operator", restore.Request{Image: m.ID, As: "third"})
	require.ErrorContains(t, err, "only a usable image can be restored")
}

// Of an image in an open store that is damaged the guest is made all the same, and it is said.
func TestADamagedImageOfAnOpenStore(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": everything("newest 3")}, func(s *site.Site) {
		s.Stores["quay-shelf"] = site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: folder}}
	})
	b.run("nightly-guests")
	m := b.images("u-tickets")[0]
	restored := func(as string) records.Run {
		r, err := b.l.Restores.Start(t.Context(), "operator", restore.Request{Image: m.ID, As: as})
		require.NoError(t, err)
		return b.await(r.ID)
	}
	r := restored("sound")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	found, err := filepath.Glob(filepath.Join(folder, "tickets-db", "*"+m.ID+"*vda*"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	body, err := os.ReadFile(found[0])
	require.NoError(t, err)
	body[len(body)-100] ^= 1
	require.NoError(t, os.WriteFile(found[0], body, 0o600))
	r = restored("unsound")
	require.EqualValues(t, run.Warned, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "the image is not as it was written, and so the guest may not be, either")
	require.NotNil(t, b.host.Look("unsound"))
}

// A machine that is taken down is not late, is covered by nothing, and its images are kept by a rule of their own.
func TestRetirement(t *testing.T) {
	t.Parallel()
	p := everything("newest 9")
	p.Schedules = []site.Schedule{{When: "every day at 23:00"}}
	b := newBench(t, map[string]site.Policy{"nightly-guests": p})
	standing, err := b.l.Summary(t.Context(), right.Everything)
	require.NoError(t, err)
	require.Equal(t, wire.Some{Count: 2, Names: []string{"tickets-db", "timetable"}}, standing.Late)
	for range 5 {
		b.run("nightly-guests")
	}
	b.host.Remove("timetable")
	_, err = b.l.Inventory.Find(t.Context())
	require.NoError(t, err)
	m, err := b.l.Inventory.Resolve(t.Context(), "timetable")
	require.NoError(t, err)
	require.Equal(t, machine.Gone, m.State)
	sets, err := b.l.Retention.Retire(t.Context(), m, "newest 2", true)
	require.NoError(t, err)
	require.Len(t, sets[0].Images, 5)
	require.Len(t, b.images("u-timetable"), 5, "it was only tried")
	_, err = b.l.Retention.Retire(t.Context(), m, "newest 2", false)
	require.NoError(t, err)
	require.Len(t, b.images("u-timetable"), 2)
	b.until(func() bool {
		standing, err = b.l.Summary(t.Context(), right.Everything)
		require.NoError(t, err)
		return standing.Retired == 1
	}, "the retirement")
	require.Equal(t, 1, standing.Covered)
	require.Zero(t, standing.Late.Count)
	require.EqualValues(t, run.Done, b.run("nightly-guests").State)
	m, err = b.l.Inventory.Resolve(t.Context(), "timetable")
	require.NoError(t, err)
	_, err = b.l.Retention.Retire(t.Context(), m, "newest 1", false)
	require.ErrorContains(t, err, "was retired on")
	require.NoError(t, b.l.Retention.Unretire(t.Context(), m))
	_, err = b.l.Inventory.Resolve(t.Context(), "timetabel")
	require.ErrorContains(t, err, `no machine is called "timetabel"; did you mean "timetable"?`)
}

// A place that is full fails the run with what to do, and takes back what was stored.
func TestAFullStore(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.shelf().Around = func(call, name string, act func() error) error {
		if call == "put" && strings.HasPrefix(name, "pack/") {
			return fmt.Errorf("%s: %w", name, medium.ErrFull)
		}
		return act()
	}
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "no space left")
	require.Empty(t, b.images("u-tickets"))
	b.clean("tickets-db", 0)
}

// A source that can do no more than list and capture is enough for images; what it can't do is refused by name.
func TestASourceThatOnlyCaptures(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.site.Hypervisors["quay-1"] = site.Hypervisor{Kind: sourcetest.BareKind, URI: t.Name()}
	b.apply()
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	m := b.images("u-timetable")[0]
	require.True(t, bytes.Equal(b.host.Look("timetable").Disks["vda"], b.content(m.ID, "vda")))
	_, err := b.l.Restores.Start(t.Context(), "operator", restore.Request{Image: m.ID, As: "timetable-two"})
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, "a source of this kind can't make machines")
}

// A policy may name a machine with its source before it.
func TestAPolicyNamesAMachineWithItsSource(t *testing.T) {
	t.Parallel()
	p := everything("newest 3")
	p.Machines = []string{"quay-1/timetable"}
	b := newBench(t, map[string]site.Policy{"nightly-guests": p})
	r := b.run("nightly-guests")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, r.Tasks, 1)
	require.Equal(t, "timetable", r.Tasks[0].Machine)

	p.Machines = []string{"quay-1/timetabel"}
	b.site.Policies["nightly-guests"] = p
	_, err := b.l.Apply(t.Context(), b.site, false)
	require.ErrorIs(t, err, fault.ErrInvalid)
	require.ErrorContains(t, err, `did you mean "quay-1/timetable"?`)
}

// A policy that is gentle watches a guest's writes before and while it reads it, and says what it found; a guest that is off feels nothing,
// and one that can't be watched is captured all the same, with a warning.
func TestGentle(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"*"}, Store: "quay-shelf", Rotation: "newest 2", Gentle: true}})
	var writes atomic.Int64
	b.host.Change("tickets-db", func(g *sourcetest.Guest) {
		g.WriteTimes = func() (int64, time.Duration) {
			n := writes.Add(100)
			return n, time.Duration(n) * 3 * time.Millisecond
		}
	})
	b.host.Change("timetable", func(g *sourcetest.Guest) { g.State = machine.Off })
	r := b.run("nightly-guests")
	require.Equal(t, run.Done, r.State, r.Error)
	require.Equal(t, 1, strings.Count(b.lines(r.ID), "read gently: a write of the guest's took 3ms before"))
	require.Equal(t, 1, strings.Count(b.lines(r.ID), "watching its writes"), "one that is off is not watched")

	b.host.SetFault(func(call, guest string) error {
		if call == "write times" && guest == "tickets-db" {
			return errors.New("the counters are gone")
		}
		return nil
	})
	r = b.run("nightly-guests")
	require.Equal(t, run.Warned, r.State)
	require.Contains(t, strings.Join(append(r.Tasks[0].Warnings, r.Tasks[1].Warnings...), " "), "it was read as fast as it went: the counters are gone")
	require.Len(t, b.images("u-tickets"), 2)
}
