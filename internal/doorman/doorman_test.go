package doorman

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/access"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/trail"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// Wrong tokens are told of once a minute, by the address that they came from, in the trail and in the headline; many of them are an event.
func TestWrongTokens(t *testing.T) {
	ctx, rec, log := t.Context(), recordstest.Open(t), slog.New(slog.DiscardHandler)
	a := access.New(rec, log)
	d := New(rec, a, trail.New(rec, log))
	gone, cancel := context.WithCancel(ctx) // who does not wait for an answer
	cancel()
	for range 3 {
		a.Strangers.Wrong(gone, "192.0.2.66", time.Now())
	}
	for range manyGuesses {
		a.Strangers.Wrong(gone, "192.0.2.67", time.Now())
	}
	told, err := d.Notices(ctx, time.Now())
	require.NoError(t, err)
	require.Empty(t, told)
	require.NoError(t, d.Note(ctx))
	require.NoError(t, d.Note(ctx), "nothing more came")
	deeds, _, err := rec.DeedPage(ctx, records.DeedFilter{Verb: deed.Guess})
	require.NoError(t, err)
	require.Len(t, deeds, 2)
	for _, line := range deeds {
		require.Equal(t, deed.Refused, line.Result)
		require.Empty(t, line.Who)
		require.Contains(t, line.Why, map[string]string{"192.0.2.66": "3 wrong tokens", "192.0.2.67": "20 wrong tokens"}[line.Address])
	}
	told, err = d.Notices(ctx, time.Now())
	require.NoError(t, err)
	require.Len(t, told, 2)
	var events int
	require.NoError(t, rec.Pool().QueryRow(ctx, "select count(*) from river_job where args->'event'->>'name' = 'wrong-tokens' and args->'event'->>'text' like '%192.0.2.67%'").Scan(&events))
	require.Equal(t, 1, events)
}
