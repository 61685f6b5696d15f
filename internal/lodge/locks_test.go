package lodge_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/copies"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
)

// What is locked goes by nothing before its day: by no rotation, no confirmation, no retirement, no word to the store, and by no lodge that adopts it.
func TestLocks(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := copyBench(t, map[string]site.Policy{"nightly-guests": {Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 1"}},
		map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Soon: true, Rotation: "newest 1", Locked: "14 days"}})
	for range 4 {
		r := b.run("nightly-guests")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
		require.EqualValues(t, run.Done, b.newest("to-north-pier").State, b.lines(b.newest("to-north-pier").ID))
	}
	require.Len(t, b.in("quay-shelf", "u-timetable"), 1, "there nothing is locked")
	found := b.in("north-pier", "u-timetable")
	require.Len(t, found, 4)
	for _, m := range found {
		require.WithinDuration(t, time.Now().Add(14*24*time.Hour), *m.Locked, time.Minute)
	}
	sets, _, err := b.l.Retention.Preview(ctx, "to-north-pier", "", "", 0)
	require.NoError(t, err)
	require.Equal(t, rotation.Held, sets[0].Images[0].Verdict)
	require.Contains(t, sets[0].Images[0].Why, "the rule lets it go, but it is locked until ")
	gone, err := b.l.Retention.Confirm(ctx, "to-north-pier", nil)
	require.NoError(t, err)
	require.Empty(t, gone)
	require.ErrorContains(t, b.rec.DropImages(ctx, []records.Drop{{ID: found[3].ID, Why: "by a thief"}}), "is locked")
	_, st, err := b.l.Stores.OfImage(ctx, found[3].ID)
	require.NoError(t, err)
	require.ErrorIs(t, st.DropImage(ctx, found[3].ID), image.ErrLocked)
	m, err := b.rec.Machine(ctx, "u-timetable")
	require.NoError(t, err)
	_, err = b.l.Retention.Retire(ctx, m, "newest 1", false)
	require.NoError(t, err)
	require.Len(t, b.in("north-pier", "u-timetable"), 4)

	// A shorter lock is one of later images, and who adopts the store heeds the old one.
	rule := b.site.Copies["to-north-pier"]
	rule.Locked = ""
	b.site.Copies = map[string]site.Copy{"to-north-pier": rule}
	b.apply()
	r, _ := b.copy("to-north-pier", copies.Request{})
	require.EqualValues(t, run.Done, r.State)
	require.Len(t, b.in("north-pier", "u-timetable"), 4)
	again := &bench{t: t, rec: recordstest.Open(t), host: b.host, log: &lockedBuffer{}, site: b.site}
	again.site.Copies, again.site.Policies = nil, nil
	again.start()
	again.apply()
	_, err = again.l.Stores.Adopt(ctx, "north-pier", true)
	require.NoError(t, err)
	adopted, err := again.rec.Image(ctx, found[3].ID)
	require.NoError(t, err)
	require.True(t, adopted.Locked.Equal(*found[3].Locked))
	require.ErrorContains(t, again.rec.DropImages(ctx, []records.Drop{{ID: found[3].ID, Why: "by another lodge"}}), "is locked")
}
