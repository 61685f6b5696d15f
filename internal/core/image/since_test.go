package image

import (
	"maps"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
)

// What is called the same is what the older map has there, and with what is visited beside it the walk covers all that a plain one does.
func TestAWalkSinceAnOlderMap(t *testing.T) {
	rng := rand.New(rand.NewPCG(20, 1))
	for range 60 {
		s := newShelf()
		units := int64(1 + rng.IntN(3*leafUnits*fanout/50))
		size := units*unit - int64(rng.IntN(unit))
		was := paint{}
		for range rng.IntN(3000) {
			was[rng.Int64N(units)] = byte(1 + rng.IntN(255))
		}
		is := maps.Clone(was)
		for range rng.IntN(20) {
			is[rng.Int64N(units)] = byte(rng.IntN(256))
		}
		// Equal places are cut equally, but for where something changed.
		parts := was.parts(s, rng, 0, units)
		older := build(t, s, size, parts)
		var now []Part
		for _, p := range parts {
			changed := false
			for at := p.At; at < p.End(); at++ {
				changed = changed || is[at] != was[at]
			}
			if !changed {
				now = append(now, p)
				continue
			}
			now = append(now, is.parts(s, rng, p.At, p.End())...)
		}
		newer := build(t, s, size, now)
		tree := func(d Disk) Tree {
			root, err := d.Root()
			require.NoError(t, err)
			return Tree{d.Target, root, d.Height(), d.Size}
		}
		flat := func(walk func(func(Visit) error) error) (out []Visit) {
			require.NoError(t, walk(func(v Visit) error {
				if v.Height == 0 {
					out = append(out, v)
				}
				return nil
			}))
			return out
		}
		want := flat(func(visit func(Visit) error) error { return tree(newer).Walk(t.Context(), s, visit) })
		had := map[Visit]bool{}
		for _, v := range flat(func(visit func(Visit) error) error { return tree(older).Walk(t.Context(), s, visit) }) {
			had[v] = true
		}
		before, err := NewOlder(t.Context(), tree(older), s)
		require.NoError(t, err)
		kept := 0
		got := flat(func(visit func(Visit) error) error {
			return tree(newer).WalkSince(t.Context(), s, before, func(v Visit) error {
				kept++
				return Tree{"", v.Name, max(v.Height, 1), size}.under(t, s, v, func(v Visit) error {
					require.True(t, v.Height > 0 || had[v], "%+v", v)
					return visit(v)
				})
			}, visit)
		})
		require.Equal(t, want, got)
		if len(parts) > 200 {
			require.Positive(t, kept)
		}
		s.gets = 0
		require.NoError(t, tree(newer).WalkSince(t.Context(), s, before, func(Visit) error { return nil }, func(Visit) error { return nil }))
		require.LessOrEqual(t, s.gets, 2*3*21, "it costs what differs")
	}
}

// under walks what hangs on something that was visited.
func (t Tree) under(tt *testing.T, s *shelf, v Visit, visit func(Visit) error) error {
	if v.Height == 0 {
		return visit(v)
	}
	whole := v
	if v.Height <= ropeHeight {
		whole.Length = Span(v.Height)
	}
	return t.walk(tt.Context(), s, whole, visit)
}

func TestAWalkSinceAnOlderRope(t *testing.T) {
	rng := rand.New(rand.NewPCG(20, 2))
	s := newShelf()
	pieces := anyPieces(rng, 30_000)
	older, _ := rope(t, s, pieces)
	newer, all := rope(t, s, append(anyPieces(rng, 3), pieces...))
	tree := func(of Stream) Tree { return Tree{"files", mustName(t, of.Rope), ropeHeight + of.Height, of.Size} }
	before, err := NewOlder(t.Context(), tree(older), s)
	require.NoError(t, err)
	visited, kept := int64(0), int64(0)
	was, err := OpenRope(s, older)
	require.NoError(t, err)
	require.NoError(t, tree(newer).WalkSince(t.Context(), s, before, func(v Visit) error {
		kept += v.Length
		text := make([]byte, v.Length)
		_, err := was.ReadAt(text, before.At(v.Name))
		require.Equal(t, all[v.Offset:v.Offset+v.Length], text, "it lies elsewhere in the older one")
		return err
	}, func(v Visit) error {
		if v.Height == 0 {
			visited += v.Length
		}
		return nil
	}))
	require.EqualValues(t, len(all), visited+kept)
	require.Less(t, visited, int64(len(all)/10))
}

func mustName(t *testing.T, text string) chunk.Name {
	name, err := chunk.ParseName(text)
	require.NoError(t, err)
	return name
}
