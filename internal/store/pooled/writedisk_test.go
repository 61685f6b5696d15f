package pooled

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/raw"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
)

func newShelf(t testing.TB) *Store {
	m, err := dir.Open(t.TempDir())
	require.NoError(t, err)
	s, err := Make(context.Background(), m, time.Now(), NewCuts(), nil)
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

var (
	errLine    = errors.New("the line was cut")
	errStopped = errors.New("the service was stopped")
)

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

// rounds is how often something is tried; few times where there is little time.
func rounds(n int) int {
	if testing.Short() {
		return n / 5
	}
	return n
}

// Whatever the extents, what comes out of the store is the disk, byte for byte.
func TestAStoredDiskIsTheDisk(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 9))
	s := newShelf(t)
	for range rounds(25) {
		p := randomPatchwork(rng)
		w := writer(t, s)
		var count store.Progress
		root, err := storeDisk(t.Context(), p, nil, w, s.cuts, &count)
		require.NoError(t, err)
		require.NoError(t, w.Flush(t.Context()))
		r, err := image.NewReader(s, image.Disk{Target: "vda", Size: p.Size(), Map: root})
		require.NoError(t, err)
		at, err := disk.FirstDifference(t.Context(), r, p)
		require.NoError(t, err)
		require.EqualValues(t, -1, at)
		require.LessOrEqual(t, count.Read.Load(), p.Size())
		require.LessOrEqual(t, count.Data.Load(), count.Read.Load()+cut.Unit)
	}
}

// writer begins a visit for the length of the test.
func writer(t testing.TB, s *Store) *Writer {
	v, err := s.VisitToWrite(context.Background(), image.NewID(), "test")
	require.NoError(t, err)
	t.Cleanup(func() { v.End(context.Background()) })
	return v.NewWriter(t.Context())
}

// changed is a disk of which a source says what changed since a base.
type changed struct {
	disk.Memory
	extents []disk.Extent
	read    *atomic.Int64
}

func (c changed) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	for _, e := range c.extents {
		if offset < e.End() {
			return []disk.Extent{{Offset: offset, Length: min(e.End()-offset, length), Kind: e.Kind}}, nil
		}
	}
	return nil, errors.New("no extent")
}

func (c changed) ReadAt(p []byte, off int64) (int, error) {
	c.read.Add(int64(len(p)))
	return c.Memory.ReadAt(p, off)
}

// An incremental copy is the disk, byte for byte, whatever the source's granularity, and reads little but what changed.
func TestAnIncrementalCopyIsTheDisk(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 9))
	s := newShelf(t)
	for range rounds(25) {
		p := randomPatchwork(rng)
		var count store.Progress
		w := writer(t, s)
		root, err := storeDisk(t.Context(), p, nil, w, s.cuts, &count)
		require.NoError(t, err)
		require.NoError(t, w.Flush(t.Context()))
		base, err := image.NewReader(s, image.Disk{Target: "vda", Size: p.Size(), Map: root})
		require.NoError(t, err)
		next := changed{Memory: append(disk.Memory{}, p.Memory...), read: new(atomic.Int64)}
		for at := 0; at < len(next.Memory); {
			n := min(len(next.Memory)-at, 1+rng.IntN(900_000))
			e := disk.Extent{Offset: int64(at), Length: int64(n), Kind: disk.Unchanged}
			switch rng.IntN(4) {
			case 0:
				e.Kind = disk.Data
				for i := at; i < at+n; i++ {
					next.Memory[i] = byte(rng.Uint32())
				}
			case 1:
				e.Kind = disk.Zero
				clear(next.Memory[at : at+n])
			}
			next.extents = append(next.extents, e)
			at += n
		}
		w = writer(t, s)
		root, err = storeDisk(t.Context(), next, base, w, s.cuts, &count)
		require.NoError(t, err)
		require.NoError(t, w.Flush(t.Context()))
		r, err := image.NewReader(s, image.Disk{Target: "vda", Size: p.Size(), Map: root})
		require.NoError(t, err)
		at, err := disk.FirstDifference(t.Context(), r, next.Memory)
		require.NoError(t, err)
		require.EqualValues(t, -1, at)
		held, err := r.Held(t.Context(), 0, (p.Size()+cut.Unit-1)/cut.Unit)
		require.NoError(t, err)
		require.Equal(t, held, count.Data.Load(), "what it holds is told, though most of it was not read")
		var most int64
		for _, e := range next.extents {
			if e.Kind == disk.Data {
				most += e.Length
			}
		}
		require.LessOrEqual(t, next.read.Load(), most+int64(2*len(next.extents)*cut.Gap*cut.Unit), "edges aside, only what changed")
		_, err = storeDisk(t.Context(), changed{next.Memory, []disk.Extent{{Length: p.Size(), Kind: disk.Unchanged}}, new(atomic.Int64)}, nil, writer(t, s), s.cuts, &count)
		require.ErrorContains(t, err, "no older image")
	}
}

