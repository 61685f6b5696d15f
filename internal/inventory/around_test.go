package inventory

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source"
)

// What stands around machines is asked for once a day, and what it was before is kept; a host that did not answer is asked again in an hour.
func TestSurveys(t *testing.T) {
	ctx := t.Context()
	inv, _, hosts := quays(t, nil)
	inv.log = recordstest.Quiet(t, "could not ask what stands around")
	asked := 0
	var broken error
	hosts["quay-1"].SetFault(func(call, _ string) error {
		if call == "around" {
			asked++
			return broken
		}
		return nil
	})
	later := func(by string) {
		_, err := inv.rec.Pool().Exec(ctx, "update surveys set began = began - $1::interval", by)
		require.NoError(t, err)
		require.NoError(t, inv.Survey(ctx))
	}
	kinds := func(name string) (out []string) {
		found, err := inv.Around(ctx, name)
		require.NoError(t, err)
		for _, f := range found {
			out = append(out, f.Kind+" "+f.Name+" "+f.Definition)
		}
		return out
	}
	bridge := func(definition string) source.Thing {
		return source.Thing{Kind: source.Network, Name: "quayside", Definition: definition}
	}
	hosts["quay-1"].Things = []source.Thing{bridge("<network/>"), {Kind: source.Pool, Name: "fast", Definition: "<pool/>"}}
	require.NoError(t, inv.Survey(ctx))
	require.NoError(t, inv.Survey(ctx))
	require.Equal(t, 1, asked)
	require.Equal(t, []string{"network quayside <network/>", "pool fast <pool/>"}, kinds("quay-1"))
	require.Empty(t, kinds("quay-2"))
	_, err := inv.Around(ctx, "quay-3")
	require.ErrorIs(t, err, fault.ErrNotFound)

	hosts["quay-1"].Things = []source.Thing{bridge("<network bridge='br0'/>")}
	later("23 hours")
	require.Equal(t, 1, asked)
	later("2 hours")
	require.Equal(t, []string{"network quayside <network bridge='br0'/>", "network quayside <network/>", "pool fast <pool/>"}, kinds("quay-1"), "what is gone is known still")
	broken = errors.New("it is away")
	later("25 hours")
	later("2 hours")
	require.Equal(t, 4, asked)
	require.Len(t, kinds("quay-1"), 3)
	broken = nil
	later("2 hours")
	found, err := inv.Around(ctx, "quay-1")
	require.NoError(t, err)
	require.Len(t, found, 3, "the same again is seen again")
	require.True(t, found[0].Seen.After(found[1].Seen))

	_, err = inv.rec.Pool().Exec(ctx, "update around set seen = seen - interval '401 days' where name = 'fast'")
	require.NoError(t, err)
	require.NoError(t, inv.rec.Surveyed(ctx, "quay-1", []records.Thing{{Kind: "network", Name: "quayside", Definition: "<network bridge='br0'/>"}}, "", keepAround))
	require.Len(t, kinds("quay-1"), 2)
	require.Greater(t, keepAround, 365*24*time.Hour)
}
