package raw

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// copied writes a disk into a file, and opens that, which is the same.
func copied(t *testing.T, path string, d disk.Disk) *File {
	t.Helper()
	require.NoError(t, Write(t.Context(), path, d))
	back, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { back.Close() })
	at, err := disk.FirstDifference(t.Context(), back, d)
	require.NoError(t, err)
	require.EqualValues(t, -1, at)
	return back
}

// What is written is the disk, holes stay holes, and a copy that fails leaves nothing.
func TestWrite(t *testing.T) {
	d := make(disk.Memory, 5<<20+77)
	copy(d[3<<20:], "tide tables")
	path := filepath.Join(t.TempDir(), "copy.raw")
	copied(t, path, d)
	require.ErrorIs(t, Write(t.Context(), path, d), os.ErrExist, "nothing is overwritten")
	bad := filepath.Join(t.TempDir(), "bad.raw")
	require.ErrorIs(t, Write(t.Context(), bad, broken{d}), errBroken)
	require.NoFileExists(t, bad)
	require.ErrorIs(t, Write(t.Context(), bad, short{d}), io.ErrUnexpectedEOF)
	require.NoFileExists(t, bad)
	require.ErrorContains(t, Write(t.Context(), bad, silent{d}), "none were given")
	require.NoFileExists(t, bad)
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(errBroken)
	require.ErrorIs(t, Write(ctx, bad, d), errBroken)
	require.NoFileExists(t, bad)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode())
}

// Of a disk that is mostly holes only the rest is written, at whatever offsets it lies.
func TestSparse(t *testing.T) {
	folder := t.TempDir()
	from, err := os.Create(filepath.Join(folder, "disk.raw"))
	require.NoError(t, err)
	defer from.Close()
	for _, at := range []int64{4096, 3<<20 - 4096, 9 << 20, 20<<20 - 8192} {
		_, err := from.WriteAt(bytes.Repeat([]byte("tide"), 1024), at)
		require.NoError(t, err)
	}
	require.NoError(t, from.Truncate(21<<20+5))
	d, err := Open(from.Name())
	require.NoError(t, err)
	defer d.Close()
	path := filepath.Join(folder, "copy.raw")
	back := copied(t, path, d)
	n, err := disk.Allocated(t.Context(), back)
	require.NoError(t, err)
	require.EqualValues(t, 4*4096, n)
}

// short ends before it should, silent tells no extents.
type (
	short  struct{ disk.Memory }
	silent struct{ disk.Memory }
)

func (s short) ReadAt(p []byte, off int64) (int, error) { return s.Memory[:4<<20].ReadAt(p, off) }
func (silent) Extents(context.Context, int64, int64) ([]disk.Extent, error) {
	return nil, nil
}

var errBroken = errors.New("broken")

type broken struct{ disk.Memory }

func (b broken) ReadAt(p []byte, off int64) (int, error) {
	if off > 2<<20 {
		return 0, errBroken
	}
	return b.Memory.ReadAt(p, off)
}

func TestHolesAreZeros(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk.raw")
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(4<<20))
	_, err = f.WriteAt(make([]byte, 1<<20), 1<<20) // zeros that were written are data to a file system
	require.NoError(t, err)
	require.NoError(t, f.Close())
	d, err := Open(path)
	require.NoError(t, err)
	defer d.Close()
	var got []disk.Extent
	require.NoError(t, disk.Walk(t.Context(), d, func(e disk.Extent) error { got = append(got, e); return nil }))
	require.Equal(t, []disk.Extent{
		{Offset: 0, Length: 1 << 20, Kind: disk.Zero}, {Offset: 1 << 20, Length: 1 << 20, Kind: disk.Data}, {Offset: 2 << 20, Length: 2 << 20, Kind: disk.Zero},
	}, got)
	part, err := d.Extents(t.Context(), 3<<19, 100)
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 3 << 19, Length: 100, Kind: disk.Data}}, part, "never past what was asked for")
	part, err = d.Extents(t.Context(), 3<<19, 3<<20)
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 3 << 19, Length: 1 << 19, Kind: disk.Data}}, part, "and only as far as the data goes")
	part, err = d.Extents(t.Context(), 1<<19, 1<<20)
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 1 << 19, Length: 1 << 19, Kind: disk.Zero}}, part)
	part, err = d.Extents(t.Context(), 1<<19, 100)
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 1 << 19, Length: 100, Kind: disk.Zero}}, part)
	_, err = Open(filepath.Join(t.TempDir(), "absent"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
