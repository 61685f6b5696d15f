package promise

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
)

// What is owed is set against what there is: 90 machines with a trial a week each fit into two places of six hours a night, 10,000 do not.
func TestOutlooks(t *testing.T) {
	owes, err := Parse("boot weekly, read daily, restore monthly")
	require.NoError(t, err)
	of := func(n int, m map[image.Level]Means) map[image.Level]Outlook {
		owed := make([]Promise, n)
		for i := range owed {
			owed[i] = owes
		}
		out := map[image.Level]Outlook{}
		for _, o := range Outlooks(owed, m) {
			out[o.Level] = o
		}
		return out
	}
	nights := Means{Each: 90 * time.Second, Open: 2 * 6 * 7 * time.Hour}
	few := of(90, map[image.Level]Means{image.ByBoot: nights, image.ByRead: {Each: time.Second, Open: 2 * week}, image.ByRestore: {Open: 2 * week}})
	require.Len(t, few, 3)
	boot := few[image.ByBoot]
	require.True(t, boot.Kept, boot.Why)
	require.InDelta(t, 90*(1/0.8-7.0/31/0.8), boot.Weekly, 0.01, "those by restore count, too")
	require.InDelta(t, 90*(7-1)/0.8, few[image.ByRead].Weekly, 0.01)
	require.InDelta(t, few[image.ByRead].Weekly*float64(time.Minute), few[image.ByRead].Needs, 1, "places are given out once a minute")
	require.True(t, few[image.ByRestore].Guessed)

	many := of(10_000, map[image.Level]Means{image.ByBoot: nights})
	require.False(t, many[image.ByBoot].Kept)
	require.Contains(t, many[image.ByBoot].Why, "9678 a week of 90 s each need 13 days of places a week, and 3 days are open to them")
	require.False(t, many[image.ByRead].Kept)
	require.Contains(t, many[image.ByRead].Why, "no place is open to them")
	require.Empty(t, Outlooks([]Promise{{}}, nil))
}
