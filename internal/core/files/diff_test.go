package files

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestCompare(t *testing.T) {
	order := []string{".", OutputFolder, OutputFolder + "/z", "-", "a", "a/b", "a/b/c", "a/c", "a-", "a.b", "ab", "b"}
	for i, a := range order {
		for k, b := range order {
			got := Compare(a, b)
			require.Equal(t, []bool{i < k, i == k}, []bool{got < 0, got == 0}, "%q %q", a, b)
		}
	}
}

// Whatever came, went and changed between two lists is told, once and in order, and nothing else.
func TestDiff(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 9))
	list := func(entries map[string]Entry) *ListReader {
		out := []byte(ListHead)
		paths := []string{}
		for p := range entries {
			paths = append(paths, p)
		}
		slices.SortFunc(paths, Compare)
		for _, p := range paths {
			e := entries[p]
			out = AppendEntry(out, &e)
		}
		l, err := NewListReader(bytes.NewReader(out))
		require.NoError(t, err)
		return l
	}
	for range 200 {
		older, newer, want := map[string]Entry{}, map[string]Entry{}, map[string][]string{}
		for range rng.IntN(40) {
			p := []string{"a", "a/b", "a/b/c", "a-", "b", "odd\xff", "c/d e", OutputFolder + "/x"}[rng.IntN(8)] + string(rune('0'+rng.IntN(10)))
			e := Entry{Path: p, Kind: File, Mode: 0o644, Size: rng.Int64N(1000), Modified: time.Unix(1_700_000_000+rng.Int64N(1000), 0).UTC()}
			switch rng.IntN(4) {
			case 0:
				older[p] = e
				delete(newer, p)
				want[p] = []string{"went"}
			case 1:
				newer[p] = e
				delete(older, p)
				want[p] = []string{"came"}
			case 2:
				older[p], newer[p] = e, e
				delete(want, p)
			case 3:
				older[p] = e
				e.Mode, e.UID = 0o600, 7
				e.Xattrs = map[string]string{"user.berth": "4"}
				newer[p] = e
				want[p] = []string{"mode", "owner", "attributes"}
			}
		}
		got, last := map[string][]string{}, "."
		require.NoError(t, Diff(list(older), list(newer), func(d Difference) error {
			path, what := "", d.What
			switch {
			case d.Old == nil:
				path, what = d.New.Path, []string{"came"}
			case d.New == nil:
				path, what = d.Old.Path, []string{"went"}
			default:
				path = d.Old.Path
			}
			require.Negative(t, Compare(last, path))
			last, got[path] = path, what
			return nil
		}))
		require.Equal(t, want, got)
	}
}
