package lodge_test

import (
	"errors"
	"fmt"
	"strings"
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
	"keenlodge/internal/restore"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/wire"
)

// A guest may be replaced that is off, may be made elsewhere, and is waited for when it is to be started.
func TestRestores(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": everything("newest 3")}, func(s *site.Site) {
		s.Hypervisors["quay-2"] = site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name() + "-2", Pool: "fast"}
	})
	far := sourcetest.Named(t.Name() + "-2")
	b.run("nightly-guests")
	m := b.images("u-timetable")[0]
	start := func(q restore.Request) (records.Run, error) {
		q.Image = m.ID
		r, err := b.l.Restores.Start(ctx, "operator", q)
		if err != nil {
			return r, err
		}
		return b.await(r.ID), nil
	}
	for _, c := range []struct {
		q    restore.Request
		says string
	}{
		{restore.Request{As: "-rf"}, "can't be a guest's name"},
		{restore.Request{As: strings.Repeat("a", 64)}, "can't be a guest's name"},
		{restore.Request{As: "timetable"}, "a guest called timetable exists already"},
		{restore.Request{As: "timetable", Replace: true}, "guest timetable is running; shut it down before it is replaced"},
		{restore.Request{As: "timetable-two", Hypervisor: "quay-3"}, `no hypervisor is called "quay-3"`},
		{restore.Request{As: "web-1", Clones: []string{"web-2", "timetable"}}, "a guest called timetable exists already"},
		{restore.Request{As: "web-1", Clones: []string{"web-2", "web-1"}}, "two guests would be called web-1"},
		{restore.Request{As: "web-1", Clones: []string{"web 2"}}, "can't be a guest's name"},
		{restore.Request{As: "web-1", Clones: []string{"web-2"}, AtOnce: true}, "it is restored first"},
		{restore.Request{As: "web-1", Sizes: map[string]int64{"vda": 100}}, "disk vda can't be of 100 bytes"},
		{restore.Request{As: "web-1", Sizes: map[string]int64{"vdz": 100}}, "the image has no disk vdz"},
		{restore.Request{As: "web-1", Only: []string{"vdz"}}, "has no disk vdz"},
		{restore.Request{As: "web-1", Into: true}, "guest web-1, into which disks are to go"},
		{restore.Request{As: "timetable", Into: true, Start: true}, "disks that go into a guest change nothing else of it"},
	} {
		_, err := start(c.q)
		require.ErrorContains(t, err, c.says)
	}
	_, err := b.l.Restores.Start(ctx, "operator", restore.Request{Image: "nothing0", As: "timetable-two"})
	require.ErrorIs(t, err, fault.ErrNotFound)

	b.host.Change("timetable", func(g *sourcetest.Guest) { g.State = machine.Off })
	b.host.Write("timetable", "vda", 0, []byte("spoiled"))
	r, err := start(restore.Request{As: "timetable", Replace: true})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.NotEqual(t, []byte("spoiled"), []byte(b.host.Look("timetable").Disks["vda"][:7]))
	require.Equal(t, machine.Off, b.host.Look("timetable").State, "it was not to be started")
	undone, err := b.l.Restores.Undo(ctx, "operator", r.ID)
	require.NoError(t, err)
	require.EqualValues(t, run.Done, b.await(undone.ID).State, b.lines(undone.ID))
	require.Equal(t, []byte("spoiled"), []byte(b.host.Look("timetable").Disks["vda"][:7]), "it is as it was before")
	require.Empty(t, b.host.Restored(), "and nothing of the restore is left")
	again, err := start(restore.Request{As: "timetable", Replace: true})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, again.State, b.lines(again.ID))
	require.Positive(t, r.Tasks[0].Done)
	require.Equal(t, r.Tasks[0].Total, r.Tasks[0].Done)

	r, err = start(restore.Request{As: "timetable", Hypervisor: "quay-2"})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Equal(t, []string{"fast/timetable-vda-" + r.ID + ".qcow2"}, far.Restored(), "into the pool that the site names for this host")
	require.Len(t, far.Look("timetable").Disks["vda"], 3*mib)
	r, err = start(restore.Request{As: "timetable-two", Hypervisor: "quay-2", Pool: "slow"})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, far.Restored(), "slow/timetable-two-vda-"+r.ID+".qcow2", "or into another, where somebody says so")

	r, err = start(restore.Request{As: "web-1", Clones: []string{"web-2", "web-3"}, Hypervisor: "quay-2"})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, r.Tasks, 3)
	for _, name := range []string{"web-1", "web-2", "web-3"} {
		require.Equal(t, far.Look("timetable").Disks["vda"], far.Look(name).Disks["vda"])
	}

	r, err = start(restore.Request{As: "web-2", Into: true, Only: []string{"vda"}, Hypervisor: "quay-2"})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "what was vda is vdb of guest web-2")
	require.Equal(t, far.Look("web-2").Disks["vda"], far.Look("web-2").Disks["vdb"])

	var pings atomic.Int32
	b.host.SetFault(func(call, guest string) error {
		if call == "ping" && pings.Add(1) == 1 {
			return errors.New("it boots")
		}
		return nil
	})
	r, err = start(restore.Request{As: "timetable-two", Start: true})
	require.NoError(t, err)
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "its guest agent answered ")
	require.Equal(t, machine.Running, b.host.Look("timetable-two").State)

	b.host.SetFault(func(call, guest string) error {
		if call == "create disk" {
			return errors.New("its pool is full")
		}
		return nil
	})
	was := b.host.Restored()
	r, err = start(restore.Request{As: "timetable-three"})
	require.NoError(t, err)
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "disk vda: its pool is full")
	require.Equal(t, was, b.host.Restored())
}

