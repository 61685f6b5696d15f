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
}
