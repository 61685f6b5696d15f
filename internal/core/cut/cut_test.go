package cut

import (
	"encoding/binary"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// piece is one in units.
type piece struct{ from, until int64 }

func cutAll(c Cuts, marks []Mark) (out []piece) {
	k := c.Cutter()
	add := func(from, until int64) {
		if until > 0 {
			out = append(out, piece{from, until})
		}
	}
	for _, m := range marks {
		add(k.Next(m))
		if first := k.First(); len(out) > 0 && first < out[len(out)-1].until {
			panic("what is in a piece is needed no more")
		}
	}
	add(k.Rest())
	return out
}

func random(rng *rand.Rand, units int) []byte {
	b := make([]byte, units*Unit)
	for i := 0; i < len(b); i += 8 {
		binary.LittleEndian.PutUint64(b[i:], rng.Uint64())
	}
	return b
}

func marksOf(c Cuts, content []byte) []Mark {
	marks := make([]Mark, len(content)/Unit)
	c.Marks(content, marks)
	return marks
}

// Pieces keep their sizes, cover all that is not zeros, begin and end with what is not, and are as long as the cuts say on average.
func TestPieces(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	c := Default(7)
	require.NoError(t, c.Check())
	content := random(rng, 30_000)
	for range 200 { // holes of every length
		at := rng.IntN(29_000)
		clear(content[at*Unit : (at+1+rng.IntN(20))*Unit])
	}
	marks := marksOf(c, content)
	pieces := cutAll(c, marks)
	next, sum := int64(0), int64(0)
	for i, p := range pieces {
		require.GreaterOrEqual(t, p.from, next)
		for _, m := range marks[next:p.from] {
			require.Equal(t, Zero, m, "before piece %d", i)
		}
		n := p.until - p.from
		require.LessOrEqual(t, n*Unit, int64(c.Max))
		require.NotEqual(t, Zero, marks[p.from])
		require.NotEqual(t, Zero, marks[p.until-1])
		if n*Unit < int64(c.Min) {
			gapFollows := p.until+Gap > int64(len(marks))
			for _, m := range marks[p.until:min(int64(len(marks)), p.until+Gap)] {
				gapFollows = m == Zero
			}
			require.True(t, gapFollows, "piece %d of %d units is short for no reason", i, n)
		}
		zeros := 0
		for _, m := range marks[p.from:p.until] {
			if zeros++; m != Zero {
				zeros = 0
			}
			require.Less(t, zeros, Gap)
		}
		next, sum = p.until, sum+n
	}
	for _, m := range marks[next:] {
		require.Equal(t, Zero, m)
	}
	mean := sum * Unit / int64(len(pieces))
	require.InDelta(t, c.Mean, mean, float64(c.Mean)/4)
}

// The same content is cut alike wherever it lies, but for its first and last piece; another seed cuts otherwise.
func TestContentDecides(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	c := Default(7)
	content := random(rng, 4000)
	one := cutAll(c, marksOf(c, content))
	for range 20 {
		before := 1 + rng.IntN(500)
		two := cutAll(c, marksOf(c, append(random(rng, before), content...)))
		shared := map[piece]bool{}
		for _, p := range two {
			shared[piece{p.from - int64(before), p.until - int64(before)}] = true
		}
		same := 0
		for _, p := range one {
			if shared[p] {
				same++
			}
		}
		require.GreaterOrEqual(t, same, len(one)-8, "of %d pieces", len(one))
	}
	other := Default(8)
	require.NotEqual(t, one, cutAll(other, marksOf(other, content)))
}

// Cut in parts, with the marks of each made by itself, a run has the same pieces.
func TestMarksInParts(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	c := Cuts{Min: 2 * Unit, Mean: 5 * Unit, Max: 9 * Unit, Seed: 1}
	content := random(rng, 500)
	var marks []Mark
	for at := 0; at < 500; {
		n := min(500-at, 1+rng.IntN(40))
		marks = append(marks, marksOf(c, content[at*Unit:(at+n)*Unit])...)
		at += n
	}
	require.Equal(t, marksOf(c, content), marks)
}

func TestEdges(t *testing.T) {
	c := Cuts{Min: 2 * Unit, Mean: 2 * Unit, Max: 6 * Unit}
	require.NoError(t, c.Check())
	i, b, z := Inner, Boundary, Zero
	for name, k := range map[string]struct {
		marks []Mark
		want  []piece
	}{
		"nothing":                   {nil, nil},
		"zeros":                     {[]Mark{z, z, z, z, z, z, z, z}, nil},
		"a boundary too early":      {[]Mark{b, i, i}, []piece{{0, 3}}},
		"a boundary":                {[]Mark{i, b, i, b}, []piece{{0, 2}, {2, 4}}},
		"at most":                   {[]Mark{i, i, i, i, i, i, i}, []piece{{0, 6}, {6, 7}}},
		"zeros before and after":    {[]Mark{z, z, i, z, z}, []piece{{2, 3}}},
		"a small hole":              {[]Mark{i, z, z, z, i, i}, []piece{{0, 6}}},
		"a gap":                     {[]Mark{i, z, z, z, z, i}, []piece{{0, 1}, {5, 6}}},
		"zeros up to the most":      {[]Mark{i, i, i, i, z, z, i}, []piece{{0, 4}, {6, 7}}},
		"zeros after a boundary":    {[]Mark{i, b, z, i}, []piece{{0, 2}, {3, 4}}},
		"one unit":                  {[]Mark{i}, []piece{{0, 1}}},
		"a hole and the most of it": {[]Mark{i, i, i, z, z, z, i}, []piece{{0, 3}, {6, 7}}},
	} {
		require.Equal(t, k.want, cutAll(c, k.marks), name)
	}
	for _, bad := range []Cuts{{}, {Min: Unit, Mean: Unit, Max: 2 * MaxPiece}, {Min: 2 * Unit, Mean: Unit, Max: 3 * Unit}, {Min: Unit, Mean: 3 * Unit, Max: 2 * Unit}, {Min: 100, Mean: Unit, Max: Unit}, {Min: -Unit, Mean: Unit, Max: Unit}} {
		require.Error(t, bad.Check(), "%+v", bad)
	}
	require.NoError(t, Cuts{Min: Unit, Mean: Unit, Max: Unit}.Check())
	require.NoError(t, Cuts{Min: Unit, Mean: Unit, Max: MaxPiece}.Check())
}

func BenchmarkMarks(b *testing.B) {
	content := random(rand.New(rand.NewPCG(1, 1)), 256)
	marks := make([]Mark, 256)
	b.SetBytes(int64(len(content)))
	for b.Loop() {
		Default(1).Marks(content, marks)
	}
}

// Where a disk is cut is part of the format: a store goes on with what an older program began. These are the pieces of some random units
// that are the same for ever.
func TestCutsStay(t *testing.T) {
	c := Default(7)
	require.Equal(t, Cuts{Min: 16384, Mean: 65536, Max: 262144, Seed: 7}, c)
	content := random(rand.New(rand.NewPCG(11, 12)), 200)
	clear(content[60*Unit : 64*Unit])
	var ends []int64
	for _, p := range cutAll(c, marksOf(c, content)) {
		ends = append(ends, p.until)
	}
	require.Equal(t, []int64{4, 9, 20, 27, 36, 54, 60, 72, 103, 111, 122, 130, 146, 150, 179, 200}, ends)
}
