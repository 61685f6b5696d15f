package lodge_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/promises"
	"keenlodge/internal/proof"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
)

// owing is a bench whose policy owes something, with trials on its hypervisor.
func owing(t *testing.T, owes string) *bench {
	t.Helper()
	policy := everything("newest 5")
	policy.Promise = owes
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": policy}, func(s *site.Site) {
		h := s.Hypervisors["quay-1"]
		h.Trials = &expect.Trials{AtOnce: 1}
		s.Hypervisors["quay-1"] = h
	})
	t.Cleanup(func() { os.RemoveAll(b.host.Folder()) })
	b.host.OnTrial = comesUp
	return b
}

// stands is how what is owed to a machine stands, asked anew.
func (b *bench) stands(machine string) map[string]promise.Item {
	b.t.Helper()
	out := map[string]promise.Item{}
	fresh := promises.New(b.rec, nil, b.l.Stores, b.l.Lists, b.l.Proofs, b.l.Trials)
	m, ok, err := fresh.Of(b.t.Context(), machine)
	require.NoError(b.t, err)
	require.True(b.t, ok)
	for _, i := range m.Items {
		out[i.Clause] = i
	}
	return out
}

// planned lists the runs that the lodge has begun by itself.
func (b *bench) planned() (out []records.Run) {
	b.t.Helper()
	runs, err := b.rec.Runs(b.t.Context(), records.RunFilter{})
	require.NoError(b.t, err)
	for _, r := range runs {
		if r.Cause == run.Upkeep && (r.Kind == run.Proof || r.Kind == run.Trial) {
			out = append(out, r)
		}
	}
	return out
}

// What is owed is told of each machine, and the lodge plans the proofs that keep it: each once, and no more at once than there is room for.
func TestPromises(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := owing(t, "26 hours, read weekly, boot weekly, 2 copies, key yearly")
	require.Equal(t, promise.Overdue, b.stands("u-tickets")["age"].Standing)
	b.run("nightly-guests")
	plan := func() {
		require.NoError(t, promises.New(b.rec, nil, b.l.Stores, b.l.Lists, b.l.Proofs, b.l.Trials).Plan(ctx))
	}
	stands := b.stands("u-tickets")
	require.Equal(t, promise.Kept, stands["age"].Standing)
	require.Equal(t, promise.Kept, stands["boot"].Standing, "it is not due yet: %s", stands["boot"].Why)
	require.Equal(t, promise.Overdue, stands["copies"].Standing)
	require.Equal(t, promise.Impossible, stands["key"].Standing)
	plan()
	plan() // once is enough
	b.until(func() bool {
		for _, r := range b.planned() {
			if !r.Over() {
				return false
			}
		}
		return len(b.planned()) > 0
	}, "the planned proofs")
	kinds := map[string]int{}
	for _, r := range b.planned() {
		require.Equal(t, run.Done, r.State, b.lines(r.ID))
		kinds[string(r.Kind)+" "+r.Tasks[0].Machine]++
	}
	require.Equal(t, 1, kinds["trial tickets-db"], kinds)
	require.Contains(t, b.stands("u-tickets")["boot"].Why, "proven by boot")
	require.Contains(t, b.stands("u-tickets")["read"].Why, "proven by read", "what came up was read")
	before := len(b.planned())
	plan()
	for _, r := range b.planned()[:len(b.planned())-before] {
		require.NotEqual(t, "tickets-db", r.Tasks[0].Machine, "it is not due again")
	}

	// One that runs another kernel is tried before it is due, once; that nobody had told of its kernel before is no change.
	triedWith := func(system string, times int) {
		t.Helper()
		b.host.Change("tickets-db", func(g *sourcetest.Guest) { g.System, g.Agent = system, true })
		b.run("nightly-guests")
		before := len(b.planned())
		plan()
		plan()
		require.Len(t, b.planned(), before+times)
		b.until(func() bool { return b.planned()[0].Over() }, "the trial")
	}
	triedWith("Brindle 1, kernel 6.1.0-26", 0)
	_, err := b.l.Proofs.Start(ctx, "operator", proof.Request{Image: b.images("u-tickets")[0].ID, Level: image.ByBoot})
	require.NoError(t, err)
	b.until(func() bool { return b.images("u-tickets")[0].Proven == image.ByBoot }, "the trial by hand")
	triedWith("Brindle 1, kernel 6.1.0-26", 0)
	triedWith("Brindle 1, kernel 6.1.0-27", 1)
	require.Equal(t, image.ByBoot, b.images("u-tickets")[0].Proven)

	// A machine with another disk is tried before it is due; one that failed stands out until an image passes.
	b.host.OnTrial = func(t *sourcetest.Trial) { t.Standing = source.Crashed }
	b.guest("tickets-db", "u-tickets", nil, 4, 2, 1)
	b.run("nightly-guests")
	before = len(b.planned())
	b.until(func() bool { plan(); return len(b.planned()) > before }, "a trial of what changed")
	b.until(func() bool { return b.stands("u-tickets")["boot"].Standing == promise.Failed }, "that it failed")
	before = len(b.planned())
	for range 3 {
		plan()
	}
	require.Len(t, b.planned(), before, "the same image would fail again")
	sum, err := b.l.Summary(ctx, right.Everything)
	require.NoError(t, err)
	require.Equal(t, 2, sum.Owed.Machines)

	// Where no hypervisor may hold trials that is told, and nothing is planned.
	h := b.site.Hypervisors["quay-1"]
	h.Trials = nil
	b.site.Hypervisors["quay-1"] = h
	b.apply()
	require.Equal(t, "no hypervisor of the site may hold trials", b.stands("u-timetable")["boot"].Why)
}

// An image that is written out whole is compared with what the store has, and leaves nothing in the scratch folder; damage is found, and a folder without
// room is trouble.
func TestProofByRestore(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 5")})
	b.l.Stores.OnHost = true // there is nothing on the fake's disks that a reader guest could open
	b.run("nightly-guests")
	m := b.images("u-tickets")[0]
	prove := func() records.Run {
		r, err := b.l.Proofs.Start(t.Context(), "operator", proof.Request{Image: m.ID, Level: image.ByRestore})
		require.NoError(t, err)
		return b.await(r.ID)
	}
	r := prove()
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "vda: written out whole (4.0 MiB), and 2.0 MiB of data compared block by block")
	require.Contains(t, b.lines(r.ID), "vdb: written out whole (2.0 MiB)")
	require.Equal(t, image.ByRestore, b.images("u-tickets")[0].Proven)
	left, err := os.ReadDir(string(b.l.Proofs.Scratch))
	require.NoError(t, err)
	require.Empty(t, left)
	// What a process left that died goes at the next start.
	dead := filepath.Join(string(b.l.Proofs.Scratch), "restore-dead")
	require.NoError(t, os.Mkdir(dead, 0o700))
	require.NoError(t, b.l.Proofs.Scratch.Clear())
	require.NoDirExists(t, dead)

	b.stop() // with what it remembers of the store
	b.start()
	b.l.Stores.OnHost = true
	for _, o := range b.shelf().Names("pack/") {
		body := b.shelf().Peek(o)
		for i := range body {
			body[i] ^= 0x55
		}
		b.shelf().Poke(o, body)
	}
	r = prove()
	require.Equal(t, run.Failed, r.State)
	require.Equal(t, image.Doubtful, b.images("u-tickets")[0].State, b.lines(r.ID))
}
