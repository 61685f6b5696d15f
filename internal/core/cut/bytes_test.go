package cut

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/xxh3"
)

// cutFile cuts a file into its pieces.
func cutFile(c Cuts, b []byte) (out [][]byte) {
	for k := c.Bytes(); len(b) > 0; {
		n := k.First(b[:min(len(b), c.Max)])
		out = append(out, b[:n])
		b = b[n:]
	}
	return out
}

// Pieces of files keep their sizes, are as long as the cuts say on average, and what was put in or taken out changes those about it only.
func TestFilesAreCutByContent(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 8))
	c := Default(7)
	content := random(rng, 5000)
	pieces := cutFile(c, content)
	known := map[uint64]bool{}
	for i, p := range pieces {
		require.LessOrEqual(t, len(p), c.Max)
		if i < len(pieces)-1 {
			require.GreaterOrEqual(t, len(p), c.Min)
		}
		known[xxh3.Hash(p)] = true
	}
	require.InDelta(t, c.Mean, len(content)/len(pieces), float64(c.Mean)/4)
	for range 20 {
		at := rng.IntN(len(content))
		changed := append(append(append([]byte{}, content[:at]...), []byte("a line more\n")...), content[at+rng.IntN(3):]...)
		fresh := 0
		for _, p := range cutFile(c, changed) {
			if !known[xxh3.Hash(p)] {
				fresh++
			}
		}
		require.LessOrEqual(t, fresh, 4)
	}
}

// Where a file is cut is part of the format: these pieces of some random bytes are the same for ever.
func TestCutsOfFilesStay(t *testing.T) {
	var ends []int
	at := 0
	for _, p := range cutFile(Default(7), random(rand.New(rand.NewPCG(11, 12)), 200)) {
		at += len(p)
		ends = append(ends, at)
	}
	require.Equal(t, []int{66212, 104686, 150134, 243433, 363041, 397637, 455558, 516333, 594453, 663835, 685755, 713405, 819200}, ends)
	zeros := cutFile(Default(7), make([]byte, 600<<10))
	require.Len(t, zeros, 3, "what repeats is cut at the most")
}

func BenchmarkBytes(b *testing.B) {
	content := random(rand.New(rand.NewPCG(1, 1)), 256)
	b.SetBytes(int64(len(content)))
	for b.Loop() {
		cutFile(Default(1), content)
	}
}
