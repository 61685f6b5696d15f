package suggest

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestMatch(t *testing.T) {
	known := []string{"tickets-db", "timetable", "berth-sim", "gate-07"}
	for word, want := range map[string]string{
		"ticket-db": "tickets-db", "timetabel": "timetable", "BERTH-SIM": "berth-sim", "gate07": "gate-07", "harbour-radio": "", "": "", "x": "",
	} {
		require.Equal(t, want, Match(word, known), word)
	}
	require.Equal(t, `; did you mean "gate-07"?`, Hint("gate-08", known))
	require.Equal(t, "; known are tickets-db, timetable, berth-sim, gate-07", Hint("pier", known))
	require.Empty(t, Hint("pier", []string(nil)))
	many := make([]string, 17)
	for i := range many {
		many[i] = string(rune('a'+i)) + "-very-long-word"
	}
	require.Empty(t, Hint("pier", many), "too many to list")
	require.Contains(t, Hint("pier", many[:16]), "; known are a-very-long-word, ")
}

// A third of the letters may differ, two at least; of several the nearest counts, and of equals the first.
func TestHowNear(t *testing.T) {
	for _, c := range []struct {
		word, known string
		near        bool
	}{{"ab", "cd", true}, {"abc", "xyz", false}, {"abcdef", "xbcdey", true}, {"abcdef", "xycdez", false}, {"abcdefghi", "xyzdefghi", true}, {"abcdefghi", "xyzdefghx", false}, {"quay", "quayss", true}, {"quay", "quaysss", false}, {"", "ab", true}} {
		require.Equal(t, c.near, Match(c.word, []string{c.known}) != "", "%s %s", c.word, c.known)
	}
	require.Equal(t, "pier-2", Match("pier-2x", []string{"pier-1", "pier-2", "pier-3"}))
	require.Equal(t, "pier-1", Match("pier", []string{"pier-1", "pier-2"}))
	for pair, want := range map[[2]string]int{{"", ""}: 0, {"a", ""}: 1, {"", "abc"}: 3, {"kitten", "sitting"}: 3, {"abc", "abc"}: 0, {"ab", "ba"}: 2, {"flaw", "lawn"}: 2} {
		require.Equal(t, want, distance(pair[0], pair[1]), "%v", pair)
		require.Equal(t, want, distance(pair[1], pair[0]), "%v", pair)
	}
}
