package lodge

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/raw"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
)

func shelf(t testing.TB) *store.Store {
	m, err := dir.Open(t.TempDir())
	require.NoError(t, err)
	s, err := store.Make(context.Background(), m, time.Now())
	require.NoError(t, err)
	return s
}

// patchwork calls some ranges zero, at odd places, and holds data in the others.
type patchwork struct {
	disk.Memory
	extents []disk.Extent
	fail    int64 // reads from here on fail, if it is not 0
}

func (p patchwork) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	for _, e := range p.extents {
		if offset < e.End() {
			return []disk.Extent{{Offset: offset, Length: min(e.End()-offset, length), Kind: e.Kind}}, nil
		}
	}
	return nil, errors.New("no extent")
}

var errLine = errors.New("the line was cut")

func (p patchwork) ReadAt(b []byte, off int64) (int, error) {
	if p.fail > 0 && off >= p.fail {
		return 0, errLine
	}
	return p.Memory.ReadAt(b, off)
}

func randomPatchwork(rng *rand.Rand) patchwork {
	size := 1 + rng.IntN(20<<20)
	p := patchwork{Memory: make(disk.Memory, size)}
	for at := 0; at < size; {
		n := min(size-at, 1+rng.IntN(700_000))
		e := disk.Extent{Offset: int64(at), Length: int64(n), Kind: disk.Kind(rng.IntN(2))}
		for i := at; e.Kind == disk.Data && i < at+n; i++ {
			p.Memory[i] = byte(rng.Uint32())
		}
		p.extents = append(p.extents, e)
		at += n
	}
	return p
}

// Whatever the extents, what comes out of the store is the disk, byte for byte.
func TestAStoredDiskIsTheDisk(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 9))
	s := shelf(t)
	for range 25 {
		p := randomPatchwork(rng)
		w := s.NewWriter(t.Context())
		var read atomic.Int64
		root, err := storeDisk(t.Context(), p, w, s.Header().BlockSize, &read)
		require.NoError(t, err)
		require.NoError(t, w.Flush(t.Context()))
		r, err := image.NewReader(s, image.Disk{Target: "vda", Size: p.Size(), BlockSize: s.Header().BlockSize, Map: root})
		require.NoError(t, err)
		at, err := disk.FirstDifference(t.Context(), r, p)
		require.NoError(t, err)
		require.EqualValues(t, -1, at)
		require.LessOrEqual(t, read.Load(), p.Size())
	}
}

// A source that breaks, and a run that is cancelled, end it with their own reason, and nothing hangs.
func TestASourceThatBreaks(t *testing.T) {
	p := patchwork{Memory: make(disk.Memory, 30<<20), extents: []disk.Extent{{Offset: 0, Length: 30 << 20}}, fail: 17 << 20}
	s := shelf(t)
	var read atomic.Int64
	_, err := storeDisk(t.Context(), p, s.NewWriter(t.Context()), s.Header().BlockSize, &read)
	require.ErrorIs(t, err, errLine)
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(errStopping)
	_, err = storeDisk(ctx, p, s.NewWriter(ctx), s.Header().BlockSize, &read)
	require.ErrorIs(t, err, errStopping)
}

// BenchmarkStoreDisk stores the raw disk that KEENLODGE_DISK names, without a hypervisor: what is left of a backup's time
// after QEMU's part.
func BenchmarkStoreDisk(b *testing.B) {
	path := os.Getenv("KEENLODGE_DISK")
	if path == "" {
		b.Skip("KEENLODGE_DISK names no raw disk")
	}
	for b.Loop() {
		d, err := raw.Open(path)
		require.NoError(b, err)
		s := shelf(b)
		w := s.NewWriter(b.Context())
		var read atomic.Int64
		_, err = storeDisk(b.Context(), d, w, s.Header().BlockSize, &read)
		require.NoError(b, err)
		require.NoError(b, w.Flush(b.Context()))
		b.SetBytes(read.Load())
		require.NoError(b, d.Close())
	}
}
