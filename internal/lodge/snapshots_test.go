package lodge_test

import (
	"bytes"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/inplace"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/standin"
	"keenlodge/internal/standin/islet"
	"keenlodge/internal/standin/skerry"
	"keenlodge/internal/standin/standintest"
	"keenlodge/internal/wire"
)

// isle is a lodge with a hypervisor islet-3, on which lighthouse runs.
type isle struct {
	*bench
	host  *standintest.Standin
	guest string
}

func newIsle(t *testing.T, policies map[string]site.Policy) *isle {
	t.Helper()
	s := standintest.Start(t, islet.Kind, standin.Options{})
	var g islet.Guest
	s.Must(http.MethodPost, "/guests", islet.Guest{Name: "lighthouse", Build: islet.Build{Memory: 256 << 20, CPUs: 1}, Disks: []islet.Disk{{Target: "vda", Volume: s.Bring("lighthouse-vda", standintest.EmptyDisk(t, "16M"))}}}, &g)
	require.NoError(t, s.Task(t.Context(), time.Minute, http.MethodPost, "/guests/"+g.ID+"/power", "on", nil))
	return &isle{newBenchWith(t, policies, func(p *site.Site) { p.Hypervisors["islet-3"] = s.Site }), s, g.ID}
}

// write has the guest write a MiB of one byte at the beginning of its disk.
func (i *isle) write(fill byte) {
	i.t.Helper()
	body := bytes.Repeat([]byte{fill}, 1<<20)
	require.NoError(i.t, i.host.Send(i.t.Context(), http.MethodPut, "/inside/"+i.guest+"/vda?at=0", int64(len(body)), bytes.NewReader(body), nil))
}

// there are the snapshots that the hypervisor has.
func (i *isle) there() (out []islet.Snapshot) {
	i.host.Must(http.MethodGet, "/guests/"+i.guest+"/snapshots", nil, &out)
	return out
}

// listed lists the snapshots that are recorded.
func (i *isle) listed(f wire.SnapshotFilter) []wire.Snapshot {
	i.t.Helper()
	found, err := i.l.Snapshots.List(i.t.Context(), right.Within{All: true}, f)
	require.NoError(i.t, err)
	return found
}

// byHand awaits a run by hand that ends well.
func (i *isle) byHand(r wire.Run, err error) {
	i.t.Helper()
	require.NoError(i.t, err)
	done := i.await(r.ID)
	require.EqualValues(i.t, run.Done, done.State, i.lines(r.ID))
}

var light = site.Policy{Machines: []string{"lighthouse"}, Scope: image.InPlace, Rotation: "newest 2"}

