package lodge_test

import (
	"crypto/rand"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/copies"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

// plug makes a disk with a file system and returns how it is plugged in, at a folder that is made for it, and pulled out.
func plug(t *testing.T) (in func(at string) string, out func()) {
	t.Helper()
	if testing.Short() && os.Geteuid() != 0 {
		t.Skip("mounting takes root")
	}
	place := t.TempDir()
	image := filepath.Join(place, "disk")
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 96<<20))
	made, err := exec.Command("mkfs.ext4", "-q", image).CombinedOutput()
	require.NoError(t, err, "%s", made)
	at := ""
	out = func() { exec.Command("umount", "-l", at).Run() }
	t.Cleanup(out)
	return func(folder string) string {
		at = folder
		require.NoError(t, os.MkdirAll(at, 0o700))
		made, err := exec.Command("mount", "-o", "loop", image, at).CombinedOutput()
		require.NoError(t, err, "%s", made)
		return at
	}, out
}

// A disk that comes and goes: it is let go, is missed by nobody, is found wherever it is mounted next, and gets what is due.
func TestARemovableDisk(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	in, out := plug(t)
	media := t.TempDir()
	one, two := filepath.Join(media, "box one"), filepath.Join(media, "box two")
	folder := filepath.Join(in(one), "keenlodge")
	require.NoError(t, os.Mkdir(folder, 0o700))
	b := newBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 9"}})
	_, err := b.l.AddStore(ctx, "box", wire.StoreAddition{Spec: site.Store{Medium: "dir", Layout: site.Pooled, Like: "quay-shelf", Settings: &dir.Settings{Folder: folder, Removable: true}}})
	require.NoError(t, err)
	b.site, err = b.rec.Site(ctx)
	require.NoError(t, err)
	rule := site.Copy{From: "quay-shelf", To: "box", Soon: true, Rotation: "newest 2"}
	b.site.Copies = map[string]site.Copy{"to-box": rule}
	b.apply()
	backup := func() { t.Helper(); require.EqualValues(t, run.Done, b.run("nightly-guests").State) }
	box := func() wire.Store {
		all, err := b.l.Stores.All(ctx)
		require.NoError(t, err)
		for _, s := range all {
			if s.Name == "box" {
				return s
			}
		}
		panic("it is gone from the site")
	}
	backup()
	require.EqualValues(t, run.Done, b.newest("to-box").State)
	require.Len(t, b.in("box", "u-timetable"), 1)

	_, err = b.l.Disks.Release(ctx, "quay-shelf")
	require.ErrorContains(t, err, "is not removable")
	let, err := b.l.Disks.Release(ctx, "box")
	require.NoError(t, err)
	require.True(t, let.Safe, let.Says)
	require.NoDirExists(t, folder, "it is unmounted")
	b.until(func() bool { w, err := b.rec.Whereabouts(ctx, "box"); return err == nil && !w.Here && !w.Released }, "that it is away")
	require.NotNil(t, box().Away)
	require.Empty(t, box().Error, "that is no trouble")
	again, err := b.l.Disks.Release(ctx, "box")
	require.NoError(t, err)
	require.True(t, again.Safe)

	before := b.newest("to-box").ID
	backup()
	backup()
	require.Equal(t, before, b.newest("to-box").ID, "no run is in vain")
	r, _ := b.copy("to-box", copies.Request{})
	require.EqualValues(t, run.Skipped, r.State)
	require.Contains(t, r.Error, "the disk of store box is away")
	_, err = b.l.Apply(ctx, b.site, false)
	require.NoError(t, err, "the site can be changed meanwhile")
	require.NoError(t, os.MkdirAll(folder, 0o700), "what lies where it was is not it")
	_, err = b.l.Stores.Named(ctx, "box")
	require.ErrorContains(t, err, "its disk is away: it is mounted nowhere on this host")

	other := filepath.Join(in(two), "keenlodge")
	b.until(func() bool { return len(b.in("box", "u-timetable")) == 2 && b.newest("to-box").State == run.Done }, "what was due")
	require.EqualValues(t, run.Upkeep, b.newest("to-box").Cause)
	require.Nil(t, box().Away)
	found, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Empty(t, found, "nothing was put where it was")

	// While something is going it can't be let go.
	rule.Bandwidth = []string{"64 KiB"}
	b.site.Copies = map[string]site.Copy{"to-box": rule}
	b.apply()
	noise := make([]byte, 1<<20)
	rand.Read(noise)
	b.host.Write("timetable", "vda", 0, noise)
	backup()
	var going string
	b.until(func() bool {
		runs, err := b.rec.Runs(ctx, records.RunFilter{Policy: "to-box", Page: listing.Page{Limit: 1}})
		require.NoError(t, err)
		going = runs[0].ID
		return runs[0].State == run.Running
	}, "a copy under way")
	_, err = b.l.Disks.Release(ctx, "box")
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, going)
	_, err = b.l.Runs.Cancel(ctx, going, "operator", "the disk has to go")
	require.NoError(t, err)
	b.await(going)

	// A file that is open keeps it from being unmounted, which is said; then it is pulled all the same, and comes back.
	f, err := os.Open(filepath.Join(other, "store.json"))
	require.NoError(t, err)
	b.until(func() bool { // what was cancelled may have been queued once more, for its images are to be copied still
		let, err = b.l.Disks.Release(ctx, "box")
		return !errors.Is(err, fault.ErrConflict)
	}, "the end of all that uses it")
	require.NoError(t, err)
	require.False(t, let.Safe)
	require.Contains(t, let.Says, "something else uses")
	_, err = b.l.Stores.Named(ctx, "box")
	require.ErrorContains(t, err, "it was let go to be unplugged")
	require.NoError(t, f.Close())
	out()
	b.until(func() bool { w, err := b.rec.Whereabouts(ctx, "box"); return err == nil && !w.Here && !w.Released }, "that it is away")
	in(one)
	b.until(func() bool { w, err := b.rec.Whereabouts(ctx, "box"); return err == nil && w.Here }, "that it is here")
	_, err = b.l.Stores.Named(ctx, "box")
	require.NoError(t, err)
	let, err = b.l.Disks.TakeBack(ctx, "box")
	require.NoError(t, err)
	require.Contains(t, let.Says, "is used again")
}

