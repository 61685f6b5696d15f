package daemon

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/source"
)

// A call that nothing ends, not even the end of its connection, is given up; others were not, as they end with it.
func TestCallsThatNothingEnds(t *testing.T) {
	abandonTime = 10 * time.Millisecond
	here, there := net.Pipe()
	defer there.Close()
	o := &Own{conn: here}
	err := o.Within(t.Context(), 20*time.Millisecond, "take a picture of guest berth-sim", func() error { select {} })
	require.ErrorIs(t, err, source.ErrUnreachable)
	require.ErrorContains(t, err, "take a picture of guest berth-sim")
	_, err = here.Write([]byte("x"))
	require.Error(t, err, "its connection is closed")
	require.NoError(t, o.Within(t.Context(), time.Minute, "look", func() error { return nil }))
}
