package pooled

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/store"
)

// Maps of a store that is far away are read from it once, whoever wants them and however often the process starts; what this host has lost or
// damaged is read again, and no more is kept than may be.
func TestMapsNearby(t *testing.T) {
	rng := rand.New(rand.NewPCG(19, 1))
	for name, sealed := range secrets {
		t.Run(name, func(t *testing.T) {
			_, m := newStore(t, sealed)
			d := randomDisk(rng, 400*small)
			man := putImage(t, reopen(t, m, sealed), d)
			folder, reads := t.TempDir(), map[string]int{}
			open := func(far bool) *Store {
				s, err := OpenKeeping(t.Context(), counted(m.Shelf, reads), sealed, Here{Folder: folder, Far: far})
				require.NoError(t, err)
				t.Cleanup(func() { s.Close() })
				clear(reads)
				return s
			}
			walk := func(s *Store) int {
				clear(reads)
				_, err := s.Sweep(t.Context(), store.SweepRequest{DryRun: true})
				require.NoError(t, err)
				return reads["pack"]
			}
			require.Positive(t, walk(open(false)))
			require.Positive(t, walk(open(false)), "of what is near nothing is kept")
			require.Positive(t, walk(open(true)))
			s := open(true)
			require.Zero(t, walk(s))
			requireSame(t, s, man.ID, d)
			requireClean(t, s)
			require.Positive(t, reads["pack"], "a check reads the store as it lies")

			kept, err := filepath.Glob(filepath.Join(folder, "maps", "*"))
			require.NoError(t, err)
			require.NotEmpty(t, kept)
			for i, path := range kept {
				body, err := os.ReadFile(path)
				require.NoError(t, err)
				if i%2 == 0 {
					body[len(body)/2] ^= 1
				} else {
					body = body[:len(body)/2]
				}
				require.NoError(t, os.WriteFile(path, body, 0o600))
			}
			s = open(true)
			require.Positive(t, walk(s))
			requireSame(t, s, man.ID, d)
			require.Zero(t, walk(open(true)))

			defer func(was int64) { nearbyMost = was }(nearbyMost)
			nearbyMost = 10 << 10
			n := Here{Folder: folder, Far: true}.nearby()
			for i := range 100 {
				n.put(frameAt{offset: uint32(i)}, make([]byte, 1000))
			}
			var bytes int64
			kept, err = filepath.Glob(filepath.Join(folder, "maps", "*"))
			require.NoError(t, err)
			for _, path := range kept {
				st, err := os.Stat(path)
				require.NoError(t, err)
				bytes += st.Size()
			}
			require.LessOrEqual(t, bytes, nearbyMost)
			require.Greater(t, bytes, nearbyMost/2)
			_, ok := n.get(frameAt{offset: 99}, 1000)
			require.True(t, ok, "what came last is there")
		})
	}
}
