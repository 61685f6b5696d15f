package inplace

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
)

// A person hears of what stays longer than it may, and of nothing else.
func TestHeadline(t *testing.T) {
	now := time.Date(2026, 3, 2, 8, 30, 0, 0, time.UTC)
	ago := func(d time.Duration) time.Time { return now.Add(-d) }
	kept := Snapshot{ID: "a", Policy: "hourly-light", Taken: ago(48 * time.Hour), State: Kept, Bytes: 3 << 30}
	with := func(change func(s *Snapshot)) Snapshot { s := kept; change(&s); return s }
	for says, c := range map[string]struct {
		Snapshot
		known, lets bool
	}{
		"":                                 {kept, true, false},
		"older than policy hourly-light":   {kept, true, true},
		"(3.0 GiB) is of policy":           {kept, false, false},
		"can't be removed since Sun 1 Mar": {with(func(s *Snapshot) { s.State, s.Trouble, s.Troubled = Leaving, "it is stuck", ago(25*time.Hour) }), true, true},
		"past its time":                    {with(func(s *Snapshot) { s.Policy, s.Until = "", ago(time.Minute) }), false, false},
	} {
		got := c.Headline(now, c.known, c.lets)
		require.Equal(t, says == "", got == "", got)
		require.Contains(t, got, says)
	}
	for _, quiet := range []Snapshot{
		with(func(s *Snapshot) { s.Pinned = true }),
		with(func(s *Snapshot) { s.Taken = ago(time.Hour) }),
		with(func(s *Snapshot) { s.Policy, s.Until = "", now.Add(time.Minute) }),
		with(func(s *Snapshot) { s.State, s.Troubled = Leaving, ago(time.Hour) }),
		with(func(s *Snapshot) { s.State = Making }),
		with(func(s *Snapshot) { s.Policy, s.Until, s.Passing = "", ago(time.Minute), true }),
	} {
		require.Empty(t, quiet.Headline(now, true, true), quiet)
	}
	passing := with(func(s *Snapshot) { s.Policy, s.Until, s.Passing = "", ago(time.Minute), true })
	require.True(t, passing.Over(now))
	for _, change := range []func(s *Snapshot){func(s *Snapshot) { s.Passing = false }, func(s *Snapshot) { s.Pinned = true }, func(s *Snapshot) { s.Until = now.Add(time.Minute) }, func(s *Snapshot) { s.State = Leaving }} {
		s := passing
		change(&s)
		require.False(t, s.Over(now), s)
	}
	require.Equal(t, image.Writing, with(func(s *Snapshot) { s.State = Making }).Rotated().State)
	require.Zero(t, with(func(s *Snapshot) { s.Bytes = -1 }).Rotated().Bytes)
}
