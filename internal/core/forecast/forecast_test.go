package forecast

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/when"
)

func lisbon(t testing.TB) *time.Location {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	return zone
}

// policy makes one of a single machine with full images of 100 bytes and changes of 10.
func policy(t testing.TB, name, rule, cycles string, phrases ...string) Policy {
	p := Policy{Name: name, Store: "plain-shelf", Capture: "incremental", Sets: []Set{{Machine: "tickets-db", Hypervisor: "quay-1",
		Full: Range{90, 100, 120}, Between: Range{5, 10, 20}, Took: time.Hour}}}
	var err error
	p.Rule, err = rotation.Parse(rule)
	require.NoError(t, err)
	p.Cycle, err = cycle.Parse(cycles)
	require.NoError(t, err)
	for _, phrase := range phrases {
		s, err := when.Parse(phrase, lisbon(t))
		require.NoError(t, err)
		p.Starts = append(p.Starts, Start{When: s})
	}
	return p
}

func TestNewestThreeOfANight(t *testing.T) {
	now := time.Date(2026, 3, 27, 12, 0, 0, 0, lisbon(t))
	p := policy(t, "nightly-guests", "newest 3", "", "every day at 01:30")
	f := Make(Request{Now: now, Days: 6, Policies: []Policy{p}, Stores: []Store{{Name: "plain-shelf", Free: 1000, Floor: 750, Leans: true, Grace: 36 * time.Hour}}})
	days := f.Policies[0].Days
	var images, dropped []int
	for _, d := range days {
		images, dropped = append(images, d.Images), append(dropped, d.Dropped)
	}
	require.Equal(t, []int{0, 1, 2, 3, 3, 3}, images)
	require.Equal(t, []int{0, 0, 0, 0, 1, 1}, dropped)
	require.Equal(t, "2026-03-29", days[2].Date)
	require.Equal(t, "2026-03-29T02:30:00+01:00", days[2].Runs[0].At.Format(time.RFC3339), "the night in which 01:30 does not exist")
	require.Equal(t, Range{90, 100, 120}, days[1].Runs[0].Adds)
	require.Equal(t, Exactly(400).Likely, days[4].Taken.Likely, "the dropped one is in its grace")
	require.Equal(t, Range{1000 - 4*120, 600, 1000 - 4*90}, f.Stores[0].Free[4])
	require.Equal(t, "2026-03-30", f.Stores[0].Hit)
	require.Equal(t, "2026-03-30", f.Stores[0].HitEarly)
}

// Chains of an open store go as a whole, and a fold keeps the count exact.
func TestChainsAndFolds(t *testing.T) {
	now := time.Date(2026, 2, 1, 12, 0, 0, 0, lisbon(t))
	chain, fold := policy(t, "hourly-tickets", "newest 3", "full every 3rd", "every day at 23:00"), policy(t, "folded", "newest 3", "full once", "every day at 23:00")
	fold.Fold = true
	f := Make(Request{Now: now, Days: 9, Policies: []Policy{chain, fold}, Stores: []Store{{Name: "plain-shelf", Leans: true, Free: -1}}})
	var images, folded []int
	for i, d := range f.Policies[0].Days {
		images, folded = append(images, d.Images), append(folded, f.Policies[1].Days[i].Images)
		require.Equal(t, i%3 == 0, d.Runs[0].Full == 1)
	}
	require.Equal(t, []int{1, 2, 3, 4, 5, 3, 4, 5, 3}, images)
	require.Equal(t, []int{1, 2, 3, 3, 3, 3, 3, 3, 3}, folded)
	require.Empty(t, f.Stores[0].Free, "a medium that does not tell")
}

