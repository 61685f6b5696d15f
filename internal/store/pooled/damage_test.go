package pooled

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/mediumtest"
)

// Whatever is done to an object of a store, flipped, cut, gone, put in another's place or replaced by what it was before: what is read is right or
// an error, what can't be read is what a check calls broken, and all else is whole. KEENLODGE_DAMAGE=N tries so many, from KEENLODGE_SEED on.
func TestAnyDamage(t *testing.T) {
	tries, seed := mediumtest.Campaign("KEENLODGE_DAMAGE", 200)
	ctx := t.Context()
	rng := rand.New(rand.NewPCG(seed, 17))
	harms, hit, refused := map[string]int{}, 0, 0
	for kind, secret := range secrets {
		var whole, before *mediumtest.Shelf
		disks := map[string]disk.Memory{}
		for n := range tries / 2 {
			if n%50 == 0 { // another store, that has lost an image and been swept
				s, m := newStore(t, secret)
				clear(disks)
				var ids []string
				d := randomDisk(rng, 200<<10)
				for i := range 4 {
					d = bytes.Clone(d)
					copy(d[rng.IntN(len(d)-4096):], bytes.Repeat([]byte{byte(i + 1)}, 4096))
					man, err := writeDisk(ctx, s, d)
					require.NoError(t, err)
					disks[man.ID], ids = d, append(ids, man.ID)
				}
				require.NoError(t, s.SetPin(ctx, ids[1], &store.Pin{Note: "before the fair"}))
				before = m.Shelf.Copy()
				require.NoError(t, s.DropImage(ctx, ids[0]))
				delete(disks, ids[0])
				_, err := s.Sweep(ctx, store.SweepRequest{})
				require.NoError(t, err)
				require.NoError(t, s.SetPin(ctx, ids[1], nil))
				whole = m.Shelf.Copy()
			}
			hurt := &mediumtest.Memory{Shelf: whole.Copy()}
			names := hurt.Names("")
			name := names[rng.IntN(len(names))]
			harm := mediumtest.Harms[rng.IntN(len(mediumtest.Harms))]
			body := mediumtest.Harm(rng, harm, hurt.Peek(name))
			switch harm {
			case "swap": // with another of its kind, or any
				folder, _, _ := strings.Cut(name, "/")
				others := slices.DeleteFunc(slices.Clone(names), func(o string) bool { return rng.IntN(4) > 0 && !strings.HasPrefix(o, folder) })
				if len(others) == 0 {
					others = names
				}
				other := others[rng.IntN(len(others))]
				hurt.Poke(other, body)
				body = bytes.Clone(whole.Peek(other))
			case "replay":
				olds := before.Names("")
				name = olds[rng.IntN(len(olds))]
				body = bytes.Clone(before.Peek(name))
			}
			hurt.Poke(name, body)
			harms[harm]++
			what := kind + " store of seed " + strconv.FormatUint(seed, 10) + ", number " + strconv.Itoa(n) + ": " + harm + " of " + name
			s, err := Open(ctx, hurt, secret)
			if err != nil {
				require.True(t, strings.HasPrefix(name, "store.") || harm == "swap", "%s: %v", what, err)
				refused++
				continue
			}
			s.packTarget = shortPack
			report, err := s.Check(ctx, true, nil)
			if err != nil {
				require.ErrorIs(t, err, chunk.ErrDamaged, what)
			}
			there, err := s.ImageIDs(ctx)
			require.NoError(t, err, what)
			for id, want := range disks {
				if !slices.Contains(there, id) {
					require.Contains(t, []string{"gone", "swap"}, harm, "%s: image %s is not there", what, id)
					continue
				}
				at, err := firstDifference(s, id, want)
				if err == nil {
					require.EqualValues(t, -1, at, "%s: image %s is read, and wrong", what, id)
					continue
				}
				hit++
				require.Contains(t, append(report.Broken, named(report)...), id, "%s: image %s can't be read (%v), and a check does not say so", what, id, err)
			}
		}
	}
	t.Logf("%d times damage from seed %d: %v; %d stores not opened, %d images hit", tries, seed, harms, refused, hit)
	require.Positive(t, hit)
}

// named are the images that a report's problems are about.
func named(r store.Report) (out []string) {
	for _, p := range r.Problems {
		out = append(out, p.Image, strings.TrimPrefix(p.Object, "image/"))
	}
	return out
}
