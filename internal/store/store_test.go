package store

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
)

var moment = time.Date(2026, 3, 1, 23, 0, 0, 0, time.UTC)

func newStore(t *testing.T) (*Store, string) {
	folder := t.TempDir()
	m, err := dir.Open(folder)
	require.NoError(t, err)
	s, err := Make(context.Background(), m, moment)
	require.NoError(t, err)
	return s, folder
}

// randomDisk is some MiB of random runs and zeros, with an odd end.
func randomDisk(rng *rand.Rand, size int) disk.Memory {
	d := make(disk.Memory, size)
	for range 30 {
		at := rng.IntN(size)
		for i := at; i < min(size, at+rng.IntN(200_000)); i++ {
			d[i] = byte(rng.Uint32() >> 3)
		}
	}
	return d
}

// writeDisk stores a disk and its image, as a backup does.
func writeDisk(ctx context.Context, s *Store, d disk.Memory) (*image.Manifest, error) {
	w := s.NewWriter(ctx)
	bs := s.Header().BlockSize
	tree := image.NewTreeWriter(w, d.Size(), bs)
	for i := 0; i*bs < len(d); i++ {
		block := make([]byte, bs)
		copy(block, d[i*bs:])
		if disk.IsZero(block) {
			continue
		}
		name, err := w.Put(ctx, block)
		if err != nil {
			return nil, err
		}
		if err := tree.Set(ctx, int64(i), name); err != nil {
			return nil, err
		}
	}
	root, err := tree.Finish(ctx)
	if err != nil {
		return nil, err
	}
	if err := w.Flush(ctx); err != nil {
		return nil, err
	}
	m := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable", Taken: moment,
		Disks: []image.Disk{{Target: "vda", Size: d.Size(), BlockSize: bs, Map: root}}}
	return m, s.WriteImage(ctx, m)
}

func requireSame(t *testing.T, s *Store, id string, want disk.Disk) {
	t.Helper()
	m, err := s.ReadImage(context.Background(), id)
	require.NoError(t, err)
	r, err := image.NewReader(s, m.Disks[0])
	require.NoError(t, err)
	at, err := disk.FirstDifference(context.Background(), r, want)
	require.NoError(t, err)
	require.EqualValues(t, -1, at, "first difference")
}

func TestImagesComeBackFromAnotherOpening(t *testing.T) {
	ctx := context.Background()
	s, _ := newStore(t)
	rng := rand.New(rand.NewPCG(1, 1))
	one := randomDisk(rng, 9<<20+12345)
	first, err := writeDisk(ctx, s, one)
	require.NoError(t, err)
	two := append(disk.Memory{}, one...)
	two[5<<20] ^= 1
	second, err := writeDisk(ctx, s, two)
	require.NoError(t, err)

	again, err := Open(ctx, s.Medium())
	require.NoError(t, err)
	requireSame(t, again, first.ID, one)
	requireSame(t, again, second.ID, two)
	require.NoError(t, again.DropImage(ctx, first.ID))
	requireSame(t, again, second.ID, two)
	report, err := again.Check(ctx, true)
	require.NoError(t, err)
	require.Empty(t, report.Problems)
	require.Equal(t, 1, report.Images)
}

// A disk of 64 TiB with one byte at its end costs a handful of map blocks.
func TestALargeSparseDisk(t *testing.T) {
	ctx := context.Background()
	s, _ := newStore(t)
	w := s.NewWriter(ctx)
	size := int64(64<<40 - 512)
	bs := int64(s.Header().BlockSize)
	tree := image.NewTreeWriter(w, size, int(bs))
	last := (size - 1) / bs
	block := make([]byte, bs)
	block[0] = 7
	name, err := w.Put(ctx, block)
	require.NoError(t, err)
	require.NoError(t, tree.Set(ctx, last, name))
	root, err := tree.Finish(ctx)
	require.NoError(t, err)
	require.NoError(t, w.Flush(ctx))
	r, err := image.NewReader(s, image.Disk{Target: "vda", Size: size, BlockSize: int(bs), Map: root})
	require.NoError(t, err)
	var runs []disk.Extent
	require.NoError(t, disk.Walk(ctx, r, func(e disk.Extent) error { runs = append(runs, e); return nil }))
	require.Equal(t, []disk.Extent{{Offset: 0, Length: last * bs, Kind: disk.Zero}, {Offset: last * bs, Length: size - last*bs, Kind: disk.Data}}, runs)
	p := make([]byte, 4)
	_, err = r.ReadAt(p, last*bs-2)
	require.NoError(t, err)
	require.Equal(t, []byte{0, 0, 7, 0}, p)
}

