package pooled

import (
	"math/rand/v2"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/mediumtest"
)

// year is a store in which a disk is stored once in full, then changed here and there and stored incrementally, day after day, with only the
// newest images kept and a sweep each day.
type year struct {
	t     *testing.T
	s     *Store
	m     *mediumtest.Memory
	rng   *rand.Rand
	disk  disk.Memory
	base  image.Disk
	kept  []string
	moved int64 // bytes that sweeps moved
	wrote int64 // bytes that images stored
}

func (y *year) store(d disk.Disk, base *image.Reader) {
	y.t.Helper()
	man := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "tickets-db", Taken: moment.AddDate(0, 0, len(y.kept)), Program: "test"}
	v, err := y.s.VisitToWrite(y.t.Context(), man.ID, "test")
	require.NoError(y.t, err)
	w := v.NewWriter(y.t.Context())
	var count store.Progress
	root, err := storeDisk(y.t.Context(), d, base, w, y.s.cuts, &count)
	require.NoError(y.t, err)
	require.NoError(y.t, w.Flush(y.t.Context()))
	_, stored := w.Written()
	y.wrote += stored
	y.base = image.Disk{Target: "vda", Size: d.Size(), Map: root}
	man.Disks = []image.Disk{y.base}
	require.NoError(y.t, v.Finish(y.t.Context(), man))
	require.NoError(y.t, v.End(y.t.Context()))
	y.kept = append(y.kept, man.ID)
}

// day changes so many places of 64 KiB and stores what changed.
func (y *year) day(changes, keep int) {
	y.t.Helper()
	d := changed{Memory: y.disk, read: new(atomic.Int64)}
	const step = 64 << 10
	fresh := map[int]bool{}
	for range changes {
		fresh[y.rng.IntN(len(y.disk)/step)] = true
	}
	for i := range len(y.disk) / step {
		e := disk.Extent{Offset: int64(i) * step, Length: step, Kind: disk.Unchanged}
		if fresh[i] {
			e.Kind = disk.Data
			fill(y.rng, y.disk[i*step:][:step])
		}
		d.extents = append(d.extents, e)
	}
	base, err := image.NewReader(y.s, y.base)
	require.NoError(y.t, err)
	y.store(d, base)
	for len(y.kept) > keep {
		require.NoError(y.t, y.s.DropImage(y.t.Context(), y.kept[0]))
		y.kept = y.kept[1:]
	}
	r, err := y.s.Sweep(y.t.Context(), store.SweepRequest{})
	require.NoError(y.t, err)
	y.moved += r.Moved
}

func fill(rng *rand.Rand, p []byte) {
	for i := range p {
		p[i] = byte(rng.Uint32())
	}
}

// referenced is how many bytes of pieces the kept images name, each once.
func (y *year) referenced() (bytes int64) {
	type unit struct {
		piece chunk.Name
		at    int64
	}
	seen := map[unit]bool{}
	for _, id := range y.kept {
		m, err := y.s.ReadImage(y.t.Context(), id)
		require.NoError(y.t, err)
		r, err := image.NewReader(y.s, m.Disks[0])
		require.NoError(y.t, err)
		require.NoError(y.t, r.Walk(y.t.Context(), func(v image.Visit) error {
			for at := v.From; v.Height == 0 && at < v.From+v.Length; at += small {
				seen[unit{v.Name, at}] = true
			}
			return nil
		}))
	}
	return int64(len(seen)) * small
}

// reading reads an image whole and returns how long the frames are, in bytes, that it takes from the medium, and how many.
func (y *year) reading(d image.Disk) (bytes int64, frames int) {
	y.m.Around = func(call, name string, act func() error) error {
		if call == "get" {
			frames++
		}
		return act()
	}
	defer func() { y.m.Around = nil }()
	again := reopen(y.t, y.m, nil)
	frames = 0
	r, err := image.NewReader(again, d)
	require.NoError(y.t, err)
	seen := map[frameAt]bool{}
	require.NoError(y.t, r.Walk(y.t.Context(), func(v image.Visit) error {
		p, ok := again.find(v.Name)
		require.True(y.t, ok)
		if at := (frameAt{p.id, p.offset}); !seen[at] {
			seen[at] = true
			bytes += int64(p.stored())
		}
		return nil
	}))
	frames = 0
	at, err := disk.FirstDifference(y.t.Context(), r, y.disk)
	require.NoError(y.t, err)
	require.EqualValues(y.t, -1, at)
	return bytes, frames
}

// After a year of incremental images, the thirty newest of which are kept, a store takes little more than what they need, and the newest is read at
// little more than the price of a fresh full one.
func TestAYear(t *testing.T) {
	if testing.Short() {
		t.Skip("a year takes six seconds")
	}
	t.Parallel()
	m := &mediumtest.Memory{Shelf: mediumtest.NewShelf()}
	s, err := Make(t.Context(), m, time.Now(), NewCuts(), nil)
	require.NoError(t, err)
	s.packTarget = 256 << 10
	y := &year{t: t, s: s, m: m, rng: rand.New(rand.NewPCG(1, 365)), disk: make(disk.Memory, 16<<20)}
	fill(y.rng, y.disk)
	y.store(y.disk, nil)
	fresh, gets := y.reading(y.base)
	for day := 1; day <= 365; day++ {
		y.day(3, 30)
		if day%60 == 5 {
			used, _, err := s.Used(t.Context())
			require.NoError(t, err)
			needed, read, n := y.referenced(), int64(0), 0
			read, n = y.reading(y.base)
			t.Logf("day %d: %.2f × of what is needed is used; read %.2f × as much as a fresh image, in %.2f × the requests; sweeps moved %.1f × what was stored", day, float64(used)/float64(needed), float64(read)/float64(fresh), float64(n)/float64(gets),
				float64(y.moved)/float64(y.wrote))
			require.Less(t, float64(used), 1.5*float64(needed))
			require.Less(t, float64(read), 1.4*float64(fresh))
		}
	}
	used, _, err := s.Used(t.Context())
	require.NoError(t, err)
	require.Less(t, float64(used), 1.2*float64(y.referenced()))
	read, _ := y.reading(y.base)
	require.Less(t, float64(read), 1.1*float64(fresh))
	requireClean(t, reopen(t, m, nil))
}