// A policy of scope inplace keeps snapshots, which rotate by its phrase; they are no copy, so the machine is not covered by it. What others made is
// listed, and never touched.
func TestSnapshotsInPlace(t *testing.T) {
	t.Parallel()
	i := newIsle(t, map[string]site.Policy{"hourly-light": light})
	require.NoError(t, i.host.Task(t.Context(), time.Minute, http.MethodPost, "/guests/"+i.guest+"/snapshots", map[string]string{"name": "the keeper's own"}, nil))
	require.NoError(t, i.host.Task(t.Context(), time.Minute, http.MethodPost, "/guests/"+i.guest+"/snapshots", map[string]string{"name": "keenlodge-in-place-abcdefghij"}, nil))
	for n := range 4 {
		i.write(byte(n))
		r := i.run("hourly-light")
		require.EqualValues(t, run.Done, r.State, i.lines(r.ID))
	}
	found := i.listed(wire.SnapshotFilter{})
	require.Len(t, found, 2)
	require.Equal(t, []any{"lighthouse", "hourly-light", image.FileSystem, inplace.Kept}, []any{found[0].Machine, found[0].Policy, found[0].Consistency, found[0].State})
	require.Len(t, i.there(), 4, "two of ours, and two of others")
	require.Len(t, i.listed(wire.SnapshotFilter{Gone: true}), 4)
	others := i.listed(wire.SnapshotFilter{Machine: "lighthouse", Others: true})
	require.Len(t, others, 4)
	require.ElementsMatch(t, []string{"the keeper's own", "keenlodge-in-place-abcdefghij"}, []string{others[2].Name, others[3].Name})
	require.Empty(t, i.images("islet"), "no image was made")
	s, err := i.l.Summary(t.Context(), right.Within{All: true})
	require.NoError(t, err)
	require.Contains(t, s.Open.Names, "lighthouse", "what is kept in place is no copy")
	lanes, _, err := i.l.Lanes(t.Context(), records.MachineFilter{Text: "lighthouse"}, right.Within{All: true})
	require.NoError(t, err)
	require.Empty(t, lanes[0].CoveredBy)
	require.False(t, lanes[0].Late, "nobody owes it an image")
	require.NoError(t, i.l.Snapshots.Look(t.Context(), i.site))
	i.until(func() bool { // the summary is some seconds old at the most
		s, err = i.l.Summary(t.Context(), right.Within{All: true})
		require.NoError(t, err)
		return strings.Contains(fmt.Sprint(s.Notices), "snapshot keenlodge-in-place-abcdefghij of lighthouse bears our mark, and no record knows it")
	}, "the headline")

	// A number typed wrong deletes nothing.
	for range 3 {
		i.site.Policies["hourly-light"] = site.Policy{Machines: light.Machines, Scope: image.InPlace, Rotation: "newest 9"}
		i.apply()
		require.EqualValues(t, run.Done, i.run("hourly-light").State)
	}
	i.site.Policies["hourly-light"] = site.Policy{Machines: light.Machines, Scope: image.InPlace, Rotation: "newest 1"}
	i.apply()
	r := i.run("hourly-light")
	require.EqualValues(t, run.Warned, r.State)
	require.Len(t, i.listed(wire.SnapshotFilter{}), 6)
	sets, _, err := i.l.PreviewRotation(t.Context(), "hourly-light", "", "", 0)
	require.NoError(t, err)
	require.NotEmpty(t, sets[0].Guard)
	var drops []string
	for _, m := range sets[0].Images {
		if m.Verdict == rotation.Drop {
			drops = append(drops, m.ID)
		}
	}
	_, err = i.l.ConfirmRotation(t.Context(), "hourly-light", drops[1:])
	require.ErrorContains(t, err, "look again")
	_, err = i.l.ConfirmRotation(t.Context(), "hourly-light", drops)
	require.NoError(t, err)
	require.NoError(t, i.l.Snapshots.Upkeep(t.Context()))
	require.Len(t, i.listed(wire.SnapshotFilter{}), 1)
	require.Len(t, i.there(), 3)
}

// By hand: taken with a note, pinned, and gone back to; what is lost by that is shown before, the machine is as it was, and the next image is full.
func TestGoingBack(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	i := newIsle(t, map[string]site.Policy{"nightly-light": {Machines: []string{"lighthouse"}, Store: "quay-shelf", Cycle: "full once", Rotation: "newest 9"}})
	i.write(1)
	require.EqualValues(t, run.Done, i.run("nightly-light").State)
	r, err := i.l.Snapshots.Take(ctx, "operator", "lighthouse", wire.SnapshotBody{Note: "before the upgrade", Keep: "2 days"})
	i.byHand(wire.Run{ID: r.ID}, err)
	before := i.listed(wire.SnapshotFilter{})[0]
	require.Equal(t, "before the upgrade", before.Note)
	require.WithinDuration(t, time.Now().Add(48*time.Hour), *before.Until, time.Minute)
	require.NoError(t, i.l.Snapshots.Pin(ctx, "lighthouse", before.ID, "until it is over"))
	_, err = i.l.Snapshots.Drop(ctx, "operator", "lighthouse", before.ID)
	require.ErrorContains(t, err, "is pinned")
	i.write(2)
	r, err = i.l.Snapshots.Take(ctx, "operator", "lighthouse", wire.SnapshotBody{})
	i.byHand(wire.Run{ID: r.ID}, err)
	loss, err := i.l.Snapshots.Loss(ctx, "lighthouse", before.ID)
	require.NoError(t, err)
	require.Equal(t, []any{int64(1 << 20), 1, true, (*wire.Image)(nil)}, []any{loss.Bytes, len(loss.Later), loss.Runs, loss.Newest})
	_, err = i.l.Snapshots.Back(ctx, "operator", "lighthouse", before.ID, wire.BackBody{Confirm: "lighthous"})
	require.ErrorContains(t, err, "confirm it by the machine's name")
	r, err = i.l.Snapshots.Back(ctx, "operator", "lighthouse", before.ID, wire.BackBody{Confirm: "lighthouse"})
	require.NoError(t, err)
	require.EqualValues(t, run.Failed, i.await(r.ID).State, "it runs")
	require.Contains(t, i.lines(r.ID), "would have to be powered off")
	r, err = i.l.Snapshots.Back(ctx, "operator", "lighthouse", before.ID, wire.BackBody{Confirm: "lighthouse", Off: true})
	i.byHand(wire.Run{ID: r.ID}, err)
	require.Contains(t, i.lines(r.ID), "went with it: it was taken later")
	var g islet.Guest
	i.host.Must(http.MethodGet, "/guests/"+i.guest, nil, &g)
	require.Equal(t, islet.On, g.Power)
	require.EqualValues(t, run.Done, i.run("nightly-light").State)
	m := i.images(i.identity())[0]
	require.Equal(t, image.Full, m.Capture, "nobody knows what changed")
	require.True(t, bytes.Equal(bytes.Repeat([]byte{1}, 1<<20), i.content(m.ID, "vda")[:1<<20]), "%v", i.content(m.ID, "vda")[:8])
	require.Len(t, i.listed(wire.SnapshotFilter{}), 1)
}

