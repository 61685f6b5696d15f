package estimate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The slowest part limits, many small files cost by their number, and what is not known is said.
func TestEstimates(t *testing.T) {
	store, pool := Part{"store annex", 64 << 20, "measured just now"}, Part{"hypervisor quay-1", 256 << 20, "as restores onto it went"}
	gate := Part{Name: "server gate-07"}
	for want, e := range map[string]Estimate{
		"about 3 min for 12 GiB; store annex limits it, at 64 MiB/s (measured just now)":                                             Of(12<<30, 0, store, pool),
		"a few seconds for 64 MiB; store annex limits it, at 64 MiB/s (measured just now)":                                           Of(64<<20, 10, pool, store),
		"about 10 min for 1.0 GiB; the number of paths limits it, 6,000,000":                                                         Of(1<<30, 6_000_000, pool),
		"about 15 s for 1.0 GiB; store annex limits it, at 64 MiB/s (measured just now), and nothing is known yet of server gate-07": Of(1<<30, 0, store, gate),
		"how long it takes for 1.0 GiB is not known: nothing is known yet of server gate-07":                                         Of(1<<30, 0, gate),
		"a few seconds for 18 B": Of(18, 1, gate),
	} {
		require.Equal(t, want, e.String())
	}
	require.Equal(t, 4*time.Second, Of(1<<30, 0, pool).Took)
	require.Zero(t, Of(1<<30, 5, gate).Took)
}

func TestAbout(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "a few seconds", 12 * time.Second: "about 10 s", 54 * time.Second: "about 55 s", 55 * time.Second: "about 1 min", 89 * time.Second: "about 1 min",
		9*time.Minute + 40*time.Second: "about 10 min", 33 * time.Minute: "about 35 min", 58 * time.Minute: "about 1 h", 135 * time.Minute: "about 2 h 20 min", 700 * time.Minute: "about 12 h"} {
		require.Equal(t, want, About(d))
	}
}
