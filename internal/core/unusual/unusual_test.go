package unusual

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestWhatIsUnusual(t *testing.T) {
	usual := func(n int) (out []Figures) {
		for i := range n {
			out = append(out, Figures{Read: 1000<<20 + int64(i%5)<<20, Stored: 100 << 20, Took: 2*time.Minute + time.Duration(i%3)*time.Second})
		}
		return out
	}
	for name, c := range map[string]struct {
		now    Figures
		before []Figures
		want   []string
	}{
		"as ever":           {Figures{1010 << 20, 110 << 20, 2 * time.Minute}, usual(10), nil},
		"too few to say":    {Figures{1, 1, time.Hour}, usual(3), nil},
		"larger":            {Figures{3000 << 20, 100 << 20, time.Minute}, usual(10), []string{"far larger than usual: 2.9 GiB read; the last 10 of its kind had 1002 MiB in the middle, give or take 1.5 MiB"}},
		"smaller":           {Figures{10 << 20, 10 << 20, time.Minute}, usual(10), []string{"far smaller than usual: 10 MiB read", "far smaller than usual: 10 MiB stored"}},
		"slower":            {Figures{1000 << 20, 100 << 20, 20 * time.Minute}, usual(30), []string{"far slower than usual: it took 20m0s; the last 20 of its kind took 2m1s"}},
		"twice a little":    {Figures{2000, 2000, 50 * time.Second}, []Figures{{900, 900, 1e9}, {900, 900, 1e9}, {900, 900, 1e9}, {900, 900, 1e9}}, nil},
		"odd ones before":   {Figures{3000 << 20, 100 << 20, time.Minute}, append(usual(7), Figures{9000 << 20, 9000 << 20, time.Hour}, Figures{}), []string{"far larger than usual: 2.9 GiB read"}},
		"it scatters a lot": {Figures{2500 << 20, 100 << 20, time.Minute}, []Figures{{Read: 300 << 20, Stored: 100 << 20, Took: time.Minute}, {Read: 900 << 20, Stored: 100 << 20, Took: time.Minute}, {Read: 1200 << 20, Stored: 100 << 20, Took: time.Minute}, {Read: 2000 << 20, Stored: 100 << 20, Took: time.Minute}}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			got := Compare(c.now, c.before)
			require.Len(t, got, len(c.want), "%v", got)
			for i, want := range c.want {
				require.Contains(t, got[i], want)
			}
		})
	}
}