func (i *isle) identity() string {
	m, err := i.l.Inventory.Resolve(i.t.Context(), "lighthouse")
	require.NoError(i.t, err)
	return m.ID
}

// One that can't be removed is tried again, and told after a day; one whose taker died is removed; one that somebody else removed is recorded so.
func TestSnapshotsThatStay(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	i := newIsle(t, map[string]site.Policy{"hourly-light": {Machines: light.Machines, Scope: image.InPlace, Rotation: "newest 1", Quiesce: machine.NoFreeze}})
	require.EqualValues(t, run.Done, i.run("hourly-light").State)
	i.host.Fault(standin.Fault{Call: "snapshot.remove work", Do: standin.Stuck, Times: 2})
	r := i.run("hourly-light")
	require.EqualValues(t, run.Warned, r.State)
	found := i.listed(wire.SnapshotFilter{})
	require.Len(t, found, 2)
	require.Equal(t, inplace.Leaving, found[1].State)
	require.Contains(t, found[1].Trouble, "the storage does not let it happen")
	require.NoError(t, i.l.Snapshots.Upkeep(ctx))
	_, err := i.rec.Pool().Exec(ctx, "update snapshots set troubled = troubled - interval '25 hours' where id = $1", found[1].ID)
	require.NoError(t, err)
	require.Contains(t, i.listed(wire.SnapshotFilter{})[1].Headline, "can't be removed since")
	require.NoError(t, i.l.Snapshots.Upkeep(ctx))
	require.Len(t, i.listed(wire.SnapshotFilter{}), 1)

	// The hypervisor dies while one is taken: the run fails, and what is there of it goes when it is back.
	i.host.Fault(standin.Fault{Call: "task.show", Do: standin.DieBefore})
	r = i.run("hourly-light")
	require.EqualValues(t, run.Failed, r.State)
	require.Len(t, i.listed(wire.SnapshotFilter{}), 2)
	i.host.Again()
	require.NoError(t, i.l.Snapshots.Upkeep(ctx))
	require.Len(t, i.there(), 1)

	// One that was taken before files went back goes by itself when its time is over.
	q, err := i.l.Snapshots.Take(ctx, "operator", "lighthouse", wire.SnapshotBody{Note: "before files go back"})
	i.byHand(wire.Run{ID: q.ID}, err)
	require.Len(t, i.listed(wire.SnapshotFilter{}), 2)
	_, err = i.rec.Pool().Exec(ctx, "update snapshots set passing = true where policy = ''")
	require.NoError(t, err)
	require.NoError(t, i.l.Snapshots.Upkeep(ctx))
	require.Len(t, i.listed(wire.SnapshotFilter{}), 2, "it is kept for a while")
	_, err = i.rec.Pool().Exec(ctx, "update snapshots set until = now() - interval '1 minute' where passing")
	require.NoError(t, err)
	require.NoError(t, i.l.Snapshots.Upkeep(ctx))
	require.Len(t, i.listed(wire.SnapshotFilter{}), 1)
	require.Len(t, i.there(), 1)

	// A process of the lodge that died while one was taken.
	recordstest.MakingSnapshot(t, i.rec, i.identity(), "islet-3", "lighthouse")
	require.Len(t, i.listed(wire.SnapshotFilter{}), 2)
	require.NoError(t, i.l.Snapshots.Upkeep(ctx))
	require.Len(t, i.listed(wire.SnapshotFilter{}), 1)

	// What a run of another kind left and can't be removed is told after a day, too.
	i.site.Policies["nightly-light"] = site.Policy{Machines: light.Machines, Store: "quay-shelf", Rotation: "newest 9", Quiesce: machine.NoFreeze}
	i.apply()
	i.host.Fault(standin.Fault{Call: "snapshot.remove work", Do: standin.Stuck, Times: -1})
	r = i.run("nightly-light")
	require.EqualValues(t, run.Warned, r.State, i.lines(r.ID))
	_, err = i.rec.Pool().Exec(ctx, "update tasks set ended = ended - interval '25 hours' where run = $1", r.ID)
	require.NoError(t, err)
	i.until(func() bool {
		s, err := i.l.Summary(ctx, right.Within{All: true})
		require.NoError(t, err)
		return strings.Contains(fmt.Sprint(s.Notices), "what run "+r.ID+" left on islet-3 can't be removed since")
	}, "the headline")
	i.host.Must(http.MethodDelete, "/faults", nil, nil)
	i.until(func() bool { return len(i.there()) == 1 }, "what was left to go")

	// Somebody removes ours with the hypervisor's own means.
	kept := i.there()[0]
	require.NoError(t, i.host.Task(ctx, time.Minute, http.MethodDelete, "/guests/"+i.guest+"/snapshots/"+kept.ID, nil, nil))
	_, err = i.rec.Pool().Exec(ctx, "update snapshots set taken = taken - interval '1 hour'")
	require.NoError(t, err)
	require.NoError(t, i.l.Snapshots.Look(ctx, i.site))
	require.Empty(t, i.listed(wire.SnapshotFilter{}))
	require.True(t, slices.ContainsFunc(i.listed(wire.SnapshotFilter{Gone: true}), func(s wire.Snapshot) bool { return strings.Contains(s.Why, "somebody else removed it") }))
}

