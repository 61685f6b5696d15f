package lodge_test

import (
	"crypto/rand"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium/memory"
)

// A policy that changes its store says what stays behind; where its entry names the former store its rule counts both as one, and its images are taken
// along where that is asked: each is whole at its new place before it goes at the old one, and what is pinned stays.
func TestAPolicyThatChangesItsStore(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	policy := site.Policy{Machines: []string{"timetable"}, Store: "quay-shelf", Rotation: "newest 4"}
	b := newBenchWith(t, map[string]site.Policy{"nightly-guests": policy}, func(s *site.Site) {
		s.Stores["annex"] = site.Store{Medium: "memory", Layout: site.Pooled, Like: "quay-shelf", Settings: &memory.Settings{Shelf: t.Name() + "-annex"}}
	})
	backup := func() {
		t.Helper()
		noise := make([]byte, 256<<10)
		rand.Read(noise)
		b.host.Write("timetable", "vda", 0, noise)
		r := b.run("nightly-guests")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	}
	change := func(to string, formerly ...string) []string {
		t.Helper()
		policy.Store, policy.Formerly = to, formerly
		b.site.Policies = map[string]site.Policy{"nightly-guests": policy}
		out, err := b.l.Apply(ctx, b.site, false)
		require.NoError(t, err)
		return out.Rotation
	}
	at := func(store string) []string { return ids(b.in(store, "u-timetable")) }
	for range 4 {
		backup()
	}
	first := at("quay-shelf")
	require.Len(t, first, 4)

	told := change("annex")
	require.Len(t, told, 1)
	require.Contains(t, told[0], "4 stay in quay-shelf, where nothing rotates them: to have them count in its rotation, and go by it, write formerly: [quay-shelf]")
	backup()
	require.Equal(t, first, at("quay-shelf"), "nobody asked for them to go")
	require.Len(t, at("annex"), 1)

	require.Empty(t, change("annex", "quay-shelf"))
	sets, _, err := b.l.Retention.Preview(ctx, "nightly-guests", "", "", 0)
	require.NoError(t, err)
	require.Len(t, sets, 1)
	require.Len(t, sets[0].Images, 5)
	require.Equal(t, first[3], sets[0].Images[0].ID)
	require.Equal(t, rotation.Drop, sets[0].Images[0].Verdict)
	backup()
	require.Equal(t, first[:2], at("quay-shelf"), "the newest four of both")
	require.Len(t, at("annex"), 2)

	pinned := first[1]
	_, err = b.l.Stores.Pin(ctx, pinned, true, "the last before the move")
	require.NoError(t, err)
	content := b.content(first[0], "vda")
	r, err := b.l.Copies.Gather(ctx, "nightly-guests", "operator")
	require.NoError(t, err)
	r = b.await(r.ID)
	require.EqualValues(t, run.Warned, r.State, b.lines(r.ID))
	require.Contains(t, b.lines(r.ID), "1 images of policy nightly-guests stay in store quay-shelf")
	require.Equal(t, []string{pinned}, at("quay-shelf"))
	require.Len(t, at("annex"), 4)
	var taken string
	for _, m := range b.in("annex", "u-timetable") {
		require.Empty(t, m.CopiedBy, "they are the policy's own")
		require.EqualValues(t, image.Usable, m.State)
		if m.CopyOf == first[0] {
			taken = m.ID
		}
	}
	require.Equal(t, content, b.content(taken, "vda"))
	sets, _, err = b.l.Retention.Preview(ctx, "nightly-guests", "", "", 0)
	require.NoError(t, err)
	require.Len(t, sets[0].Images, 4, "what is in both counts once")

	_, err = b.l.Stores.Pin(ctx, pinned, false, "")
	require.NoError(t, err)
	r, err = b.l.Copies.Gather(ctx, "nightly-guests", "operator")
	require.NoError(t, err)
	require.EqualValues(t, run.Done, b.await(r.ID).State)
	require.Contains(t, b.lines(r.ID), "formerly: can go out of its entry")
	require.Empty(t, at("quay-shelf"))
	require.Len(t, at("annex"), 4)
	backup()
	require.Len(t, at("annex"), 4)

	require.Empty(t, change("annex"))
	_, err = b.l.Copies.Gather(ctx, "nightly-guests", "operator")
	require.ErrorIs(t, err, fault.ErrConflict)
	policy.Formerly = []string{"annex"}
	b.site.Policies = map[string]site.Policy{"nightly-guests": policy}
	_, err = b.l.Apply(ctx, b.site, true)
	require.ErrorContains(t, err, "store annex is named twice")
}
