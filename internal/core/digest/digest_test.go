package digest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// holed is a disk in memory whose blocks of 4 KiB of zeros are holes, some of them told as data.
type holed struct {
	disk.Memory
	told map[int64]bool
}

func (h holed) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	var out []disk.Extent
	for at := offset; at < offset+length; {
		end := min((at/4096+1)*4096, offset+length)
		kind := disk.Data
		if !h.told[at/4096] && len(bytes.TrimLeft(h.Memory[at:end], "\x00")) == 0 {
			kind = disk.Zero
		}
		out = append(out, disk.Extent{Offset: at, Length: end - at, Kind: kind})
		at = end
		if len(out) == 50 {
			break
		}
	}
	return out, nil
}

func file(t testing.TB) *os.File {
	f, err := os.Create(filepath.Join(t.TempDir(), fmt.Sprint("digests-", rand.Uint64())))
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func opened(t testing.TB, f *os.File) *Digests {
	info, err := f.Stat()
	require.NoError(t, err)
	d, err := Open(f, info.Size())
	require.NoError(t, err)
	return d
}

// Whatever changes on a disk, and however it was read the time before, nothing that changed is called unchanged; and what is left of blocks that
// were read whole and did not change is not read again.
func TestNothingThatChangedIsMissed(t *testing.T) {
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 14))
		size := int64(rng.IntN(40))*Block + int64(rng.IntN(3))*4096*int64(rng.IntN(16))
		now := holed{make(disk.Memory, size), map[int64]bool{}}
		scribble := func() {
			for range rng.IntN(8) {
				if size == 0 {
					return
				}
				at := rng.Int64N(size)
				part := now.Memory[at:min(size, at+int64(rng.IntN(3*Block)))]
				switch rng.IntN(3) {
				case 0:
					clear(part)
				case 1:
					for i := range part {
						part[i] = byte(rng.Uint32())
					}
				default:
					for i := range part {
						part[i] = 7
					}
				}
			}
			for range rng.IntN(5) {
				now.told[int64(rng.IntN(1000))] = rng.IntN(2) == 0
			}
		}
		scribble()
		f := file(t)
		w := create(t, f, now, seed%2 == 0)
		was := append(disk.Memory{}, now.Memory...)
		watched := w.Watch(now)
		// The first time a store reads it as it likes.
		require.NoError(t, disk.Walk(t.Context(), watched, func(e disk.Extent) error {
			if e.Kind == disk.Zero {
				return nil
			}
			for at := e.Offset; at < e.End(); {
				p := make([]byte, min(int64(1+rng.IntN(4*Block)), e.End()-at))
				n, err := watched.ReadAt(p, at)
				require.Equal(t, len(p), n, "%v", err)
				at += int64(n)
			}
			return nil
		}))
		require.NoError(t, watched.Err())
		require.NoError(t, w.Finish())
		for range 3 {
			scribble()
			next := file(t)
			w := create(t, next, now, rng.IntN(2) == 0)
			c, err := Compare(t.Context(), now, opened(t, f), w)
			require.NoError(t, err)
			require.NoError(t, w.Finish())
			at := int64(0)
			require.NoError(t, disk.Walk(t.Context(), c, func(e disk.Extent) error {
				require.Equal(t, at, e.Offset)
				at = e.End()
				if e.Kind == disk.Unchanged {
					require.True(t, bytes.Equal(was[e.Offset:e.End()], now.Memory[e.Offset:e.End()]), "seed %d: %v", seed, e)
				}
				return nil
			}))
			require.Equal(t, size, at)
			// With all digests known, exactly what changed is told, in blocks.
			again, err := Compare(t.Context(), now, opened(t, next), mustCreate(t, size))
			require.NoError(t, err)
			require.Equal(t, size, again.Unchanged(), "seed %d", seed)
			f, was = next, append(disk.Memory{}, now.Memory...)
		}
	}
}

// create begins digests of a disk, of which nothing is known yet or of which the holes are.
func create(t testing.TB, f *os.File, d disk.Disk, sparse bool) *Writer {
	if !sparse {
		w, err := Create(f, d.Size())
		require.NoError(t, err)
		return w
	}
	var data []disk.Extent
	require.NoError(t, disk.Walk(t.Context(), d, func(e disk.Extent) error {
		if e.Kind == disk.Data {
			data = append(data, e)
		}
		return nil
	}))
	w, err := CreateSparse(f, d.Size(), data)
	require.NoError(t, err)
	return w
}

func mustCreate(t testing.TB, size int64) *Writer {
	w, err := Create(file(t), size)
	require.NoError(t, err)
	return w
}

// A file that is cut, flipped or of another disk is not believed.
func TestDigestsThatAreDamaged(t *testing.T) {
	f := file(t)
	d := disk.Memory(bytes.Repeat([]byte{1}, 5*Block+17))
	w, err := Create(f, d.Size())
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, io.NewSectionReader(w.Watch(d), 0, d.Size()))
	require.NoError(t, err)
	require.NoError(t, w.Finish())
	body, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	for n := range len(body) {
		flipped := bytes.Clone(body)
		flipped[n] ^= 1 << (n % 8)
		_, err := Open(bytes.NewReader(flipped), int64(len(flipped)))
		require.ErrorIs(t, err, ErrDamaged, "byte %d", n)
		_, err = Open(bytes.NewReader(body[:n]), int64(n))
		require.ErrorIs(t, err, ErrDamaged, "%d bytes", n)
	}
	_, err = Compare(t.Context(), disk.Memory(make([]byte, Block)), opened(t, f), mustCreate(t, Block))
	require.ErrorContains(t, err, "the digests are of a disk of 327697 bytes, this one has 65536")
}

type failing struct{ disk.Memory }

func (failing) ReadAt([]byte, int64) (int, error) { return 0, errors.New("the line is down") }

func TestADiskThatCanNotBeRead(t *testing.T) {
	d := failing{bytes.Repeat([]byte{1}, 3*Block)}
	w := mustCreate(t, d.Size())
	require.NoError(t, w.Finish())
	_, err := Compare(t.Context(), d, opened(t, w.f.(*os.File)), mustCreate(t, d.Size()))
	require.ErrorContains(t, err, "the line is down")
}

func FuzzOpen(f *testing.F) {
	w := mustCreate(f, 3*Block)
	require.NoError(f, w.Finish())
	body, err := os.ReadFile(w.f.(*os.File).Name())
	require.NoError(f, err)
	f.Add(body)
	f.Fuzz(func(t *testing.T, body []byte) {
		if d, err := Open(bytes.NewReader(body), int64(len(body))); err == nil {
			require.EqualValues(t, len(body), length(d.size)+32)
		}
	})
}
