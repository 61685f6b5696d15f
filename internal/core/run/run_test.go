package run

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// A run is as bad as its worst task; skipped ones only count among themselves.
func TestWorst(t *testing.T) {
	for _, c := range []struct {
		tasks []State
		want  State
	}{
		{nil, Done},
		{[]State{Skipped, Skipped}, Skipped},
		{[]State{Skipped, Done}, Done},
		{[]State{Done, Warned, Skipped}, Warned},
		{[]State{Warned, Failed, Done}, Failed},
	} {
		require.Equal(t, c.want, Worst(c.tasks...), "%v", c.tasks)
	}
}

// Only what waits or works is under way; what another version wrote is taken for over, so nobody waits for it.
func TestOver(t *testing.T) {
	for _, s := range States {
		require.Equal(t, s != Queued && s != Running, s.Over(), s)
	}
	require.True(t, State("hibernating").Over())
}
