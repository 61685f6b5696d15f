package when

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What is written is read as the same.
func TestFormatSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{time.Minute: "1 minute", 90 * time.Minute: "90 minutes", 36 * time.Hour: "36 hours", 24 * time.Hour: "1 day", 90 * 24 * time.Hour: "90 days", 61 * time.Second: "61 seconds"} {
		require.Equal(t, want, FormatSpan(d))
		again, err := ParseSpan(want)
		require.NoError(t, err)
		require.Equal(t, d, again)
	}
}
