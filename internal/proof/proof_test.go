package proof

import (
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
)

// Every provable level can be carried out, and no other.
func TestLevels(t *testing.T) {
	var known []image.Level
	for _, l := range image.Provable {
		if l == image.ByBoot {
			continue // which is another kind of run
		}
		require.Contains(t, levels, l)
		known = append(known, l)
	}
	require.Len(t, levels, len(known))
	require.NoError(t, levels[image.ByRead].ready(nil))
}
