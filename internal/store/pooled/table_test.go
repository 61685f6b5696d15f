package pooled

import (
	"encoding/binary"
	"math/rand/v2"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
)

func nameNumber(n uint64) chunk.Name {
	var seal *chunk.Seal
	return seal.Name(binary.BigEndian.AppendUint64(nil, n))
}

// addOne is add for a single piece.
func (t *table) addOne(v slot) (was slot, added bool) {
	s := t.shard(v.name)
	s.mu.Lock()
	defer s.mu.Unlock()
	return t.add(v)
}

// The table agrees with a plain map through any mix of adding, marking and taking out, and keeps within 67 bytes a piece.
func TestTableAgreesWithAMap(t *testing.T) {
	for name, place := range map[string]func(t *testing.T) *local{
		"memory": func(*testing.T) *local { return nil },
		"files":  func(t *testing.T) *local { return newLocal(t, t.TempDir()) },
	} {
		t.Run(name, func(t *testing.T) { tableAgrees(t, &table{local: place(t)}) })
	}
}

func newLocal(t *testing.T, folder string) *local {
	l, err := openLocal(folder)
	require.NoError(t, err)
	t.Cleanup(func() { l.lock.Close() })
	return l
}

func tableAgrees(t *testing.T, tab *table) {
	rng := rand.New(rand.NewPCG(8, 1))
	defer tab.forget()
	plain, refs := map[chunk.Name]slot{}, map[chunk.Name]int{}
	for range 200_000 {
		n := nameNumber(rng.Uint64N(60_000))
		switch rng.IntN(4) {
		case 0, 1:
			v := slotOf(rng.Uint32(), chunk.Entry{Name: n, Offset: rng.Uint32(), Stored: rng.Uint32N(chunk.MaxFrame + 17), Codec: chunk.Zstd, Within: rng.Uint32N(chunk.MaxFrame), Size: 1 + rng.Uint32N(chunk.MaxFrame)})
			was, added := tab.addOne(v)
			old, had := plain[n]
			require.Equal(t, !had, added)
			if had {
				require.Equal(t, old, was)
			} else {
				plain[n] = v
			}
		case 2:
			all := tab.refer(int(n[0]), []chunk.Name{n})
			_, had := plain[n]
			require.Equal(t, had, all)
			if had {
				refs[n]++
				if rng.IntN(2) == 0 && refs[n] < mostRefs {
					tab.release([]chunk.Name{n})
					refs[n]--
				}
			}
		case 3:
			v, ok := tab.find(n)
			old, had := plain[n]
			require.Equal(t, had, ok)
			require.True(t, !had || v == old)
		}
		if rng.IntN(50_000) == 0 {
			odd := func(v slot) bool { return v.offset%3 == 0 }
			lost := false
			tab.each(func(v *slot, live bool) bool {
				require.Equal(t, refs[v.name] > 0, live)
				return !odd(*v)
			})
			for n, v := range plain {
				if odd(v) {
					lost = lost || refs[n] > 0
					delete(plain, n)
					delete(refs, n)
				}
			}
			require.Equal(t, lost, tab.lost.Swap(false))
		}
	}
	require.Equal(t, len(plain), tab.len())
	for n, v := range plain {
		got, ok := tab.find(n)
		require.True(t, ok)
		require.Equal(t, v, got)
		require.Equal(t, refs[n] > 0, tab.live(n))
	}
	require.EqualValues(t, 48, unsafe.Sizeof(slot{}))
	slots := 0
	for i := range tab.shards {
		slots += len(tab.shards[i].slots)
	}
	require.Less(t, float64(slots*48), 67.0*float64(tab.len())+shards*48*minSlots)
}

// A name that fits no even spread, such as a hostile store might hold, is still found.
func TestTableOfClusteredNames(t *testing.T) {
	var tab table
	for i := range 5000 {
		n := chunk.Name{}
		binary.BigEndian.PutUint32(n[28:], uint32(i+1))
		_, added := tab.addOne(slotOf(1, chunk.Entry{Name: n, Offset: uint32(i)}))
		require.True(t, added)
	}
	v, ok := tab.find(chunk.Name{31: 1})
	require.True(t, ok)
	require.Zero(t, v.offset)
}
