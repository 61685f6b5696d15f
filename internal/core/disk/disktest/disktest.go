// Package disktest is what tests of disk formats have in common: sparse disks, and QEMU as the judge.
package disktest

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/raw"
)

// Sparse makes a sparse raw disk of a size, with data in some places.
func Sparse(t testing.TB, rng *rand.Rand, size int64, places int) (file string, d *raw.File) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "disk.raw")
	f, err := os.Create(file)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(size))
	for range places {
		piece := make([]byte, min(size, 1+rng.Int64N(3_000_000)))
		for i := range piece {
			piece[i] = byte(rng.Uint32())
			if i%3 > 0 {
				piece[i] &= 3 // something to compress
			}
		}
		_, err := f.WriteAt(piece, rng.Int64N(size-int64(len(piece))+1))
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	d, err = raw.Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return file, d
}

// File opens a file, and tells its length.
func File(t testing.TB, name string) (*os.File, int64) {
	t.Helper()
	f, err := os.Open(name)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	st, err := f.Stat()
	require.NoError(t, err)
	return f, st.Size()
}

// QEMU runs qemu-img, which has to succeed, and returns what it says.
func QEMU(t testing.TB, args ...string) string {
	t.Helper()
	out, err := exec.Command("qemu-img", args...).CombinedOutput()
	require.NoError(t, err, "%v: %s", args, out)
	return string(out)
}

// Same makes sure that two disks hold the same.
func Same(t testing.TB, a, b disk.Disk) {
	t.Helper()
	at, err := disk.FirstDifference(t.Context(), a, b)
	require.NoError(t, err)
	require.EqualValues(t, -1, at)
}