// What a machine's firmware keeps beside its disks comes back with it; a TPM's keys are in sealed stores only.
func TestFirmwareComesBack(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	sealed := site.Store{Medium: "memory", Layout: site.Pooled, Sealed: true, Settings: &memory.Settings{Shelf: t.Name() + "-strongbox"}}
	_, err := b.l.AddStore(ctx, "strongbox", wire.StoreAddition{Spec: sealed, Keys: []store.NewKey{{Passphrase: "herring gulls at dawn"}}})
	require.NoError(t, err)
	b.site.Stores["strongbox"] = sealed
	b.site.Policies["weekly-sealed"] = site.Policy{Machines: []string{"timetable"}, Store: "strongbox", Rotation: "newest 3"}
	b.apply()
	b.host.Change("timetable", func(g *sourcetest.Guest) { g.Variables, g.TPM = []byte("Boot0001"), []byte("endorsement") })

	for policy, has := range map[string][]records.ImageFirmware{
		"nightly-guests": {{Kind: image.UEFIVariables, Size: 8}, {Kind: image.TPMState, Left: image.NotSealed}},
		"weekly-sealed":  {{Kind: image.UEFIVariables, Size: 8}, {Kind: image.TPMState, Size: 11}},
	} {
		r := b.run(policy)
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
		m := b.images("u-timetable")[0]
		require.Equal(t, policy, m.Policy)
		require.Equal(t, has, m.Firmware)
		r, err := b.l.Restores.Start(ctx, "operator", restore.Request{Image: m.ID, As: "from-" + policy})
		require.NoError(t, err)
		require.EqualValues(t, run.Done, b.await(r.ID).State, b.lines(r.ID))
		again := b.host.Look("from-" + policy)
		require.Equal(t, "Boot0001", string(again.Variables))
		if has[1].Left == "" {
			require.Equal(t, "endorsement", string(again.TPM))
		} else {
			require.Nil(t, again.TPM)
			require.Contains(t, b.lines(r.ID), "the guest gets fresh tpm-state, for the image has none: it holds keys, and the store is not sealed")
		}
	}
	require.Empty(t, b.host.Look("from-nightly-guests").Job)
	b.host.SetFault(func(call, guest string) error {
		if call == "define" {
			return errors.New("it is no guest")
		}
		return nil
	})
	was := b.host.Restored()
	r, err := b.l.Restores.Start(ctx, "operator", restore.Request{Image: b.images("u-timetable")[0].ID, As: "third"})
	require.NoError(t, err)
	require.EqualValues(t, run.Failed, b.await(r.ID).State)
	require.Equal(t, was, b.host.Restored(), "nothing of it stays")
}

// Trouble on the way to an image is no verdict on it; a cancelled proof says that it was cancelled.
func TestProofsThatSayNothing(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 3")})
	b.run("nightly-guests")
	m := b.images("u-timetable")[0]
	prove := func() records.Run {
		r, err := b.l.Proofs.Start(ctx, "operator", proof.Request{Image: m.ID, Level: image.ByRead})
		require.NoError(t, err)
		return r
	}
	b.shelf().Around = func(call, name string, act func() error) error {
		if call == "get" && strings.HasPrefix(name, "pack/") {
			return fmt.Errorf("%s: %w", name, medium.ErrUnreachable)
		}
		return act()
	}
	r := b.await(prove().ID)
	require.EqualValues(t, run.Failed, r.State)
	got, proofs, err := b.l.Proofs.Of(ctx, m.ID)
	require.NoError(t, err)
	require.Equal(t, image.Usable, got.State)
	require.Empty(t, proofs)
	held, release := make(chan bool, 64), make(chan bool)
	b.shelf().Around = func(call, name string, act func() error) error {
		if call == "get" && strings.HasPrefix(name, "pack/") {
			held <- true
			<-release
		}
		return act()
	}
	r = prove()
	<-held
	r, err = b.l.Runs.Cancel(ctx, r.ID, "operator", "")
	require.NoError(t, err)
	b.l.Runs.HeedCancel(r)
	close(release)
	r = b.await(r.ID)
	require.EqualValues(t, run.Cancelled, r.State, b.lines(r.ID))
	_, proofs, err = b.l.Proofs.Of(ctx, m.ID)
	require.NoError(t, err)
	require.Empty(t, proofs)
	_, _, err = b.l.Proofs.Of(ctx, "nothing0")
	require.ErrorContains(t, err, "no image is called")
}

