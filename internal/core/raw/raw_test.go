package raw

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

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
	_, err = Open(filepath.Join(t.TempDir(), "absent"))
	require.ErrorIs(t, err, os.ErrNotExist)
}
