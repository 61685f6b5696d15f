package inplace

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/line"
)

// harbour is a disk with two subvolumes that are mounted, and nothing else of it.
func harbour(t *testing.T) (k *Keeper, d *agenttest.Disk, first, second string) {
	t.Helper()
	d = agenttest.New(t, 256<<20, "mkfs.btrfs -q $f")
	agenttest.Sh(t, "btrfs subvolume create $m/@srv; btrfs subvolume create $m/@logs", "m="+d.Mounted)
	first, second = filepath.Join(t.TempDir(), "srv"), filepath.Join(t.TempDir(), "logs")
	agenttest.Sh(t, "umount $m; mkdir $a $b; mount -o subvol=/@srv,noexec $l $a; mount -o subvol=/@logs $l $b", "m="+d.Mounted, "l="+d.Loop, "a="+first, "b="+second)
	t.Cleanup(func() { agenttest.Sh(t, "umount -l $a $b", "a="+first, "b="+second) })
	write(t, first, "one")
	return &Keeper{Folder: t.TempDir(), Writable: []string{filepath.Dir(first), filepath.Dir(second)}}, d, first, second
}

func write(t *testing.T, folder, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "berths"), []byte(text), 0o600))
}

func read(t *testing.T, folder string) string {
	t.Helper()
	body, err := os.ReadFile(filepath.Join(folder, "berths"))
	require.NoError(t, err)
	return string(body)
}

func ours(t *testing.T, k *Keeper) (ids []string, others []string) {
	t.Helper()
	all, err := k.List(t.Context())
	require.NoError(t, err)
	for _, s := range all.Snaps {
		if s.ID != "" {
			ids = append(ids, s.ID)
		} else {
			others = append(others, s.Name)
		}
	}
	return ids, others
}

// What subvolumes hold is kept, gone back to in one step, and removed; what others made is listed, and stays.
func TestSubvolumes(t *testing.T) {
	k, d, first, second := harbour(t)
	ctx := t.Context()
	agenttest.Sh(t, "mkdir -p $m; mount -o subvolid=5 $l $m; btrfs subvolume snapshot -r $m/@srv $m/keepers-own; umount $m", "m="+filepath.Join(t.TempDir(), "top"), "l="+d.Loop)
	got, err := k.Take(ctx, line.Snap{ID: "abcdefghij", Note: "before the upgrade"})
	require.NoError(t, err)
	require.Subset(t, got.Of, []string{first, second})
	again, err := k.Take(ctx, line.Snap{ID: "abcdefghij"})
	require.NoError(t, err)
	require.Equal(t, got.Ref, again.Ref, "it is taken once")
	ids, others := ours(t, k)
	require.Equal(t, []string{"abcdefghij"}, ids)
	require.Equal(t, []string{"keepers-own"}, others)

	write(t, first, "two")
	_, err = k.Back(ctx, line.Unsnap{ID: "abcdefghij", Ref: "another"})
	require.ErrorContains(t, err, "there is no snapshot")
	told, err := k.Back(ctx, line.Unsnap{ID: "abcdefghij", Ref: got.Ref})
	require.NoError(t, err)
	require.Contains(t, told, first+" is as it was then")
	require.Equal(t, "one", read(t, first))
	require.Contains(t, agenttest.Sh(t, "grep \" $a \" /proc/self/mountinfo", "a="+first), "noexec", "mounted as it was")

	_, err = (&Keeper{Folder: k.Folder, Writable: []string{filepath.Dir(first)}}).Back(ctx, line.Unsnap{ID: "abcdefghij", Ref: got.Ref})
	require.ErrorContains(t, err, "allows nothing to be written to "+second)
	agenttest.Sh(t, "btrfs subvolume create $b/below", "b="+second)
	write(t, first, "two")
	_, err = k.Back(ctx, line.Unsnap{ID: "abcdefghij", Ref: got.Ref})
	require.ErrorContains(t, err, second+" has subvolumes of its own below it, such as @logs/below")
	require.Equal(t, "two", read(t, first), "nothing was done")
	agenttest.Sh(t, "btrfs subvolume delete $b/below", "b="+second)

	// What is in use goes on with what it has, and nothing is lost of it until it is mounted anew.
	write(t, first, "three")
	f, err := os.Open(filepath.Join(first, "berths"))
	require.NoError(t, err)
	told, err = k.Back(ctx, line.Unsnap{ID: "abcdefghij", Ref: got.Ref})
	require.NoError(t, err)
	require.Contains(t, told, first+" is in use: it is as it was then from the next start of the server on")
	require.Equal(t, "three", read(t, first))
	require.NoError(t, f.Close())
	agenttest.Sh(t, "umount $a; mount -o subvol=/@srv $l $a", "a="+first, "l="+d.Loop)
	require.Equal(t, "one", read(t, first))
	ids, _ = ours(t, k) // which removes what was replaced
	require.Equal(t, []string{"abcdefghij"}, ids)

	was, err := k.Remove(ctx, line.Unsnap{ID: "abcdefghij", Ref: "another"})
	require.NoError(t, err)
	require.False(t, was, "one of that ID that is not the one is never touched")
	was, err = k.Remove(ctx, line.Unsnap{ID: "abcdefghij", Ref: got.Ref})
	require.NoError(t, err)
	require.True(t, was)
	was, err = k.Remove(ctx, line.Unsnap{ID: "abcdefghij"})
	require.NoError(t, err)
	require.False(t, was)
	require.Equal(t, "0", agenttest.Sh(t, "mkdir -p $m; mount -o subvolid=5 $l $m; ls $m/.keenlodge-in-place | wc -l; umount $m", "m="+filepath.Join(t.TempDir(), "top"), "l="+d.Loop))
}

// A process that dies in the middle leaves what the next one takes for unfinished, and the file system's top mounted, which it ends.
func TestLeftInTheMiddle(t *testing.T) {
	k, d, first, _ := harbour(t)
	top := filepath.Join(k.Folder, "top")
	agenttest.Sh(t, "mkdir $t; mount -o subvolid=5 $l $t; mkdir -p $t/.keenlodge-in-place/abcdefghij; btrfs subvolume snapshot -r $a $t/.keenlodge-in-place/abcdefghij/0; btrfs subvolume snapshot $a $t/.keenlodge-in-place/was-klmnopqrst-0", "t="+top, "l="+d.Loop, "a="+first)
	ids, _ := ours(t, k)
	require.Empty(t, ids, "it says nothing of itself yet")
	write(t, first, "two")
	got, err := k.Take(t.Context(), line.Snap{ID: "abcdefghij"})
	require.NoError(t, err)
	write(t, first, "three")
	_, err = k.Back(t.Context(), line.Unsnap{ID: "abcdefghij", Ref: got.Ref})
	require.NoError(t, err)
	require.Equal(t, "two", read(t, first))
	require.NotContains(t, agenttest.Sh(t, "cat /proc/self/mountinfo"), top)
	_, err = k.Take(t.Context(), line.Snap{ID: "../../etc"})
	require.ErrorContains(t, err, "is no snapshot's ID")
}

func TestMain(m *testing.M) {
	if err := agenttest.Alone(); err != nil { // what is mounted on this host is snapshotted, also what other rooms' tests have mounted
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	os.Exit(m.Run())
}
