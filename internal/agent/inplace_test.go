package agent

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/inplace"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/wire"
)

// A server keeps snapshots of its btrfs subvolumes by a policy; it goes back to one, and images of its files have none of them. One that does not answer
// has lost nothing.
func TestAServersSnapshots(t *testing.T) {
	d := agenttest.New(t, 256<<20, "mkfs.btrfs -q $f")
	data := filepath.Join(t.TempDir(), "data")
	agenttest.Sh(t, "btrfs subvolume create $m/@data; mkdir $a; mount -o subvol=/@data $l $a", "m="+d.Mounted, "l="+d.Loop, "a="+data)
	t.Cleanup(func() { agenttest.Sh(t, "umount -l $a", "a="+data) })
	file := filepath.Join(data, "turnstiles")
	g := newGate(t, d, map[string]site.Policy{
		"hourly-gate": {Machines: []string{"gate-07"}, Scope: image.InPlace, Rotation: "newest 2"},
		"nightly":     {Machines: []string{"gate-07"}, Scope: image.SomeFiles, Folders: []string{"/"}, Store: "quay-shelf", Rotation: "newest 2"},
	})
	for _, text := range []string{"one", "two", "three"} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		r := g.run("hourly-gate")
		require.Contains(t, []run.State{run.Done, run.Warned}, r.State, r.Tasks) // the host has other file systems, which are told
	}
	list := func() []wire.Snapshot {
		found, err := g.l.Snapshots.List(t.Context(), right.Within{All: true}, wire.SnapshotFilter{})
		require.NoError(t, err)
		return found
	}
	kept := list()
	require.Len(t, kept, 2)
	require.Equal(t, []any{"hourly-gate", image.FileSystem, inplace.Kept}, []any{kept[0].Policy, kept[0].Consistency, kept[0].State})
	under := filepath.Join(d.Mounted, ".keenlodge-in-place")
	there, err := os.ReadDir(under)
	require.NoError(t, err)
	require.Len(t, there, 2)

	r := g.run("nightly")
	require.Equal(t, run.Done, r.State, r.Tasks)
	m, err := g.l.Stores.Image(t.Context(), r.Tasks[0].Image)
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(m.Files.LeftOut, func(l files.LeftOut) bool { return l.Rule == ".keenlodge-in-place, snapshots in place" }), "%v", m.Files.LeftOut)
	require.EqualValues(t, 3, m.Files.Entries, "the root, @data and what is in it")

	// The top of the file system is mounted, too, in which nothing can take its place.
	q, err := g.l.Snapshots.Back(t.Context(), "operator", "gate-07", kept[1].ID, wire.BackBody{Confirm: "gate-07"})
	require.NoError(t, err)
	ended := g.ended(q)
	require.Equal(t, run.Failed, ended.State)
	require.Contains(t, ended.Tasks[0].Error, "is the top of its file system")
	agenttest.Sh(t, "umount $m", "m="+d.Mounted)
	one, err := g.l.Snapshots.Take(t.Context(), "operator", "gate-07", wire.SnapshotBody{Note: "before the upgrade"})
	require.NoError(t, err)
	require.Contains(t, []run.State{run.Done, run.Warned}, g.ended(one).State)
	require.NoError(t, os.WriteFile(file, []byte("four"), 0o600))
	q, err = g.l.Snapshots.Back(t.Context(), "operator", "gate-07", list()[0].ID, wire.BackBody{Confirm: "gate-07"})
	require.NoError(t, err)
	require.Equal(t, run.Done, g.ended(q).State)
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, "three", string(body))

	g.stop()
	s, err := g.l.Site(t.Context())
	require.NoError(t, err)
	require.ErrorIs(t, g.l.Snapshots.Look(t.Context(), s), source.ErrUnreachable)
	require.Len(t, list(), 3)
}
