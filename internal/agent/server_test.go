package agent

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/wire"
)

// gate is server gate-07 of a lodge: a disk of this host, and an agent in this process.
type gate struct {
	*house
	*agenttest.Disk
	t      *testing.T
	folder string
	id     *Identity
	stop   func()
}

// newGate has gate-07 enrolled, with stores and policies for it.
func newGate(t *testing.T, policies map[string]site.Policy) *gate {
	g := &gate{Disk: agenttest.New(t, 300<<20, "mkfs.ext4 -q $f"), house: newHouse(t), t: t, folder: t.TempDir()}
	word := g.admit("gate-07")
	s, err := g.l.Site(t.Context())
	require.NoError(t, err)
	require.Equal(t, "agent", s.Hypervisors["servers"].SourceKind())
	for name, add := range map[string]wire.StoreAddition{
		"quay-shelf":  {Spec: site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name()}}},
		"plain-shelf": {Spec: site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: t.TempDir()}}},
	} {
		_, err := g.l.AddStore(t.Context(), name, add)
		require.NoError(t, err)
	}
	g.id, err = Join(t.Context(), g.folder, g.url, g.fingerprint(), "gate-07", word)
	require.NoError(t, err)
	g.start()
	t.Cleanup(func() { g.stop() })
	s, err = g.l.Site(t.Context())
	require.NoError(t, err)
	s.Zone, s.Policies = "Europe/Lisbon", policies
	_, err = g.l.Apply(t.Context(), s, false)
	require.NoError(t, err)
	return g
}

// start has the agent run.
func (g *gate) start() {
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	a, err := New(Offer{Disks: []string{g.Loop}}, g.folder, log)
	require.NoError(g.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- Run(ctx, g.id, a, log) }()
	g.stop = func() {
		cancel()
		if err := <-ended; err != nil {
			require.ErrorIs(g.t, err, errUnknown)
		}
		ended <- nil
	}
	g.await(machine.Running)
}

// await waits until the lodge sees the server so.
func (g *gate) await(state machine.State) {
	g.t.Helper()
	require.Eventually(g.t, func() bool { return g.state() == state }, 20*time.Second, 50*time.Millisecond)
}

func (g *gate) state() machine.State {
	_, err := g.l.Inventory.Find(g.t.Context())
	require.NoError(g.t, err)
	m, err := g.l.Inventory.Resolve(g.t.Context(), "gate-07")
	if err != nil {
		return ""
	}
	return m.State
}

// run carries a policy out.
func (g *gate) run(policy string) records.Run {
	g.t.Helper()
	r, err := g.l.RunPolicy(g.t.Context(), policy, "the test", "")
	require.NoError(g.t, err)
	require.Eventually(g.t, func() bool {
		r, err = g.rec.Run(g.t.Context(), r.ID)
		require.NoError(g.t, err)
		return r.State.Over()
	}, time.Minute, 20*time.Millisecond)
	return r
}

// newest is a server's newest image under a policy, whose disk is written into a file.
func (g *gate) newest(policy string) (records.Image, string) {
	g.t.Helper()
	images, err := g.rec.Images(g.t.Context(), records.ImageFilter{Policy: policy})
	require.NoError(g.t, err)
	require.NotEmpty(g.t, images)
	m := images[0]
	st, err := g.l.Stores.Named(g.t.Context(), m.Store)
	require.NoError(g.t, err)
	manifest, err := st.ReadImage(g.t.Context(), m.ID)
	require.NoError(g.t, err)
	require.Len(g.t, manifest.Disks, 1)
	require.Contains(g.t, manifest.Definition, `"kind": "server"`)
	opened, err := st.OpenDisk(g.t.Context(), manifest, manifest.Disks[0])
	require.NoError(g.t, err)
	defer opened.Close()
	file := filepath.Join(g.t.TempDir(), "back")
	f, err := os.Create(file)
	require.NoError(g.t, err)
	defer f.Close()
	require.NoError(g.t, f.Truncate(opened.Size()))
	require.NoError(g.t, disk.Walk(g.t.Context(), opened, func(e disk.Extent) error {
		body := make([]byte, e.Length)
		if e.Kind == disk.Zero {
			return nil
		}
		if _, err := opened.ReadAt(body, e.Offset); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		_, err := f.WriteAt(body, e.Offset)
		return err
	}))
	return m, file
}

func whole(store, cycle string) site.Policy {
	return site.Policy{Machines: []string{"gate-07"}, Store: store, Quiesce: machine.Required, Cycle: cycle, Rotation: "newest 5"}
}

// A server that is written to all the time is captured as a guest is: into both layouts, full and incremental, in one instant each, with what
// it takes to lay it out again.
func TestAServer(t *testing.T) {
	g := newGate(t, map[string]site.Policy{"monthly-whole": whole("quay-shelf", "full once"), "plain": whole("plain-shelf", "full once")})
	end := g.Write(4 << 20)
	defer end()
	for range 3 {
		for _, policy := range []string{"monthly-whole", "plain"} {
			r := g.run(policy)
			require.EqualValues(t, run.Done, r.State, "%s: %s", policy, r.Tasks[0].Error)
			require.Empty(t, r.Tasks[0].Warnings)
			m, file := g.newest(policy)
			require.Equal(t, image.FileSystem, m.Consistency)
			require.Positive(t, m.Frozen)
			require.Positive(t, agenttest.Check(t, file, "e2fsck -fn $f"), policy)
		}
	}
	images, err := g.rec.Images(t.Context(), records.ImageFilter{})
	require.NoError(t, err)
	kinds := map[image.Capture]int{}
	for _, m := range images {
		kinds[m.Capture]++
	}
	require.Equal(t, map[image.Capture]int{image.Full: 2, image.Incremental: 4}, kinds)
}

// An agent that is dismissed loses its line at once; enrolled again it is the same machine, which goes on with its images. One that was stopped is silent,
// and what is asked of it says so.
func TestDismissal(t *testing.T) {
	g := newGate(t, map[string]site.Policy{"monthly-whole": whole("quay-shelf", "full once")})
	require.EqualValues(t, run.Done, g.run("monthly-whole").State)
	before, _ := g.newest("monthly-whole")
	g.stop()
	g.await(machine.Silent)
	r := g.run("monthly-whole")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "its agent does not call")
	g.start()
	require.NoError(t, g.l.Agents.Revoke(t.Context(), "gate-07"))
	g.await(machine.Gone)
	g.stop() // it has ended by itself
	require.NoError(t, os.Remove(fileIn(g.folder)))
	var err error
	g.id, err = Join(t.Context(), g.folder, g.url, g.fingerprint(), "gate-07", g.admit("gate-07"))
	require.NoError(t, err)
	g.start()
	r = g.run("monthly-whole")
	require.EqualValues(t, run.Done, r.State, r.Tasks[0].Error)
	after, _ := g.newest("monthly-whole")
	require.Equal(t, before.MachineID, after.MachineID)
	require.Equal(t, image.Incremental, after.Capture)
}