// failing dies at its n-th write, as a process or a line does; a full disk says so.
type failing struct {
	medium.Medium
	left int
}

func (f *failing) Put(ctx context.Context, name string, content []byte) error {
	if f.left--; f.left < 0 {
		return errors.Join(medium.ErrFull, errors.New("injected"))
	}
	return f.Medium.Put(ctx, name, content)
}

// Wherever a writer dies, the images that were there read back, none is half there, and the next writer reuses what
// arrived.
func TestAWriterThatDiesAnywhereHarmsNothing(t *testing.T) {
	ctx := context.Background()
	rng := rand.New(rand.NewPCG(2, 2))
	// Incompressible, so that it fills several packs.
	d := make(disk.Memory, 3*packTarget+5)
	for i := range d {
		d[i] = byte(rng.Uint32())
	}
	died := 0
	for n := 0; ; n++ {
		s, _ := newStore(t)
		before, err := writeDisk(ctx, s, randomDisk(rand.New(rand.NewPCG(3, 3)), 1<<20))
		require.NoError(t, err)
		dying, err := Open(ctx, &failing{Medium: s.Medium(), left: n})
		require.NoError(t, err)
		_, err = writeDisk(ctx, dying, d)
		if err == nil {
			break
		}
		died++
		require.ErrorIs(t, err, medium.ErrFull)

		again, err := Open(ctx, s.Medium())
		require.NoError(t, err)
		ids, err := again.ImageIDs(ctx)
		require.NoError(t, err)
		require.Equal(t, []string{before.ID}, ids)
		report, err := again.Check(ctx, true)
		require.NoError(t, err)
		require.Empty(t, report.Problems)
		had := len(again.index)
		m, err := writeDisk(ctx, again, d)
		require.NoError(t, err)
		requireSame(t, again, m.ID, d)
		if n >= 2 {
			require.Greater(t, had, 100, "what arrived is known")
		}
	}
	require.GreaterOrEqual(t, died, 5, "packs, index, image")
}

// Any flipped or missing byte is found, and its image and disk are named.
func TestCheckFindsDamage(t *testing.T) {
	ctx := context.Background()
	rng := rand.New(rand.NewPCG(4, 4))
	for _, kind := range []string{"pack", "index", "image"} {
		for _, harm := range []string{"flip", "truncate", "delete"} {
			t.Run(kind+" "+harm, func(t *testing.T) {
				s, folder := newStore(t)
				m, err := writeDisk(ctx, s, randomDisk(rng, 3<<20))
				require.NoError(t, err)
				var path string
				require.NoError(t, filepath.WalkDir(filepath.Join(folder, kind), func(p string, e os.DirEntry, err error) error {
					if !e.IsDir() {
						path = p
					}
					return err
				}))
				body, err := os.ReadFile(path)
				require.NoError(t, err)
				switch harm {
				case "flip":
					body[rng.IntN(len(body)-200)] ^= 1 << rng.IntN(8)
					require.NoError(t, os.WriteFile(path, body, 0o600))
				case "truncate":
					require.NoError(t, os.WriteFile(path, body[:len(body)/2], 0o600))
				case "delete":
					require.NoError(t, os.Remove(path))
				}
				again, err := Open(ctx, s.Medium())
				require.NoError(t, err)
				report, err := again.Check(ctx, true)
				require.NoError(t, err)
				switch {
				case kind == "index" && harm == "delete":
					require.Empty(t, report.Problems, "packs describe themselves")
				case kind == "image" && harm == "delete":
					require.Zero(t, report.Images)
				case kind == "index":
					require.NotEmpty(t, report.Problems)
				default:
					require.NotEmpty(t, report.Problems)
					require.Equal(t, m.ID, report.Problems[len(report.Problems)-1].Image)
				}
			})
		}
	}
}

// Strangers' files in the folder are left alone and harm nothing.
func TestStrangersFiles(t *testing.T) {
	ctx := context.Background()
	s, folder := newStore(t)
	m, err := writeDisk(ctx, s, randomDisk(rand.New(rand.NewPCG(6, 6)), 1<<20))
	require.NoError(t, err)
	for _, name := range []string{"pack/x", "pack/Thumbs.db", "pack/ab/" + "0123456789012345678901234567890123456789", "image/.DS_Store", "index/note.txt"} {
		path := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
		require.NoError(t, os.WriteFile(path, []byte("hello"), 0o600))
	}
	again, err := Open(ctx, s.Medium())
	require.NoError(t, err)
	report, err := again.Check(ctx, true)
	require.NoError(t, err)
	require.Equal(t, 1, report.Images)
	for _, p := range report.Problems {
		require.NotEqual(t, m.ID, p.Image)
	}
}
