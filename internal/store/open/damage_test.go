package open

import (
	"bytes"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
)

// tree is the files of a folder, by path below it.
func tree(t *testing.T, root string) map[string][]byte {
	t.Helper()
	out := map[string][]byte{}
	require.NoError(t, filepath.WalkDir(root, func(path string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		name, err := filepath.Rel(root, path)
		if err == nil {
			out[name], err = os.ReadFile(path)
		}
		return err
	}))
	return out
}

// Whatever is done to a file of a store, flipped, cut, gone, put in another's place or replaced by what it was before: an image that a check calls
// whole reads as it was taken, and no check or clearing up takes files away that somebody may want. KEENLODGE_DAMAGE=N tries so many, from
// KEENLODGE_SEED on.
func TestAnyDamage(t *testing.T) {
	tries, seed := mediumtest.Campaign("KEENLODGE_DAMAGE", 150)
	rng := rand.New(rand.NewPCG(seed, 19))
	harms, refused, broken := map[string]int{}, 0, 0
	for _, small := range []bool{false, true} {
		first, ids, contents := newStore(t, 2, small)
		root := first.dir.Root()
		before := tree(t, root)
		m := manifest(2)
		m.Capture, m.Base, m.Since = "incremental", ids[1], ids[1]
		older, err := first.ReadImage(t.Context(), ids[1])
		require.NoError(t, err)
		newest := bytes.Clone(contents[1])
		copy(newest[3<<20:], "the third tide")
		write(t, first, m, changed{disk.Memory(newest), 3 << 20, 3<<20 + 65536}, &older.Disks[0], small)
		_, err = first.Fold(t.Context(), ids[1], small, func(int64) {})
		require.NoError(t, err)
		require.NoError(t, first.SetPin(t.Context(), ids[1], &store.Pin{Note: "before the fair"}))
		ids, contents = append(ids, m.ID), append(contents, newest)
		whole := tree(t, root)
		names, olds := slices.Sorted(maps.Keys(whole)), slices.Sorted(maps.Keys(before))
		for n := range tries / 2 {
			name := names[rng.IntN(len(names))]
			harm := mediumtest.Harms[rng.IntN(len(mediumtest.Harms))]
			body := mediumtest.Harm(rng, harm, whole[name])
			touched := map[string][]byte{}
			switch harm {
			case "swap":
				others := slices.DeleteFunc(slices.Clone(names), func(o string) bool { return rng.IntN(4) > 0 && filepath.Ext(o) != filepath.Ext(name) })
				other := others[rng.IntN(len(others))]
				touched[other], body = body, bytes.Clone(whole[other])
			case "replay":
				name = olds[rng.IntN(len(olds))]
				body = bytes.Clone(before[name])
			}
			touched[name] = body
			harms[harm]++
			what := "store of seed " + strconv.FormatUint(seed, 10) + ", number " + strconv.Itoa(n) + ": " + harm + " of " + name
			for file, to := range touched {
				if to == nil {
					require.NoError(t, os.Remove(filepath.Join(root, file)))
				} else {
					require.NoError(t, os.WriteFile(filepath.Join(root, file), to, 0o600))
				}
			}
			broken += examine(t, root, ids, contents, what, &refused)
			for file := range tree(t, root) {
				if _, was := whole[file]; !was {
					require.NoError(t, os.Remove(filepath.Join(root, file)))
				}
			}
			for file, is := range tree(t, root) {
				if !bytes.Equal(is, whole[file]) {
					_, meant := touched[file]
					require.True(t, meant, "%s: %s has changed", what, file)
				}
			}
			for file, was := range whole {
				now, err := os.ReadFile(filepath.Join(root, file))
				if _, meant := touched[file]; !meant {
					require.NoError(t, err, "%s: %s was taken away", what, file)
				}
				if !bytes.Equal(now, was) {
					require.NoError(t, os.WriteFile(filepath.Join(root, file), was, 0o600))
				}
			}
		}
	}
	t.Logf("%d times damage from seed %d: %v; %d stores not opened, %d images broken", tries, seed, harms, refused, broken)
	require.Positive(t, broken)
}

// examine checks a store, and tells how many images are broken in it.
func examine(t *testing.T, root string, ids []string, contents [][]byte, what string, refused *int) (broken int) {
	t.Helper()
	ctx := t.Context()
	d, err := dir.Open(root)
	require.NoError(t, err, what)
	s, err := Open(ctx, d)
	if err != nil {
		require.Contains(t, what, "store.", err)
		*refused++
		return 0
	}
	report, err := s.Check(ctx, true, func(int64) {})
	require.NoError(t, err, what)
	for i, id := range ids {
		if slices.Contains(report.Broken, id) {
			broken++
			continue
		}
		m, err := s.ReadImage(ctx, id)
		require.NoError(t, err, "%s: image %s, which the check calls whole", what, id)
		require.True(t, strings.HasPrefix(m.Machine, "tickets-db"), what)
		_, err = s.ReadBack(ctx, m, func(int64) {})
		require.NoError(t, err, "%s: image %s", what, id)
		variables, err := m.FirmwareOf(image.UEFIVariables)
		require.NoError(t, err, what)
		require.Equal(t, "Boot0001", string(variables), what)
		opened, err := s.OpenDisk(ctx, m, m.Disks[0])
		require.NoError(t, err, "%s: image %s", what, id)
		at, err := disk.FirstDifference(ctx, opened, disk.Memory(contents[i]))
		require.NoError(t, err, "%s: image %s", what, id)
		require.EqualValues(t, -1, at, "%s: image %s is called whole, and reads other than it was", what, id)
		require.NoError(t, opened.Close())
	}
	return broken
}
