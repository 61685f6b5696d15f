package dir

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/store/medium"
)

func open(t *testing.T) *Dir {
	d, err := Open(t.TempDir())
	require.NoError(t, err)
	return d
}

func list(t *testing.T, d *Dir, prefix string) map[string]int64 {
	found := map[string]int64{}
	require.NoError(t, d.List(t.Context(), prefix, func(o medium.Object) error { found[o.Name] = o.Size; return nil }))
	return found
}

func TestPutGetListDelete(t *testing.T) {
	d, ctx := open(t), t.Context()
	require.Empty(t, list(t, d, "pack/"), "nothing of the kind yet")
	require.NoError(t, d.Put(ctx, "pack/ab/abcd", []byte("0123456789")))
	require.NoError(t, d.Put(ctx, "image/x", nil))
	require.Equal(t, map[string]int64{"pack/ab/abcd": 10}, list(t, d, "pack/"))
	require.Equal(t, map[string]int64{"image/x": 0}, list(t, d, "image/"))
	for _, c := range []struct {
		off, n int64
		want   string
	}{{0, -1, "0123456789"}, {3, 4, "3456"}, {3, -1, "3456789"}, {10, -1, ""}, {10, 0, ""}} {
		got, err := d.Get(ctx, "pack/ab/abcd", c.off, c.n)
		require.NoError(t, err)
		require.Equal(t, c.want, string(got))
	}
	_, err := d.Get(ctx, "pack/ab/abcd", 8, 4)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = d.Get(ctx, "pack/none", 0, -1)
	require.ErrorIs(t, err, medium.ErrNotFound)
	require.NoError(t, d.Delete(ctx, "pack/ab/abcd"))
	require.NoError(t, d.Delete(ctx, "pack/ab/abcd"), "twice is no error")
	require.Empty(t, list(t, d, "pack/"))
}

// Several writers of one name, as two lodges that had the same thought: the object is whole at any time.
func TestWritersOfOneName(t *testing.T) {
	d := open(t)
	content := make([]byte, 1<<20)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() { require.NoError(t, d.Put(t.Context(), "pack/00/same", content)) })
		all.Go(func() {
			if got, err := d.Get(t.Context(), "pack/00/same", 0, -1); err == nil {
				require.Len(t, got, len(content))
			} else {
				require.ErrorIs(t, err, medium.ErrNotFound)
			}
		})
	}
	all.Wait()
	left, err := filepath.Glob(filepath.Join(d.root, "pack", "00", "*"))
	require.NoError(t, err)
	require.Len(t, left, 1)
}

// A full disk is told as such, and leaves no part behind.
func TestAFullDisk(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, syscall.Mount("none", folder, "tmpfs", 0, "size=64k"))
	t.Cleanup(func() { syscall.Unmount(folder, syscall.MNT_DETACH) })
	d, err := Open(folder)
	require.NoError(t, err)
	require.NoError(t, d.Put(t.Context(), "pack/one", make([]byte, 4096)))
	err = d.Put(t.Context(), "pack/two", make([]byte, 1<<20))
	require.ErrorIs(t, err, medium.ErrFull)
	require.ErrorContains(t, err, folder)
	require.Equal(t, map[string]int64{"pack/one": 4096}, list(t, d, "pack/"))
	room, err := d.Room(t.Context())
	require.NoError(t, err)
	require.EqualValues(t, 64<<10, room.TotalBytes)
	require.Positive(t, room.FreeBytes, "the part is gone")
}

func TestOpenSaysWhatIsWrong(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	for path, want := range map[string]string{
		"relative":                      "not an absolute path",
		filepath.Join(folder, "absent"): "does not exist; create it, or mount the disk that holds it",
		file:                            "is not a folder",
	} {
		_, err := Open(path)
		require.ErrorContains(t, err, want)
	}
	_, err := os.Stat(filepath.Join(folder, "absent"))
	require.ErrorIs(t, err, os.ErrNotExist, "nothing is made")
}

// What a crashed writer left is removed a day later, and never listed; a fresh part may belong to somebody.
func TestPartsOfACrashedWriter(t *testing.T) {
	d := open(t)
	require.NoError(t, d.Put(t.Context(), "pack/00/whole", []byte("x")))
	for name, age := range map[string]time.Duration{"old": 25 * time.Hour, "young": time.Hour} {
		part := filepath.Join(d.root, "pack", "00", partPrefix+name)
		require.NoError(t, os.WriteFile(part, []byte("half"), 0o600))
		at := time.Now().Add(-age)
		require.NoError(t, os.Chtimes(part, at, at))
	}
	require.Equal(t, map[string]int64{"pack/00/whole": 1}, list(t, d, "pack/"))
	d.RemoveParts()
	left, err := filepath.Glob(filepath.Join(d.root, "pack", "00", partPrefix+"*"))
	require.NoError(t, err)
	require.Len(t, left, 1)
}

func TestAnEmptyFolder(t *testing.T) {
	d := open(t)
	require.NoError(t, os.Mkdir(filepath.Join(d.root, "lost+found"), 0o700))
	empty, err := d.Empty()
	require.NoError(t, err)
	require.True(t, empty, "a fresh file system")
	require.NoError(t, os.WriteFile(filepath.Join(d.root, "holiday.jpg"), nil, 0o600))
	empty, err = d.Empty()
	require.NoError(t, err)
	require.False(t, empty)
}

// A listing that is cancelled ends.
func TestACancelledListing(t *testing.T) {
	d := open(t)
	for i := range 20 {
		require.NoError(t, d.Put(t.Context(), fmt.Sprintf("image/%d", i), nil))
	}
	ctx, cancel := context.WithCancel(t.Context())
	n := 0
	err := d.List(ctx, "image/", func(medium.Object) error { n++; cancel(); return nil })
	require.ErrorIs(t, err, context.Canceled)
	require.Equal(t, 1, n)
}
