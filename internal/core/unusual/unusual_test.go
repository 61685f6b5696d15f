package unusual

import (
	"math/rand/v2"
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
		"as ever":           {Figures{Read: 1010 << 20, Stored: 110 << 20, Took: 2 * time.Minute}, usual(10), nil},
		"too few to say":    {Figures{Read: 1, Stored: 1, Took: time.Hour}, usual(3), nil},
		"larger":            {Figures{Read: 3000 << 20, Stored: 100 << 20, Took: time.Minute}, usual(10), []string{"far larger than usual: 2.9 GiB read; the last 10 of its kind had 1002 MiB in the middle, give or take 1.5 MiB"}},
		"smaller":           {Figures{Read: 10 << 20, Stored: 10 << 20, Took: time.Minute}, usual(10), []string{"far smaller than usual: 10 MiB read", "far smaller than usual: 10 MiB stored"}},
		"slower":            {Figures{Read: 1000 << 20, Stored: 100 << 20, Took: 20 * time.Minute}, usual(30), []string{"far slower than usual: it took 20m0s; the last 20 of its kind took 2m1s"}},
		"twice a little":    {Figures{Read: 2000, Stored: 2000, Took: 50 * time.Second}, []Figures{{Read: 900, Stored: 900, Took: 1e9}, {Read: 900, Stored: 900, Took: 1e9}, {Read: 900, Stored: 900, Took: 1e9}, {Read: 900, Stored: 900, Took: 1e9}}, nil},
		"odd ones before":   {Figures{Read: 3000 << 20, Stored: 100 << 20, Took: time.Minute}, append(usual(7), Figures{Read: 9000 << 20, Stored: 9000 << 20, Took: time.Hour}, Figures{}), []string{"far larger than usual: 2.9 GiB read"}},
		"it scatters a lot": {Figures{Read: 2500 << 20, Stored: 100 << 20, Took: time.Minute}, []Figures{{Read: 300 << 20, Stored: 100 << 20, Took: time.Minute}, {Read: 900 << 20, Stored: 100 << 20, Took: time.Minute}, {Read: 1200 << 20, Stored: 100 << 20, Took: time.Minute}, {Read: 2000 << 20, Stored: 100 << 20, Took: time.Minute}}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			got := Compare(c.now, c.before)
			require.Len(t, got, len(c.want), "%v", got)
			for i, want := range c.want {
				require.Contains(t, got[i].Text, want)
			}
		})
	}
}

// Each condition decides by itself: the factor, the spread, and the difference that is worth a look; at its edge nothing is said.
func TestWhereItBegins(t *testing.T) {
	const mib = 1 << 20
	flat := func(read int64, took time.Duration) (out []Figures) {
		for range Fewest {
			out = append(out, Figures{Read: read, Stored: read, Took: took})
		}
		return out
	}
	said := func(now Figures, before []Figures) int { return len(Compare(now, before)) }
	for name, c := range map[string]struct {
		now    Figures
		before []Figures
		want   int
	}{
		"twice as large":              {Figures{Read: 200 * mib, Stored: 100 * mib, Took: time.Minute}, flat(100*mib, time.Minute), 0},
		"more than twice":             {Figures{Read: 200*mib + 1, Stored: 100 * mib, Took: time.Minute}, flat(100*mib, time.Minute), 1},
		"not worth a look":            {Figures{Read: 10*mib + leastBytes, Stored: 10 * mib, Took: time.Minute}, flat(10*mib, time.Minute), 0},
		"just worth a look":           {Figures{Read: 10*mib + leastBytes + 1, Stored: 10 * mib, Took: time.Minute}, flat(10*mib, time.Minute), 1},
		"half as large":               {Figures{Read: 150 * mib, Stored: 300 * mib, Took: time.Minute}, flat(300*mib, time.Minute), 0},
		"less than half":              {Figures{Read: 150*mib - 1, Stored: 300 * mib, Took: time.Minute}, flat(300*mib, time.Minute), 1},
		"less, not worth a look":      {Figures{Read: 0, Stored: leastBytes, Took: time.Minute}, flat(leastBytes, time.Minute), 0},
		"three times as slow":         {Figures{Read: mib, Stored: mib, Took: 6 * time.Minute}, flat(mib, 2*time.Minute), 0},
		"slower than that":            {Figures{Read: mib, Stored: mib, Took: 6*time.Minute + 1}, flat(mib, 2*time.Minute), 1},
		"slower, not worth a look":    {Figures{Read: mib, Stored: mib, Took: 10*time.Second + leastTime}, flat(mib, 10*time.Second), 0},
		"slower, just worth a look":   {Figures{Read: mib, Stored: mib, Took: 10*time.Second + leastTime + 1}, flat(mib, 10*time.Second), 1},
		"one more than fewest is odd": {Figures{Read: 900 * mib, Stored: 100 * mib, Took: time.Minute}, append(flat(100*mib, time.Minute), Figures{Read: 100 * mib, Stored: mib, Took: time.Minute}), 1},
	} {
		now := c.now
		if c.now.Stored == 0 {
			now.Stored = c.before[0].Stored
		}
		require.Equal(t, c.want, said(now, c.before), name)
	}
	// The spread is five times the median distance from the median, scaled: here 14.826 MiB.
	var spread []Figures
	for _, read := range []int64{80, 90, 100, 110, 120} {
		spread = append(spread, Figures{Read: read * mib, Stored: mib, Took: time.Minute})
	}
	require.Zero(t, said(Figures{Read: 100*mib + 5*14826*mib/1000 - mib, Stored: mib, Took: time.Minute}, spread))
	tenfold := append([]Figures{}, spread...)
	for i := range tenfold {
		tenfold[i].Read *= 10
		tenfold[i].Took = time.Duration(8+i) * time.Minute
	}
	require.Zero(t, said(Figures{Read: 1000*mib + 5*148260*mib/1000 + 250*mib, Stored: mib, Took: time.Minute}, tenfold), "far, but not twice as large")
	require.Equal(t, 1, said(Figures{Read: 2001 * mib, Stored: mib, Took: time.Minute}, tenfold))
	require.Equal(t, 1, said(Figures{Read: 1000 * mib, Stored: mib, Took: 31 * time.Minute}, tenfold))
	middle, width := robust([]float64{1, 2, 4, 8})
	require.InDelta(t, 3, middle, 1e-9)
	require.InDelta(t, 1.4826*1.5, width, 1e-9)
}

