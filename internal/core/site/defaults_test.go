package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
)

// What is left out has a value, and what Check would have refused does no harm.
func TestDefaults(t *testing.T) {
	require.Equal(t, []time.Duration{24 * time.Hour, 0, 36 * time.Hour, 24 * time.Hour}, []time.Duration{Store{}.GraceTime(), Store{Grace: "none"}.GraceTime(), Store{Grace: "36 hours"}.GraceTime(), Store{Grace: "long"}.GraceTime()})
	require.Equal(t, []int64{0, 20 << 30, 0}, []int64{Store{}.FloorBytes(), Store{Floor: "20 GiB"}.FloorBytes(), Store{Floor: "much"}.FloorBytes()})
	require.EqualValues(t, 5<<20, Store{SweepBandwidth: "5 MiB"}.SweepBytes())
	require.Equal(t, []time.Duration{30 * time.Second, 5 * time.Minute}, []time.Duration{Health{}.Limit(), Health{Within: "5 minutes"}.Limit()})
	require.Equal(t, []bool{true, false}, []bool{Health{}.Stops(), Health{Else: "warn"}.Stops()})
	require.Equal(t, []bool{false, true, false}, []bool{Hook{}.Fails(), Hook{Else: "fail"}.Fails(), Hook{Else: "warn"}.Fails()})
	var p Policy
	require.Equal(t, []time.Duration{0, 0, time.Minute, 2 * time.Minute, 1024 * time.Minute, 1024 * time.Minute}, []time.Duration{p.LongestRun(), p.SpreadOver(), p.Wait(1), p.Wait(2), p.Wait(11), p.Wait(12)})
	p = Policy{Longest: "6 hours", Spread: "1 hour", RetryWait: "10 seconds"}
	require.Equal(t, []time.Duration{6 * time.Hour, time.Hour, 10 * time.Second, 40 * time.Second}, []time.Duration{p.LongestRun(), p.SpreadOver(), p.Wait(1), p.Wait(3)})
	require.Equal(t, image.Incremental, p.Between())
	require.Empty(t, p.Kinds())
	require.False(t, p.Builds())
	p = Policy{Cycle: "full every 7th", Capture: image.Differential, Schedules: []Schedule{{Capture: image.Incremental}, {Capture: image.Full}, {Capture: image.Differential}}}
	require.Equal(t, []image.Capture{image.Differential, image.Incremental}, p.Kinds())
	require.True(t, p.Builds())
	require.Equal(t, []int{9, 7, 5}, []int{Site{TasksAtOnce: 9}.Tasks(), Hypervisor{TasksAtOnce: 7}.Tasks(), Store{TasksAtOnce: 5}.Tasks()})
	require.Positive(t, min(Site{}.Tasks(), Hypervisor{}.Tasks(), Store{}.Tasks()))
	require.Equal(t, Site{}.RunsKept(), Site{}.ImagesKept())
	require.Equal(t, []time.Duration{48 * time.Hour, 72 * time.Hour}, []time.Duration{Site{KeepRuns: "2 days"}.RunsKept(), Site{KeepImages: "3 days"}.ImagesKept()})
	require.Equal(t, []string{Libvirt, "fake"}, []string{Hypervisor{}.SourceKind(), Hypervisor{Kind: "fake"}.SourceKind()})
	require.Equal(t, time.UTC, Site{}.Location())
}

// A sweep keeps to its window, over midnight, too.
func TestSweepUntil(t *testing.T) {
	at := func(h, m int) time.Time { return time.Date(2026, 3, 10, h, m, 0, 0, time.UTC) }
	until, open := Store{}.SweepUntil(at(12, 0))
	require.True(t, open)
	require.True(t, until.IsZero(), "for ever")
	s := Store{SweepWindow: "22:00-05:00"}
	for _, c := range []struct {
		at    time.Time
		open  bool
		until time.Time
	}{{at(21, 59), false, time.Time{}}, {at(22, 0), true, at(29, 0)}, {at(4, 59), true, at(5, 0)}, {at(5, 0), false, time.Time{}}} {
		until, open := s.SweepUntil(c.at)
		require.Equal(t, c.open, open, c.at)
		require.Equal(t, c.until, until, c.at)
	}
}
