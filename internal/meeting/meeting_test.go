package meeting

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// All that come wait for each other; one that leaves is waited for no more, and one that does not come keeps the others no longer than they may wait.
func TestMeetings(t *testing.T) {
	for name, c := range map[string]struct {
		leaves, missing bool
		together        bool
	}{"all come": {together: true}, "one leaves": {leaves: true, together: true}, "one does not come": {missing: true}} {
		t.Run(name, func(t *testing.T) {
			machines := []string{"a", "b"}
			if c.leaves || c.missing {
				machines = append(machines, "c")
			}
			m := Of(machines)
			m.patience = 50 * time.Millisecond
			if !c.missing {
				m.patience = time.Minute
			}
			got := make(chan bool)
			go func() { got <- m.Arrive(t.Context(), "a") }()
			go func() { got <- m.Arrive(t.Context(), "b") }()
			if c.leaves {
				m.Leave("c")
				m.Leave("c")
			}
			require.Equal(t, []bool{c.together, c.together}, []bool{<-got, <-got})
			came, _, together := m.Came()
			require.ElementsMatch(t, []string{"a", "b"}, came)
			require.Equal(t, c.together, together)
			require.False(t, m.Arrive(t.Context(), "a stranger"))
		})
	}
}
