package witness

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store/medium/memory"
	"keenlodge/internal/stores/storestest"
	"keenlodge/internal/trail"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// What is woven goes to every store; one that is away is told of and gets the newest later; and a database that was put back to an earlier time
// shows by what the stores know.
func TestStoresAreWitnesses(t *testing.T) {
	ctx, database := t.Context(), recordstest.URL(t)
	rec, err := records.Open(ctx, database)
	require.NoError(t, err)
	t.Cleanup(rec.Close)
	ss, _, shelf := storestest.New(t, rec)
	away := site.Store{Medium: "memory", Layout: site.Pooled, Settings: &memory.Settings{Shelf: t.Name() + "-away"}}
	require.NoError(t, rec.SaveSite(ctx, site.Site{Zone: "Europe/Lisbon", Stores: map[string]site.Store{"quay-shelf": shelf, "north-pier": away}}, nil, nil))
	log := recordstest.Quiet(t, "does not keep the trail's newest weave")
	tr := trail.New(rec, log)
	w := New(rec, log, tr, ss)
	kept := map[string]int64{}
	require.NoError(t, w.weaveOnce(ctx, kept), "nothing happened, nothing is woven")
	require.Empty(t, kept)

	tr.Note(ctx, trail.Deed{Who: "operator", Verb: "run-policy", Result: deed.Done})
	require.NoError(t, w.weaveOnce(ctx, kept))
	require.Equal(t, map[string]int64{"quay-shelf": 1}, kept)
	check, err := w.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, check.Found)
	require.EqualValues(t, 1, check.Lines)
	require.Equal(t, "north-pier", check.Stores[0].Store)
	require.NotEmpty(t, check.Stores[0].Error, "it holds no store")
	require.Equal(t, 1, check.Stores[1].Weaves)

	_, err = ss.Ready(ctx, site.Site{Stores: map[string]site.Store{"north-pier": away}}, "north-pier", nil, false)
	require.NoError(t, err)
	require.NoError(t, w.weaveOnce(ctx, kept))
	require.Equal(t, map[string]int64{"quay-shelf": 1, "north-pier": 1}, kept, "it is back")

	tr.Note(ctx, trail.Deed{Who: "thief", Verb: "revoke-token", Result: deed.Done})
	require.NoError(t, w.weaveOnce(ctx, kept))
	conn, err := pgx.Connect(ctx, database)
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "alter table weaves disable trigger all; alter table trail disable trigger all; delete from weaves where n = 2; delete from trail where who = 'thief'")
	require.NoError(t, err)
	check, err = w.Verify(ctx)
	require.NoError(t, err)
	require.Len(t, check.Found, 2, "both stores know better")
	for _, found := range check.Found {
		require.Contains(t, found, "the records end at weave 1: they were cut off, or are those of an earlier time")
	}
}
