package medium_test

import (
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/probe"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// lying is a medium that says of itself whether what it takes lasts.
type lying struct {
	*mediumtest.Memory
	text string
}

func (l lying) Lasts(context.Context) (string, error) { return l.text, nil }

// A place that may lose what it took in a power cut can be used, and says so.
func TestAProbeTellsWhatMayBeLost(t *testing.T) {
	for text, want := range map[string]probe.Step{
		"":                       {Name: "lasting", State: probe.OK, Text: "what is written is made durable before it counts"},
		"it forgets in the dark": {Name: "lasting", State: probe.Warning, Text: "it forgets in the dark"},
	} {
		steps := medium.Probe(t.Context(), false, func(context.Context) (medium.Medium, error) {
			return lying{&mediumtest.Memory{Shelf: mediumtest.NewShelf()}, text}, nil
		})
		require.Contains(t, steps, want)
		require.Regexp(t, `^16 MiB written at .*/s and read at .*/s`, steps[slices.IndexFunc(steps, func(s probe.Step) bool { return s.Name == "speed" })].Text)
		for _, s := range steps {
			require.NotEqual(t, probe.Failed, s.State, s.Text)
		}
	}
}