// Two disks that are used in turn, at one folder: each gets what it lacks when it is the one that is here, and rotates by itself.
func TestDisksInTurn(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	at := filepath.Join(t.TempDir(), "vault")
	b := newBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 9"}})
	disks := map[string]func(string) string{}
	for _, name := range []string{"vault-red", "vault-green"} {
		disks[name], _ = plug(t)
		folder := filepath.Join(disks[name](at), "keenlodge")
		require.NoError(t, os.Mkdir(folder, 0o700))
		_, err := b.l.AddStore(ctx, name, wire.StoreAddition{Spec: site.Store{Medium: "dir", Layout: site.Pooled, Like: "quay-shelf", Set: "vault", Settings: &dir.Settings{Folder: folder, Removable: true}}})
		require.NoError(t, err)
		b.until(func() bool { w, err := b.rec.Whereabouts(ctx, name); return err == nil && w.Here }, "that it is seen")
		let, err := b.l.Disks.Release(ctx, name)
		require.NoError(t, err)
		require.True(t, let.Safe, let.Says)
		b.until(func() bool { w, err := b.rec.Whereabouts(ctx, name); return err == nil && !w.Here }, "that it is away")
	}
	var err error
	b.site, err = b.rec.Site(ctx)
	require.NoError(t, err)
	b.site.Copies = map[string]site.Copy{"to-vault": {From: "quay-shelf", ToSet: "valut", Soon: true, Rotation: "newest 2"}}
	_, err = b.l.Apply(ctx, b.site, true)
	require.ErrorContains(t, err, `no store belongs to a set called "valut"; did you mean "vault"?`)
	b.site.Copies = map[string]site.Copy{"to-vault": {From: "quay-shelf", ToSet: "vault", Soon: true, Rotation: "newest 2"}}
	b.apply()
	taken := 0
	for _, name := range []string{"vault-red", "vault-green", "vault-red", "vault-green"} {
		require.EqualValues(t, run.Done, b.run("nightly-guests").State)
		taken++
		disks[name](at)
		newest := b.in("quay-shelf", "u-timetable")[0].ID
		b.until(func() bool {
			m := b.in(name, "u-timetable")
			return len(m) > 0 && m[0].CopyOf == newest && b.newest("to-vault").State == run.Done
		}, "the newest image on "+name)
		require.Len(t, b.in(name, "u-timetable"), min(taken, 2))
		now, err := b.rec.Site(ctx)
		require.NoError(t, err)
		require.Equal(t, name, now.Copies["to-vault"].To)
		same, err := b.l.Apply(ctx, b.site, true)
		require.NoError(t, err)
		require.Empty(t, same.Changes, "which disk is here is no change of the site")
		let, err := b.l.Disks.Release(ctx, name)
		require.NoError(t, err)
		require.True(t, let.Safe, let.Says)
	}
}