// A source that breaks, and a run that is cancelled, end it with their own reason, and nothing hangs.
func TestASourceThatBreaks(t *testing.T) {
	p := patchwork{Memory: make(disk.Memory, 30<<20), extents: []disk.Extent{{Offset: 0, Length: 30 << 20}}, fail: 17 << 20}
	s := newShelf(t)
	var count store.Progress
	_, err := storeDisk(t.Context(), p, nil, writer(t, s), s.cuts, &count)
	require.ErrorIs(t, err, errLine)
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(errStopped)
	_, err = storeDisk(ctx, p, nil, writer(t, s), s.cuts, &count)
	require.ErrorIs(t, err, errStopped)
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
		s := newShelf(b)
		w := writer(b, s)
		var count store.Progress
		_, err = storeDisk(b.Context(), d, nil, w, s.cuts, &count)
		require.NoError(b, err)
		require.NoError(b, w.Flush(b.Context()))
		b.SetBytes(count.Read.Load())
		require.NoError(b, d.Close())
	}
}

// overlay is a disk of which some pieces were written over, as the source tells.
type overlay struct {
	disk.Disk
	fresh map[int64][]byte
}

const piece64 = 64 << 10

func (o overlay) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	at := offset / piece64 * piece64
	_, is := o.fresh[at]
	end := at + piece64
	for end < offset+length {
		if _, same := o.fresh[end]; same != is {
			break
		}
		end += piece64
	}
	kind := disk.Unchanged
	if is {
		kind = disk.Data
	}
	return []disk.Extent{{Offset: offset, Length: min(end, offset+length) - offset, Kind: kind}}, nil
}

func (o overlay) ReadAt(p []byte, off int64) (int, error) {
	n, err := o.Disk.ReadAt(p, off)
	for at := off / piece64 * piece64; at < off+int64(len(p)); at += piece64 {
		if body, ok := o.fresh[at]; ok {
			from := max(at, off)
			copy(p[from-off:], body[from-at:])
		}
	}
	return n, err
}

// BenchmarkIncremental stores the disk that KEENLODGE_DISK names in full, then with one in a hundred of its pieces of 64 KiB
// written over with random bytes.
func BenchmarkIncremental(b *testing.B) {
	path := os.Getenv("KEENLODGE_DISK")
	if path == "" {
		b.Skip("KEENLODGE_DISK names no raw disk")
	}
	for b.Loop() {
		d, err := raw.Open(path)
		require.NoError(b, err)
		s := newShelf(b)
		w := writer(b, s)
		var count store.Progress
		begun := time.Now()
		root, err := storeDisk(b.Context(), d, nil, w, s.cuts, &count)
		require.NoError(b, err)
		require.NoError(b, w.Flush(b.Context()))
		full := time.Since(begun)
		base, err := image.NewReader(s, image.Disk{Target: "vda", Size: d.Size(), Map: root})
		require.NoError(b, err)
		o := overlay{d, map[int64][]byte{}}
		rng := rand.New(rand.NewPCG(1, 9))
		for len(o.fresh) < int(d.Size()/piece64/100) {
			body := make([]byte, piece64)
			for i := range body {
				body[i] = byte(rng.Uint32())
			}
			o.fresh[rng.Int64N(d.Size()/piece64)*piece64] = body
		}
		w = writer(b, s)
		begun = time.Now()
		_, err = storeDisk(b.Context(), o, base, w, s.cuts, &count)
		require.NoError(b, err)
		require.NoError(b, w.Flush(b.Context()))
		_, stored := w.Written()
		b.ReportMetric(time.Since(begun).Seconds(), "s/incremental")
		b.ReportMetric(time.Since(begun).Seconds()/full.Seconds(), "of-the-full")
		b.ReportMetric(float64(stored)/float64(len(o.fresh)*piece64), "stored/changed")
		require.NoError(b, d.Close())
	}
}

// Each step of the ladder gives no more bytes than the one before, in frames that any reader takes, and all are read back.
func TestTheLadder(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	var words [][]byte
	for range 3000 {
		w := make([]byte, 3+rng.IntN(9))
		for i := range w {
			w[i] = byte('a' + rng.IntN(26))
		}
		words = append(words, append(w, ' '))
	}
	d := make(disk.Memory, 0, 5<<20)
	for len(d) < 4<<20 {
		d = append(d, words[rng.IntN(1+rng.IntN(len(words)))]...)
	}
	before := int64(len(d)) + 1<<20 // room for names
	for _, step := range site.Compressions {
		m := &mediumtest.Memory{Shelf: mediumtest.NewShelf()}
		s, err := Make(t.Context(), m, moment, cut.Default(5), nil)
		require.NoError(t, err)
		man := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable", Taken: moment}
		w, err := s.Begin(t.Context(), man, store.WriteOptions{Program: "test", Compression: step})
		require.NoError(t, err)
		out, err := w.Disk(t.Context(), "vda", "raw", d, nil, &store.Progress{})
		require.NoError(t, err)
		man.Disks = []image.Disk{out}
		require.NoError(t, w.Flush(t.Context()))
		require.NoError(t, w.Finish(t.Context(), man))
		require.NoError(t, w.End(t.Context(), nil))
		requireSame(t, reopen(t, m, nil), man.ID, d)
		_, stored := w.Written()
		require.Less(t, stored, before, step)
		before = stored
	}
}
