package block

import (
	"bytes"
	"math"
	"math/rand/v2"
	"os"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
)

// memory is some of this process's memory as a device. Where fail has been called an empty file is mapped, and reading that is an input/output
// error, as on a disk that fails.
func memory(t *testing.T, size int) (r *Direct, content []byte, at int64, fail func(from, length int)) {
	content, err := unix.Mmap(-1, 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|unix.MAP_ANON)
	require.NoError(t, err)
	f, err := os.Open("/proc/self/mem")
	require.NoError(t, err)
	empty, err := os.CreateTemp(t.TempDir(), "")
	require.NoError(t, err)
	t.Cleanup(func() { f.Close(); empty.Close(); unix.Munmap(content) })
	at = int64(uintptr(unsafe.Pointer(&content[0])))
	return &Direct{f: f, size: math.MaxInt64, align: 4096}, content, at, func(from, length int) {
		_, _, errno := unix.Syscall6(unix.SYS_MMAP, uintptr(at)+uintptr(from), uintptr(length), unix.PROT_READ, unix.MAP_SHARED|unix.MAP_FIXED, empty.Fd(), 0)
		require.Zero(t, errno)
	}
}

// What can't be read is zeros, to a block, and is told; all around it is as it is. Without that it is an error, and too much of it always is.
func TestHoles(t *testing.T) {
	const size = 40 << 20
	r, content, at, fail := memory(t, size)
	rng := rand.New(rand.NewPCG(1, 2))
	for i := range content {
		content[i] = byte(rng.Uint32())
	}
	want := bytes.Clone(content)
	for _, hole := range [][2]int{{5 << 12, 1 << 12}, {100 << 12, 3 << 12}, {1 << 20, 2 << 20}} {
		fail(hole[0], hole[1])
		clear(want[hole[0] : hole[0]+hole[1]])
	}
	got := Buffer(4<<20, 4096)
	_, err := r.ReadAt(got, at)
	require.ErrorIs(t, err, unix.EIO)

	holed := r.Holed()
	for _, step := range []int{1 << 20, 64 << 10, 777} {
		for from := 0; from < 4<<20; from += step {
			part := got[from:min(from+step, 4<<20)]
			n, err := holed.ReadAt(part, at+int64(from))
			require.NoError(t, err)
			require.Equal(t, len(part), n)
		}
		require.True(t, bytes.Equal(want[:4<<20], got))
		clear(got)
		require.Equal(t, []disk.Extent{{Offset: at + 5<<12, Length: 1 << 12, Kind: disk.Data}, {Offset: at + 100<<12, Length: 3 << 12, Kind: disk.Data}, {Offset: at + 1<<20, Length: 2 << 20, Kind: disk.Data}}, holed.Holes())
	}
	fail(4<<20, 32<<20)
	for from := int64(4 << 20); err == nil || from == 4<<20; from += 1 << 20 {
		_, err = holed.ReadAt(got[:1<<20], at+from)
	}
	require.ErrorContains(t, err, "the disk as a whole is at fault")
}