// The full image that began the cycle is gone, and the cycle goes on all the same.
func TestTheCycleCountsOnFromWhatIsGone(t *testing.T) {
	now := time.Date(2026, 2, 1, 12, 0, 0, 0, lisbon(t))
	p := policy(t, "nightly-guests", "newest 2", "full every 4th", "every day at 23:00")
	for n := range 2 {
		p.Sets[0].Images = append(p.Sets[0].Images, rotation.Image{ID: fmt.Sprint("old", n), Taken: now.AddDate(0, 0, n-2), Capture: "incremental", State: "usable", Bytes: 10})
		p.Sets[0].Made = append(p.Sets[0].Made, cycle.Image{Taken: now.AddDate(0, 0, n-3), Full: n == 0})
	}
	var full []bool
	for _, d := range Make(Request{Now: now, Days: 4, Policies: []Policy{p}}).Policies[0].Days {
		full = append(full, d.Runs[0].Full == 1)
	}
	require.Equal(t, []bool{false, false, true, false}, full)
}

// A rule that would delete too much deletes nothing, until somebody confirms it.
func TestTheGuardHolds(t *testing.T) {
	now := time.Date(2026, 2, 1, 12, 0, 0, 0, lisbon(t))
	p := policy(t, "weekly-system", "newest 1", "", "every day at 23:00")
	for n := range 5 {
		p.Sets[0].Images = append(p.Sets[0].Images, rotation.Image{ID: fmt.Sprint("old", n), Taken: now.AddDate(0, 0, n-6), Capture: "full", State: "usable", Bytes: 50})
	}
	days := Make(Request{Now: now, Days: 2, Policies: []Policy{p}}).Policies[0].Days
	require.True(t, days[1].Held)
	require.Equal(t, []int{7, 0}, []int{days[1].Images, days[1].Dropped})
}

func TestWindowsChainsPausesAndSchedulesTogether(t *testing.T) {
	now := time.Date(2026, 2, 2, 12, 0, 0, 0, lisbon(t)) // a Monday
	first := policy(t, "nightly-guests", "newest 9", "full once", "every day at 23:00", "every sun at 23:00")
	first.Starts[0].Capture, first.Starts[1].Capture = "incremental", "full"
	w, err := when.ParseWindows([]string{"never mon 20:00-24:00"})
	require.NoError(t, err)
	first.Hours = []when.Windows{w}
	second, paused := policy(t, "weekly-system", "newest 9", "", "after nightly-guests"), policy(t, "monthly-whole", "newest 9", "", "every day at 23:30")
	paused.PausedUntil = time.Date(2026, 2, 8, 0, 0, 0, 0, now.Location())
	f := Make(Request{Now: now, Days: 7, Policies: []Policy{first, second, paused}, HypervisorTasks: map[string]int{"quay-1": 1}, Stores: []Store{{Name: "plain-shelf", Free: 9999, Tasks: 9}}})
	require.Empty(t, f.Policies[0].Days[0].Runs, "on Monday it waits until midnight")
	require.Len(t, f.Policies[0].Days[1].Runs, 2)
	require.Equal(t, time.Hour, f.Policies[0].Days[1].Runs[0].Waited)
	require.Equal(t, 1, f.Policies[0].Days[6].Runs[0].Full, "on Sunday the full one counts")
	require.Equal(t, 1, f.Policies[0].Days[5].Runs[0].Between)
	require.Equal(t, "2026-02-03T01:00:00Z", f.Policies[1].Days[1].Runs[0].At.Format(time.RFC3339), "an hour after the one that it follows")
	for i, d := range f.Policies[2].Days {
		require.Equal(t, i == 6, len(d.Runs) == 1)
	}
	require.Len(t, f.Crowds, 1)
	c := f.Crowds[0]
	require.Equal(t, Contention{"hypervisor quay-1", time.Date(2026, 2, 8, 23, 30, 0, 0, now.Location()), time.Date(2026, 2, 9, 0, 0, 0, 0, now.Location()), 2, 1, []string{"monthly-whole", "nightly-guests"}}, c)
}

