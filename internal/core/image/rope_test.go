package image

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/files"
)

// rope builds one of pieces, each of a length and a content of its own, and tells all of its bytes.
func rope(t *testing.T, s *shelf, pieces [][]byte) (Stream, []byte) {
	t.Helper()
	w := NewRopeWriter(s)
	var all []byte
	for _, p := range pieces {
		name, err := s.PutMap(t.Context(), p)
		require.NoError(t, err)
		require.NoError(t, w.Add(t.Context(), name, int64(len(p))))
		all = append(all, p...)
	}
	stream, err := w.Finish(t.Context())
	require.NoError(t, err)
	return stream, all
}

func anyPieces(rng *rand.Rand, n int) (out [][]byte) {
	for range n {
		p := make([]byte, 1+rng.IntN(60))
		for i := range p {
			p[i] = byte(rng.IntN(256))
		}
		out = append(out, p)
	}
	return out
}

// A rope gives back the bytes that were put in, anywhere, of whatever height it is.
func TestARopeGivesBackTheBytes(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	for _, n := range []int{0, 1, 2, 63, 64, 65, 1000, 5000, 120_000} {
		s := newShelf()
		stream, all := rope(t, s, anyPieces(rng, n))
		require.EqualValues(t, len(all), stream.Size)
		r, err := OpenRope(s, stream)
		require.NoError(t, err)
		for range 200 {
			off, length := rng.Int64N(int64(len(all)+10)), rng.IntN(3000)
			got := make([]byte, length)
			k, err := r.ReadAt(got, off)
			want := all[min(int(off), len(all)):min(int(off)+length, len(all))]
			require.True(t, bytes.Equal(want, got[:k]), "%d bytes at %d of %d", length, off, len(all))
			require.Equal(t, len(want) < length, err == io.EOF)
		}
		m := good()
		m.Disks, m.Files = nil, &Files{Content: stream}
		trees, err := m.Trees()
		require.NoError(t, err)
		sum := int64(0)
		for _, tree := range trees {
			require.NoError(t, tree.Walk(t.Context(), s, func(v Visit) error {
				if v.Height == 0 {
					require.Equal(t, sum, v.Offset)
					sum += v.Length
				}
				return nil
			}))
		}
		require.Equal(t, stream.Size, sum)
	}
}

// What was put in at the begin moves all the rest, and costs the blocks about it only.
func TestWhatMovesIsShared(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 5))
	s := newShelf()
	pieces := anyPieces(rng, 60_000)
	rope(t, s, pieces)
	before := len(s.pieces)
	rope(t, s, append(anyPieces(rng, 1), pieces...))
	require.LessOrEqual(t, len(s.pieces)-before, 1+4)
	before = len(s.pieces)
	rope(t, s, append(append([][]byte{}, pieces[:30_000]...), pieces[30_007:]...))
	require.LessOrEqual(t, len(s.pieces)-before, 5)
}

// What a server says of its files fits into a manifest that can be read again, whatever it is.
func TestWhatAServerSaysOfFiles(t *testing.T) {
	m := good()
	m.Disks, m.Files = nil, &Files{}
	for i := range 3 * mostParts {
		m.Files.Parts = append(m.Files.Parts, FilesPart{Name: "odd\x1b[2J"})
		m.Files.LeftOut = append(m.Files.LeftOut, files.LeftOut{Rule: string(make([]byte, i*10)), Largest: make([]string, 99)})
	}
	m.Files.Clean()
	object, err := m.Encode()
	require.NoError(t, err)
	again, err := Decode(object)
	require.NoError(t, err)
	require.Len(t, again.Files.LeftOut, mostParts)
	require.NotContains(t, again.Files.Parts[0].Name, "\x1b")
	m.Files.Entries = -1
	object, err = m.Encode()
	require.NoError(t, err)
	_, err = Decode(object)
	require.ErrorIs(t, err, chunk.ErrDamaged)
}

// What a damaged or hostile store gives is an error, never a wrong byte.
func TestDamagedRopes(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 6))
	s := newShelf()
	pieces := anyPieces(rng, 3000)
	stream, all := rope(t, s, pieces)
	for name, was := range s.pieces {
		if len(was) <= 60 { // what a piece holds is the store's to verify
			continue
		}
		for _, becomes := range [][]byte{was[:len(was)-1], append(bytes.Clone(was), was...), bytes.Repeat([]byte{0xff}, len(was)), {}} {
			s.pieces[name] = becomes
			r, err := OpenRope(s, stream)
			require.NoError(t, err)
			got := make([]byte, len(all))
			_, err = r.ReadAt(got, 0)
			require.ErrorIs(t, err, chunk.ErrDamaged)
		}
		s.pieces[name] = was
	}
	for _, bad := range []Stream{{Size: -1}, {Size: 5}, {Rope: stream.Rope}, {Size: 5, Rope: stream.Rope, Height: 99}, {Size: 5, Rope: "zz", Height: 1}, {Size: 5, Rope: stream.Rope}} {
		require.ErrorIs(t, bad.Check(), chunk.ErrDamaged, "%+v", bad)
	}
	wrong := stream
	wrong.Size++
	r, err := OpenRope(s, wrong)
	require.NoError(t, err)
	_, err = r.ReadAt(make([]byte, 10), 0)
	require.True(t, errors.Is(err, chunk.ErrDamaged), err)
}