// The summary says how every machine stands; a lane what its machine has and when it is next.
func TestSummaryAndLanes(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	p := everything("newest 9")
	p.Machines, p.Schedules = []string{"tickets-*"}, []site.Schedule{{When: "every day at 23:00"}}
	weekly := p
	weekly.Schedules = []site.Schedule{{When: "every sun at 23:00"}}
	b := newBench(t, map[string]site.Policy{"nightly-guests": p, "weekly-system": weekly})
	b.guest("crew-rota", "u-crew", nil, 1)
	b.run("nightly-guests")
	look := func() wire.Standing {
		t.Helper()
		_, err := b.l.Inventory.Find(ctx)
		require.NoError(t, err)
		apply := b.site // a site that changed is looked at anew
		apply.Policies = map[string]site.Policy{}
		for name, p := range b.site.Policies {
			p.Retries++
			apply.Policies[name] = p
		}
		b.site = apply
		b.apply()
		s, err := b.l.Summary(ctx, right.Everything)
		require.NoError(t, err)
		return s
	}
	s := look()
	require.Equal(t, []int{3, 1, 0, 0, 0, 0}, []int{s.Machines, s.Covered, s.Proven, s.Retired, s.Held, s.Paused})
	require.Equal(t, wire.Some{Count: 2, Names: []string{"crew-rota", "timetable"}}, s.Open)
	require.Equal(t, wire.Some{Count: 1, Names: []string{"tickets-db"}}, s.Unproven)
	require.Zero(t, s.Late.Count+s.Failed.Count)
	require.Contains(t, s.Next.Policy+"weekly-system", "nightly-guests")
	_, err := b.rec.Pool().Exec(ctx, "update images set taken = taken - interval '3 days'")
	require.NoError(t, err)
	require.Equal(t, wire.Some{Count: 1, Names: []string{"tickets-db"}}, look().Late)
	_, err = b.l.Planning.Pause(ctx, "nightly-guests", "operator", "", time.Time{})
	require.NoError(t, err)
	s = look()
	require.Equal(t, 1, s.Paused)
	require.Equal(t, "weekly-system", s.Next.Policy)
	require.Equal(t, "newest 9", s.Next.Rotation)
	require.Len(t, s.Next.Says, 1)
	r, err := b.l.Proofs.Start(ctx, "operator", proof.Request{Image: b.images("u-tickets")[0].ID, Level: image.ByRead})
	require.NoError(t, err)
	b.await(r.ID)
	s = look()
	require.Equal(t, 1, s.Proven)
	require.Zero(t, s.Unproven.Count)
	_, err = b.rec.Pool().Exec(ctx, "update images set proof_failed = true")
	require.NoError(t, err)
	require.Equal(t, wire.Some{Count: 1, Names: []string{"tickets-db"}}, look().Failed)

	lanes, next, err := b.l.Lanes(ctx, records.MachineFilter{}, right.Everything)
	require.NoError(t, err)
	require.Empty(t, next)
	require.Len(t, lanes, 3)
	require.Equal(t, []bool{false, true, false}, []bool{lanes[0].Late, lanes[1].Late, lanes[2].Late})
	require.Len(t, lanes[1].Images, 1)
	require.Equal(t, "weekly-system", lanes[1].Next.Policy)
	require.Nil(t, lanes[0].Next)
	require.GreaterOrEqual(t, lanes[1].FreshnessLimit, 24*time.Hour, "the stricter of the two promises")
	require.Less(t, lanes[1].FreshnessLimit, 48*time.Hour)
	policies, err := b.l.Policies(ctx, right.Everything)
	require.NoError(t, err)
	require.Equal(t, []string{"nightly-guests", "weekly-system"}, []string{policies[0].Name, policies[1].Name})
	require.NotNil(t, policies[0].Paused)
	require.Nil(t, policies[1].Paused)
	require.Equal(t, []string{"tickets-db"}, policies[1].Covers)
	require.Equal(t, 1, policies[1].Covered)
	require.Len(t, policies[1].Says, 1)

	b.host.Remove("tickets-db")
	s = look()
	require.Equal(t, []int{2, 1}, []int{s.Machines, s.Covered}, "what is gone and has images is still looked after")
	_, err = b.l.Rehearsals.Start(ctx, "nightly", "operator", wire.RehearseRequest{})
	require.ErrorIs(t, err, fault.ErrNotFound)
}