// Whatever the policies, no image appears from nowhere or goes unnoticed, ranges hold, and a forecast is the same twice.
func TestTheBooksBalance(t *testing.T) {
	rng := rand.New(rand.NewPCG(6, 1))
	zone := lisbon(t)
	for range 60 {
		now := time.Date(2026, time.Month(1+rng.IntN(12)), 1+rng.IntN(28), rng.IntN(24), 7, 0, 0, zone)
		r := Request{Now: now, Days: 40, Stores: []Store{{Name: "plain-shelf", Free: 5000, Leans: rng.IntN(2) == 0}}}
		for i := range 1 + rng.IntN(4) {
			p := policy(t, fmt.Sprint("p", i), []string{"newest 4", "5 daily, 2 weekly", "12 days, first"}[rng.IntN(3)], []string{"", "full every 5th", "full on sun"}[rng.IntN(3)],
				[]string{"every day at 01:30", "every mon,thu at 04:00 and 16:00", "every 7 hours from 00:20"}[rng.IntN(3)])
			for n := range rng.IntN(6) {
				p.Sets[0].Images = append(p.Sets[0].Images, rotation.Image{ID: fmt.Sprint("old", n), Taken: now.AddDate(0, 0, n-9), Capture: "full", State: "usable", Bytes: 50})
			}
			r.Policies = append(r.Policies, p)
		}
		f := Make(r)
		require.Equal(t, f, Make(r))
		for i, p := range f.Policies {
			there := len(r.Policies[i].Sets[0].Images)
			for _, d := range p.Days {
				there += len(d.Runs) - d.Dropped
				require.Equal(t, there, d.Images)
				require.LessOrEqual(t, d.Taken.Low, d.Taken.Likely)
				require.LessOrEqual(t, d.Taken.Likely, d.Taken.High)
			}
			require.Positive(t, there)
		}
	}
}

func TestSizes(t *testing.T) {
	full, between, guessed := Seen{Full: []int64{110, 100, 90, 900}, Between: []int64{7, 5, 9}}.Sizes()
	require.False(t, guessed)
	require.Equal(t, Range{90, 100, 110}, full, "the first of all is not repeated")
	require.Equal(t, Range{5, 7, 7}, between)
	full, between, guessed = Seen{Full: []int64{400}, Disks: 9000}.Sizes()
	require.True(t, guessed)
	require.Equal(t, Exactly(400), full)
	require.Equal(t, Range{4, 20, 133}, between)
	full, _, _ = Seen{Disks: 9000}.Sizes()
	require.Equal(t, Range{0, 4500, 9000}, full)
	many := []int64{1, 2, 3, 4, 5, 6, 7, 8, 9, 100, 200} // newest first
	for n, want := range map[int]Range{1: {1, 1, 1}, 2: {1, 2, 2}, 3: {1, 2, 2}, 9: {1, 5, 8}, 10: {1, 6, 100}, 11: {1, 6, 100}} {
		got, _, guessed := Seen{Full: many[:n]}.Sizes()
		require.Equal(t, want, got, "of %d", n)
		require.True(t, guessed)
	}
}

// BenchmarkAYearOfAThousandPolicies is what docs/benchmarks.md has.
func BenchmarkAYearOfAThousandPolicies(b *testing.B) {
	now := time.Date(2026, 2, 1, 12, 0, 0, 0, lisbon(b))
	for name, rule := range map[string]string{"newest": "newest 7", "tiers": "7 daily, 4 weekly, 12 monthly"} {
		r := Request{Now: now, Days: 365, HypervisorTasks: map[string]int{"quay-1": 2}, Stores: []Store{{Name: "plain-shelf", Free: 1 << 50, Leans: true, Grace: 24 * time.Hour, Tasks: 4}}}
		for i := range 1000 {
			r.Policies = append(r.Policies, policy(b, fmt.Sprint("p", i), rule, "full every 7th", fmt.Sprintf("every day at %02d:%02d", i%24, i%60)))
		}
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				Make(r)
			}
		})
	}
}
