package pooled

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// inUse lists the pieces to which images refer, as far as is counted.
func inUse(s *Store) (names []chunk.Name) {
	s.table.each(func(v *slot, live bool) bool {
		if live {
			names = append(names, v.name)
		}
		return true
	})
	slices.SortFunc(names, func(a, b chunk.Name) int { return slices.Compare(a[:], b[:]) })
	return names
}

// What is carried on from sweep to sweep is what counting all anew finds: whoever wrote, dropped and swept meanwhile, and whether the counts
// lie in memory or in files of this host and the store was closed between.
func TestATallyThatIsCarriedOn(t *testing.T) {
	for _, local := range []bool{false, true} {
		t.Run(fmt.Sprintf("local %v", local), func(t *testing.T) {
			if local {
				keepLocally(t)
			}
			rng := rand.New(rand.NewPCG(91, 1))
			_, m := newStore(t, nil)
			folder := filepath.Join(t.TempDir(), "index")
			reads := map[string]int{}
			open := func() *Store {
				s, err := OpenKeeping(t.Context(), counted(m.Shelf, reads), nil, Here{Folder: folder})
				require.NoError(t, err)
				require.NoError(t, s.IndexTrouble())
				s.packTarget = shortPack
				return s
			}
			s, other := open(), reopen(t, m, nil)
			type kept struct {
				man  *image.Manifest
				disk disk.Memory
			}
			var images []kept
			for step := range 120 {
				require.NoError(t, other.Refresh(t.Context()))
				by := s
				if rng.IntN(3) == 0 {
					by = other
				}
				switch n := rng.IntN(10); {
				case n < 4:
					d := randomDisk(rng, 20*small+rng.IntN(100*small))
					if len(images) > 0 && n < 3 { // much as an older one
						d = append(disk.Memory{}, images[rng.IntN(len(images))].disk...)
						copy(d[rng.IntN(len(d)/small)*small:], randomDisk(rng, small))
					}
					if n == 3 { // with map blocks as data
						id, _ := other.ImageIDs(t.Context())
						if len(id) > 0 {
							man, err := other.ReadImage(t.Context(), id[0])
							require.NoError(t, err)
							root, _ := man.Disks[0].Root()
							body, err := other.GetMap(t.Context(), root)
							require.NoError(t, err)
							copy(d[3*small:], body)
						}
					}
					require.NoError(t, by.Refresh(t.Context()))
					images = append(images, kept{putImage(t, by, d), d})
				case n < 7 && len(images) > 1:
					i := rng.IntN(len(images))
					require.NoError(t, by.DropImage(t.Context(), images[i].man.ID))
					images = slices.Delete(images, i, i+1)
				case n == 7 && len(images) > 0:
					_, err := s.Sweep(t.Context(), store.SweepRequest{DryRun: true, Without: []string{images[rng.IntN(len(images))].man.ID}})
					require.NoError(t, err)
				case n == 8 && local:
					require.NoError(t, s.Close())
					s = open()
				default:
					_, err := by.Sweep(t.Context(), store.SweepRequest{})
					require.NoError(t, err)
				}
				_, err := s.count(t.Context(), nil)
				require.NoError(t, err)
				anew := reopen(t, m, nil)
				_, err = anew.count(t.Context(), nil)
				require.NoError(t, err)
				require.Equal(t, inUse(anew), inUse(s), "step %d", step)
			}
			for _, k := range images {
				requireSame(t, s, k.man.ID, k.disk)
			}
			requireClean(t, s)

			// A sweep that finds one more image reads what hangs on that one alone.
			require.NoError(t, s.Refresh(t.Context()))
			d := append(disk.Memory{}, images[0].disk...)
			copy(d[5*small:], randomDisk(rng, small))
			putImage(t, s, d)
			clear(reads)
			r, err := s.Sweep(t.Context(), store.SweepRequest{DryRun: true})
			require.NoError(t, err)
			require.Equal(t, len(images)+1, r.Images)
			require.Equal(t, 1, reads["image"])
			require.LessOrEqual(t, reads["pack"], 3)
		})
	}
}

// Who can't follow counts anew: another lodge has swept what an image needed that this one still counted; and a piece that is missing is
// counted once it is back.
func TestATallyThatWentAstray(t *testing.T) {
	rng := rand.New(rand.NewPCG(91, 2))
	_, m := newStore(t, nil)
	s, other := reopen(t, m, nil), reopen(t, m, nil)
	s.packTarget, other.packTarget = shortPack, shortPack
	a, b := randomDisk(rng, 200*small), randomDisk(rng, 200*small)
	first, second := putImage(t, other, a), putImage(t, other, b)
	_, err := s.Sweep(t.Context(), store.SweepRequest{})
	require.NoError(t, err)
	require.NotNil(t, s.tally)
	require.NoError(t, other.DropImage(t.Context(), first.ID))
	_, err = other.Sweep(t.Context(), store.SweepRequest{})
	require.NoError(t, err)
	r, err := s.Sweep(t.Context(), store.SweepRequest{})
	require.NoError(t, err)
	require.Equal(t, 1, r.Images)
	requireSame(t, reopen(t, m, nil), second.ID, b)

	// A pack is not listed for a while, as on a medium whose lists lag.
	needed := inUse(s)
	i := slices.IndexFunc(needed, func(n chunk.Name) bool { return len(s.copies(n)) == 1 })
	require.NotEqual(t, -1, i)
	lost := packName(s.copies(needed[i])[0].id)
	body, err := m.Get(t.Context(), lost, 0, -1)
	require.NoError(t, err)
	require.NoError(t, m.Delete(t.Context(), lost))
	require.NoError(t, s.Refresh(t.Context()))
	require.True(t, s.table.lost.Load())
	_, err = s.Sweep(t.Context(), store.SweepRequest{DryRun: true})
	if err == nil { // only data was missing
		require.Nil(t, s.tally, "what could not be counted is not carried on")
	}
	require.NoError(t, m.Put(t.Context(), lost, body))
	for range 2 {
		_, err = s.Sweep(t.Context(), store.SweepRequest{})
		require.NoError(t, err)
	}
	require.NotNil(t, s.tally)
	requireSame(t, reopen(t, m, nil), second.ID, b)
	requireClean(t, s)
}