// Volumes and instances of an account are selected by tags, also those that appear later; one whose tag was removed is taken no more, and its snapshots
// rotate still, by the policy that took them. Two lodges with one account leave each other's alone.
func TestAnAccount(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s := standintest.Start(t, skerry.Kind, standin.Options{})
	make := func(name, tier string) (i skerry.Instance) {
		var v skerry.Volume
		s.Must(http.MethodPost, "/regions/skerry-west/volumes", skerry.NewVolume{Name: name + "-vda", Size: 4 << 20}, &v)
		s.Must(http.MethodPost, "/regions/skerry-west/instances", skerry.Instance{Name: name, Tags: map[string]string{"tier": tier}, Volumes: []skerry.Attached{{Device: "vda", Volume: v.ID}}}, &i)
		return i
	}
	tide := make("tide-model", "gold")
	policies := map[string]site.Policy{"hourly-gold": {Tags: "kind=instance and tier=gold", Scope: image.InPlace, Rotation: "newest 2"}}
	b := newBenchWith(t, policies, func(p *site.Site) { p.Hypervisors["skerry"] = s.Site })
	list := func() (names []string) {
		found, err := b.l.Snapshots.List(ctx, right.Within{All: true}, wire.SnapshotFilter{})
		require.NoError(t, err)
		for _, x := range found {
			names = append(names, x.Machine)
		}
		slices.Sort(names)
		return names
	}
	runs := func() {
		t.Helper()
		r := b.run("hourly-gold")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	}
	runs()
	require.Equal(t, []string{"tide-model"}, list())
	make("berth-archive", "gold")
	runs()
	runs()
	require.Equal(t, []string{"berth-archive", "berth-archive", "tide-model", "tide-model"}, list())
	s.Must(http.MethodPut, "/regions/skerry-west/instances/"+tide.ID+"/tags", map[string]string{}, nil)
	b.site.Policies["hourly-gold"] = site.Policy{Tags: "kind=instance and tier=gold", Scope: image.InPlace, Rotation: "newest 1"}
	b.apply()
	runs()
	require.Equal(t, []string{"berth-archive", "tide-model"}, list(), "by the policy that took them")

	// Copied to another region, where they rotate by themselves; what can't be copied is told.
	b.site.Policies["hourly-gold"] = site.Policy{Tags: "kind=instance and tier=gold", Scope: image.InPlace, Rotation: "newest 1", AlsoIn: []string{"skerry-west", "skerry-east"}}
	b.apply()
	runs()
	runs()
	require.Equal(t, []string{"berth-archive", "berth-archive", "tide-model"}, list())
	var east skerry.Page[skerry.Moment]
	s.Must(http.MethodGet, "/regions/skerry-east/moments", nil, &east)
	require.Len(t, east.Items, 1)
	s.Fault(standin.Fault{Call: "moment.copy work", Do: standin.Stuck})
	r := b.run("hourly-gold")
	require.EqualValues(t, run.Warned, r.State)
	require.Contains(t, b.lines(r.ID), "it is not in skerry-east, too: copy snapshot")
	s.Must(http.MethodGet, "/regions/skerry-east/moments", nil, &east)
	require.Len(t, east.Items, 1, "the one of before")

	t.Run("another lodge", func(t *testing.T) {
		o := newBenchWith(t, map[string]site.Policy{"theirs": {Tags: "kind=instance and tier=gold", Scope: image.InPlace, Rotation: "newest 1"}}, func(p *site.Site) { p.Hypervisors["skerry"] = s.Site })
		for range 2 {
			require.EqualValues(t, run.Done, o.run("theirs").State)
		}
	})
	require.Equal(t, []string{"berth-archive", "berth-archive", "tide-model"}, list())
	var found skerry.Page[skerry.Moment]
	s.Must(http.MethodGet, "/regions/skerry-west/moments", nil, &found)
	require.Len(t, found.Items, 3)
	require.NoError(t, b.l.Snapshots.Look(ctx, b.site))
	told, err := b.l.Snapshots.Headlines(ctx, b.site, time.Now())
	require.NoError(t, err)
	require.Len(t, told, 1)
	require.Contains(t, told[0].Text, "bears our mark, and no record knows it")

	// What a restore left, and nobody uses, is told after a day.
	s.Must(http.MethodPost, "/regions/skerry-west/volumes", skerry.NewVolume{Name: "again-vda", Size: 1 << 20, Tags: map[string]string{"keenlodge-restored": "x"}}, nil)
	require.NoError(t, b.l.Snapshots.Look(ctx, b.site))
	told, err = b.l.Snapshots.Headlines(ctx, b.site, time.Now().Add(23*time.Hour))
	require.NoError(t, err)
	require.NotContains(t, fmt.Sprint(told), "again-vda")
	told, err = b.l.Snapshots.Headlines(ctx, b.site, time.Now().Add(25*time.Hour))
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(told), "volume again-vda in skerry-west (1.0 MiB) was made by a restore")
}

// Machines of a group that a policy takes together are of one moment: each goes on only when all stand still. Where they can't be captured at once, the
// run says that they are not.
func TestOneMoment(t *testing.T) {
	t.Parallel()
	b := newBenchWith(t, map[string]site.Policy{"hourly-ticketing": {Machines: []string{"*"}, Store: "quay-shelf", Rotation: "newest 9", Together: []string{"ticketing"}}},
		func(s *site.Site) {
			s.Groups = map[string]site.Group{"ticketing": {Machines: []string{"tickets-db", "timetable"}}}
		})
	r := b.run("hourly-ticketing")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "group ticketing is of one moment: tickets-db, timetable stood still together, the last of them ")

	host := b.site.Hypervisors["quay-1"]
	host.TasksAtOnce = 1
	b.site.Hypervisors["quay-1"] = host
	b.apply()
	r = b.run("hourly-ticketing")
	require.EqualValues(t, run.Warned, r.State)
	require.Contains(t, b.lines(r.ID), "group ticketing is not of one moment: its machines did not stand still within 3s of each other")
}
