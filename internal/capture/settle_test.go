package capture

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store"
	"keenlodge/internal/stores/storestest"
)

// An image whose end could not be recorded is found out later: usable where its manifest is in the store, forgotten where it is not. One whose
// run is under way is left alone.
func TestImagesThatWereNotSettled(t *testing.T) {
	ctx := t.Context()
	rec := recordstest.Open(t)
	ss, _, shelf := storestest.New(t, rec)
	require.NoError(t, rec.SaveSite(ctx, site.Site{Zone: "Europe/Lisbon", Stores: map[string]site.Store{"quay-shelf": shelf}}, nil, nil))
	c := New(rec, recordstest.Quiet(t), nil, ss, nil, nil, "test", "", "")
	for id, r := range map[string]string{"aaaaaaaaaa": "over0000", "bbbbbbbbbb": "over0000", "cccccccccc": "going000"} {
		require.NoError(t, rec.AddImage(ctx, records.Image{ID: id, Machine: "timetable", MachineID: "u-timetable", Policy: "p", Store: "quay-shelf", Run: r, Taken: time.Now(), Scope: image.WholeMachine, Capture: image.Full}))
	}
	for _, id := range []string{"over0000", "going000"} {
		require.NoError(t, rec.QueueRun(ctx, records.Run{ID: id, Kind: run.Restore, Cause: run.Hand}))
	}
	require.NoError(t, rec.EndRun(ctx, "over0000", run.Failed, "its end could not be recorded"))
	st, err := ss.Named(ctx, "quay-shelf")
	require.NoError(t, err)
	m := &image.Manifest{Format: image.Format, ID: "aaaaaaaaaa", Machine: "timetable", Taken: time.Now(), Scope: image.WholeMachine, Capture: image.Full}
	w, err := st.Begin(ctx, m, store.WriteOptions{})
	require.NoError(t, err)
	require.NoError(t, w.Finish(ctx, m))
	require.NoError(t, w.End(ctx, nil))

	require.NoError(t, c.SettleLeft(ctx))
	is := func(id string) image.State {
		got, err := rec.Image(ctx, id)
		if err != nil {
			require.ErrorIs(t, err, fault.ErrNotFound)
		}
		return got.State
	}
	require.Equal(t, []image.State{image.Usable, "", image.Writing}, []image.State{is("aaaaaaaaaa"), is("bbbbbbbbbb"), is("cccccccccc")})
}
