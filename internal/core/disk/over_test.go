package disk_test

import (
	"context"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// parts is a disk of one byte everywhere, whose extents change kind at some places.
type parts struct {
	size int64
	fill byte
	kind func(at int64) disk.Kind
}

func (d parts) Size() int64 { return d.size }

func (d parts) ReadAt(p []byte, off int64) (int, error) {
	for i := range p {
		if off+int64(i) >= d.size {
			return i, io.EOF
		}
		p[i] = d.fill
		if d.kind(off+int64(i)) == disk.Zero {
			p[i] = 0
		}
	}
	return len(p), nil
}

func (d parts) Extents(_ context.Context, offset, length int64) (out []disk.Extent, _ error) {
	for at := offset; at < offset+length && len(out) < 3; at++ {
		if n := len(out); n > 0 && out[n-1].Kind == d.kind(at) {
			out[n-1].Length++
		} else {
			out = append(out, disk.Extent{Offset: at, Length: 1, Kind: d.kind(at)})
		}
	}
	return out, nil
}

// What lies over another disk is what it has, and below it what the other has.
func TestOver(t *testing.T) {
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 3))
		size := 1 + rng.Int64N(60)
		kinds := func(of ...disk.Kind) func(int64) disk.Kind {
			row := make([]disk.Kind, size)
			for i := range row {
				if row[i] = of[rng.IntN(len(of))]; i > 0 && rng.IntN(3) > 0 {
					row[i] = row[i-1]
				}
			}
			return func(at int64) disk.Kind { return row[at] }
		}
		top := parts{size, 1, kinds(disk.Data, disk.Zero, disk.Unchanged)}
		under := parts{size, 2, kinds(disk.Data, disk.Zero)}
		d := disk.Over(top, under)
		require.Equal(t, size, d.Size())
		want := func(at int64) (disk.Kind, byte) {
			from := top
			if top.kind(at) == disk.Unchanged {
				from = under
			}
			if from.kind(at) == disk.Zero {
				return disk.Zero, 0
			}
			return disk.Data, from.fill
		}
		require.NoError(t, disk.Walk(t.Context(), d, func(e disk.Extent) error {
			for at := e.Offset; at < e.End(); at++ {
				kind, _ := want(at)
				require.Equal(t, kind, e.Kind, "seed %d byte %d", seed, at)
			}
			return nil
		}))
		off := rng.Int64N(size)
		p := make([]byte, rng.Int64N(size+5))
		n, err := d.ReadAt(p, off)
		require.EqualValues(t, min(int64(len(p)), size-off), n)
		require.Equal(t, n < len(p), err == io.EOF)
		for i := range n {
			_, b := want(off + int64(i))
			require.Equal(t, b, p[i])
		}
	}
}

// What is between given extents is told as of the other kind, and every byte of a range once.
func TestBetween(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 21))
	for range 500 {
		var given []disk.Extent
		want := make([]disk.Kind, 100)
		for i := range want {
			want[i] = disk.Unchanged
		}
		for at := rng.Int64N(20); at < 90; at += 1 + rng.Int64N(20) {
			e := disk.Extent{Offset: at, Length: 1 + rng.Int64N(10), Kind: disk.Data}
			for i := e.Offset; i < e.End(); i++ {
				want[i] = disk.Data
			}
			given, at = append(given, e), e.End()
		}
		offset := rng.Int64N(100)
		end := offset + rng.Int64N(101-offset)
		at := offset
		for _, e := range disk.Between(given, offset, end-offset, disk.Unchanged) {
			require.Equal(t, at, e.Offset)
			require.Positive(t, e.Length)
			for ; at < e.End(); at++ {
				require.Equal(t, want[at], e.Kind, "byte %d of %v", at, given)
			}
		}
		require.Equal(t, end, at)
	}
}