// Data that was encrypted does not compress, whatever compressed before it; ordinary days, with an archive now and then, are not told of.
func TestWhatDoesNotCompress(t *testing.T) {
	const mib = 1 << 20
	rng := rand.New(rand.NewPCG(7, 7))
	found, alarms := 0, 0
	for range 200 {
		usual := 0.25 + 0.35*rng.Float64()
		var before []Figures
		day := func(share float64) Figures {
			fresh := int64(40+rng.IntN(200)) * mib
			return Figures{Read: fresh, Fresh: fresh, Stored: int64(float64(fresh) * share), Took: time.Minute}
		}
		for range 12 {
			before = append(before, day(usual+0.05*(rng.Float64()-0.5)))
		}
		for range 30 {
			if incompressible(day(usual+0.08*(rng.Float64()-0.5)), before) != "" {
				alarms++
			}
		}
		if incompressible(day(0.97+0.03*rng.Float64()), before) != "" {
			found++
		}
	}
	require.Equal(t, 200, found)
	require.Zero(t, alarms)
	archives := []Figures{}
	for range 8 { // where nothing ever compressed, that is usual
		archives = append(archives, Figures{Read: 100 * mib, Fresh: 100 * mib, Stored: 99 * mib})
	}
	require.Empty(t, incompressible(Figures{Read: 100 * mib, Fresh: 100 * mib, Stored: 100 * mib}, archives))
	require.Empty(t, incompressible(Figures{Fresh: mib, Stored: mib}, archives[:4]), "a little is nothing")
	quiet := []Figures{{Fresh: 0}, {Fresh: 0}, {Fresh: 0}, {Fresh: 0}, {Fresh: 0}}
	require.Empty(t, incompressible(Figures{Fresh: 100 * mib, Stored: 100 * mib}, quiet), "of what was never seen nothing is known")
	out := Compare(Figures{Read: 100 * mib, Fresh: 100 * mib, Stored: 99 * mib}, []Figures{{Read: 100 * mib, Stored: 40 * mib, Fresh: 100 * mib}, {Read: 100 * mib, Stored: 42 * mib, Fresh: 100 * mib}, {Read: 100 * mib, Stored: 44 * mib, Fresh: 100 * mib}, {Read: 100 * mib, Stored: 41 * mib, Fresh: 100 * mib}})
	require.Contains(t, out[len(out)-1].Text, "most of what is new does not compress: 99 % of 100 MiB was left; the last 4 of its kind left 42 % in the middle")
}
