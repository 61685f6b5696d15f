package pooled

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
)

// Whatever is asked for, by however many at once, comes as it lies, and nothing after the frames' end is asked for.
func TestReadingAheadGivesWhatLiesThere(t *testing.T) {
	packs := map[chunk.PackID][]byte{}
	for i := range 3 {
		body := make([]byte, 5<<20+i*1000)
		fill(rand.New(rand.NewPCG(uint64(i), 1)), body)
		packs[chunk.PackID{byte(i)}] = body
	}
	var a ahead
	var all sync.WaitGroup
	for seed := range uint64(8) {
		all.Go(func() {
			rng := rand.New(rand.NewPCG(seed, 2))
			for range 60 {
				id := chunk.PackID{byte(rng.IntN(3))}
				body := packs[id]
				at := rng.Int64N(int64(len(body)))
				for range rng.IntN(40) { // some in a row, with small gaps
					n := 1 + rng.Int64N(80<<10)
					if at+n > int64(len(body)) {
						break
					}
					got, err := a.get(t.Context(), id, at, n, int64(len(body)), func(offset, length int64) ([]byte, error) {
						if offset < 0 || offset+length > int64(len(body)) {
							return nil, fmt.Errorf("%d bytes at %d of %d", length, offset, len(body))
						}
						return body[offset : offset+length], nil
					})
					if err != nil || string(got) != string(body[at:at+n]) {
						t.Errorf("%d bytes at %d: %v", n, at, err)
						return
					}
					at += n + rng.Int64N(2)*rng.Int64N(10<<10)
				}
			}
		})
	}
	all.Wait()
	require.LessOrEqual(t, len(a.stretches), stretchesKept)
}

// Who reads on makes few requests, who reads here and there no larger ones than he needs.
func TestReadingAheadGrows(t *testing.T) {
	var a ahead
	var asked []int64
	read := func(_, length int64) ([]byte, error) {
		asked = append(asked, length)
		return make([]byte, length), nil
	}
	pack := chunk.PackID{}
	get := func(offset, length int64) {
		_, err := a.get(t.Context(), pack, offset, length, 24<<20, read)
		require.NoError(t, err)
	}
	for at := int64(0); at < 20<<20; at += 64 << 10 {
		get(at, 64<<10)
	}
	require.Equal(t, []int64{64 << 10, 256 << 10, 512 << 10, 1 << 20, 2 << 20, 2 << 20, 2 << 20}, asked[:7])
	require.Less(t, len(asked), 15)
	asked, pack = nil, chunk.PackID{1}
	for i := range int64(10) {
		get((i*7%10)<<21+1000, 100)
	}
	require.Len(t, asked, 10)
	for _, n := range asked {
		require.EqualValues(t, 100, n, "%v", asked)
	}
	// What was read at the last is found among all that was, not only in what lies before.
	asked, pack = nil, chunk.PackID{2}
	get(0, 1000)
	a.expect(expected{pack, 1100, 900 << 10})
	a.expect(expected{chunk.PackID{3}, 1100, 900 << 10})
	get(1100, 100)
	get(500, 100)
	get(1200, 100)
	get(800<<10, 50<<10)
	require.Equal(t, []int64{1000, 900<<10 - 1100}, asked, "what is expected is read at once")
	for i := range 2 * expectedMost {
		a.expect(expected{pack, int64(i) << 20, int64(i+1) << 20})
	}
	require.Len(t, a.expected, expectedMost)
	asked = nil
	get(24<<20-100, 100)
	get(24<<20, 100)
	require.Equal(t, []int64{100, 100}, asked, "its frames end there, whoever asks for more gets what he asked for")
}

// What is wrong with bytes that nobody asked for is nobody's trouble.
func TestReadingAheadOfABadSector(t *testing.T) {
	bad := errors.New("bad sector")
	var a ahead
	read := func(offset, length int64) ([]byte, error) {
		if offset <= 200 && offset+length > 200 {
			return nil, bad
		}
		return make([]byte, length), nil
	}
	for _, at := range []int64{0, 50, 100, 150} {
		_, err := a.get(t.Context(), chunk.PackID{}, at, 50, 1000, read)
		require.NoError(t, err, at)
	}
	_, err := a.get(t.Context(), chunk.PackID{}, 199, 5, 1000, read)
	require.ErrorIs(t, err, bad)
	_, err = a.get(t.Context(), chunk.PackID{}, 201, 50, 1000, read)
	require.NoError(t, err)
}
