package lodge_test

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/unusual"
	"keenlodge/internal/records"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

func ids(images []records.Image) (out []string) {
	for _, m := range images {
		out = append(out, m.ID)
	}
	return out
}

func (b *bench) sweep() (records.Run, wire.SweepResult) {
	b.t.Helper()
	r, err := b.l.Retention.Sweep(b.t.Context(), "operator", "quay-shelf")
	require.NoError(b.t, err)
	r = b.await(r.ID)
	require.EqualValues(b.t, run.Done, r.State, b.lines(r.ID))
	var v wire.SweepResult
	require.NoError(b.t, json.Unmarshal(r.Result, &v))
	return r, v
}

// A dropped image can be brought back for as long as its store's grace; then it leaves the store, and a sweep gives its room back.
func TestGraceAndSweep(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 1")})
	b.run("nightly-guests")
	old := b.images("u-tickets")[0]
	b.host.Write("tickets-db", "vda", 0, slices.Repeat([]byte("a booking "), 100_000))
	b.run("nightly-guests")
	require.Len(t, b.images("u-tickets"), 1)
	gone, _, err := b.l.Proofs.Of(ctx, old.ID)
	require.NoError(t, err)
	require.NotNil(t, gone.Gone)
	require.Equal(t, "no clause of the rule keeps it", gone.GoneWhy)
	_, err = b.l.Stores.Image(ctx, old.ID)
	require.ErrorIs(t, err, fault.ErrNotFound)
	require.ErrorContains(t, err, "went on")

	back, err := b.l.Retention.Undrop(ctx, old.ID)
	require.NoError(t, err)
	require.Equal(t, []string{old.ID}, back)
	require.Len(t, b.images("u-tickets"), 2)
	_, err = b.l.Retention.Undrop(ctx, old.ID)
	require.ErrorIs(t, err, fault.ErrConflict)
	_, err = b.l.Retention.Undrop(ctx, "nothing0")
	require.ErrorContains(t, err, "no image is called")
	sets, _, err := b.l.Retention.Preview(ctx, "nightly-guests", "newest 2", "", 0)
	require.NoError(t, err)
	require.Zero(t, sets[0].Gives, "another rule than its own")
	one, next, err := b.l.Retention.Preview(ctx, "nightly-guests", "", "", 1)
	require.NoError(t, err)
	require.Equal(t, "tickets-db", one[0].Machine)
	require.NotEmpty(t, next)
	two, next, err := b.l.Retention.Preview(ctx, "nightly-guests", "", next, 1)
	require.NoError(t, err)
	require.Equal(t, "timetable", two[0].Machine)
	require.Len(t, append(one, two...), 2)
	none, next, err := b.l.Retention.Preview(ctx, "nightly-guests", "", next, 1)
	require.NoError(t, err)
	require.Empty(t, none)
	require.Empty(t, next)
	_, _, err = b.l.Retention.Preview(ctx, "nightly-guests", "newest many", "", 0)
	require.ErrorIs(t, err, fault.ErrInvalid)
	_, _, err = b.l.Retention.Preview(ctx, "nightly", "", "", 0)
	require.ErrorIs(t, err, fault.ErrNotFound)

	b.run("nightly-guests") // drops it again, and one more
	plan, err := b.l.Retention.PlanSweep(ctx, "quay-shelf")
	require.NoError(t, err)
	require.Empty(t, plan.Left)
	require.Equal(t, 4, plan.Waiting)
	r, v := b.sweep()
	require.Equal(t, 4, v.Waiting)
	require.Empty(t, v.Left)
	require.Contains(t, b.lines(r.ID), "0 dropped images were taken out")

	s := b.site.Stores["quay-shelf"]
	s.Grace = "none"
	b.site.Stores["quay-shelf"] = s
	b.apply()
	plan, err = b.l.Retention.PlanSweep(ctx, "quay-shelf")
	require.NoError(t, err)
	require.Len(t, plan.Left, 4)
	require.Positive(t, plan.LeftBytes)
	r, v = b.sweep()
	require.Len(t, v.Left, 4)
	require.Equal(t, plan.LeftBytes, v.LeftBytes)
	require.Zero(t, v.Waiting)
	require.Contains(t, b.lines(r.ID), "image "+old.ID+" of tickets-db left store quay-shelf")
	_, err = b.l.Retention.Undrop(ctx, old.ID)
	require.ErrorContains(t, err, "has left store quay-shelf already")
	require.Len(t, b.shelf().Names("image/"), 2)
	before := b.images("u-tickets")[0].ID
	b.run("nightly-guests")
	require.NotContains(t, strings.Join(b.shelf().Names("image/"), " "), before, "without a grace it leaves at once")
	_, err = b.l.Retention.Sweep(ctx, "operator", "quay-shelves")
	require.ErrorIs(t, err, fault.ErrNotFound)
}

// A store that would fall below its floor has its sets rotated further, but never below what must stay; then it says so.
func TestTheFloor(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"nightly-guests": everything("newest 6")})
	book := func() { // 2 MiB that do not compress
		bookings := make([]byte, 2*mib)
		rand.Read(bookings)
		b.host.Write("tickets-db", "vda", 0, bookings)
	}
	shelf := b.site.Stores["quay-shelf"]
	shelf.Floor = "10 MiB"
	b.site.Stores["quay-shelf"] = shelf
	b.apply()
	var free atomic.Int64
	b.shelf().Space = func() medium.Room {
		return medium.Room{FreeBytes: free.Load(), TotalBytes: 64 << 20, FreeInodes: -1, TotalInodes: -1}
	}
	// filling has something else fill the disk while a run is under way.
	filling := func(left int64) (records.Run, string) {
		t.Helper()
		free.Store(16 << 20)
		var closed atomic.Int32
		b.host.SetFault(func(call, _ string) error {
			if call == "close" && closed.Add(1) == 2 { // both have found room by then
				free.Store(left)
			}
			return nil
		})
		book()
		r := b.run("nightly-guests")
		return r, b.lines(r.ID)
	}
	r, log := filling(2 << 20)
	require.EqualValues(t, run.Warned, r.State, log)
	require.Contains(t, log, "the floor of store quay-shelf can't be reached by rotation")
	require.Len(t, b.images("u-tickets"), 1, "the newest stays")
	r, log = filling(2 << 20)
	require.EqualValues(t, run.Warned, r.State, log)
	require.Len(t, b.images("u-tickets"), 1)
	require.Len(t, b.images("u-timetable"), 1)
	b.until(func() bool { return len(b.shelf().Names("image/")) == 2 }, "the sweep that ends the grace of what was dropped")

	for range 4 {
		r, log = filling(16 << 20)
		require.EqualValues(t, run.Done, r.State, log)
	}
	require.Len(t, b.images("u-tickets"), 5, "that is enough")
	r, log = filling(12 << 20)
	require.EqualValues(t, run.Done, r.State, log)
	require.Contains(t, log, "store quay-shelf must keep 10 MiB free and lacks")
	require.Len(t, b.images("u-tickets"), 5, "one went")
	r, log = filling(2 << 20)
	require.EqualValues(t, run.Warned, r.State, log)
	require.Contains(t, log, "rotation of tickets-db is held back")
	require.Len(t, b.images("u-tickets"), 6, "too many would go at once")

	b.host.SetFault(nil)
	free.Store(9 << 20)
	book()
	r = b.run("nightly-guests")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error+r.Tasks[1].Error, "there is no room for it")
	require.Len(t, b.images("u-tickets"), 6)
	b.clean("tickets-db", 0)
}

// In an open store chains are held by what leans on them; folding lets them go, and what is folded is what it was.
func TestFolding(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	p := growing("tickets-db", "newest 2")
	p.Capture = image.Differential
	b := newBenchWith(t, map[string]site.Policy{"hourly-tickets": p}, func(s *site.Site) {
		s.Stores["quay-shelf"] = site.Store{Medium: "dir", Layout: site.Open, Settings: &dir.Settings{Folder: t.TempDir()}, Grace: "none"}
	})
	grow := func(at int64) records.Image {
		t.Helper()
		b.host.Write("tickets-db", "vda", at, []byte("a booking"))
		r := b.run("hourly-tickets")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
		return b.images("u-tickets")[0]
	}
	full := grow(0)
	require.Equal(t, "", full.Base)
	grow(mib)
	third := grow(2 * mib)
	require.Equal(t, full.ID, third.Base)
	fourth := grow(3 * mib)
	held := ids(b.images("u-tickets"))
	require.Contains(t, held, full.ID, "the newest ones lean on it")
	require.Len(t, held, 3)

	_, err := b.l.Retention.Fold(ctx, "operator", full.ID)
	require.ErrorContains(t, err, "leans on nothing")
	r, err := b.l.Retention.Fold(ctx, "operator", third.ID)
	require.NoError(t, err)
	require.EqualValues(t, run.Done, b.await(r.ID).State)
	m, err := b.rec.Image(ctx, third.ID)
	require.NoError(t, err)
	require.Empty(t, m.Base)
	require.Equal(t, image.Full, m.Capture)
	for target, want := range b.host.Look("tickets-db").Disks {
		require.True(t, bytes.Equal(want, b.content(fourth.ID, target)), target)
	}
	same := b.content(third.ID, "vda")
	require.True(t, bytes.Equal(b.host.Look("tickets-db").Disks["vda"][:3*mib], same[:3*mib]))
	require.Zero(t, same[3*mib], "what was written after it is not in it")

	// A policy that folds keeps no more than its rule says.
	p.Fold, p.Capture = true, ""
	b.site.Policies["hourly-tickets"] = p
	b.apply()
	r = b.run("hourly-tickets")
	require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, b.images("u-tickets"), 2, b.lines(r.ID))
	for range 2 {
		r = b.run("hourly-tickets")
		require.EqualValues(t, run.Done, r.State, b.lines(r.ID))
	}
	require.Contains(t, b.lines(r.ID), "folding image ")
	require.Len(t, b.images("u-tickets"), 2)
	for _, m := range b.images("u-tickets") {
		require.Len(t, b.content(m.ID, "vda"), 4*mib)
	}
}

// In a pooled store there is nothing to fold.
func TestNothingToFold(t *testing.T) {
	t.Parallel()
	b := newBench(t, map[string]site.Policy{"hourly-tickets": growing("tickets-db", "newest 2")})
	b.run("hourly-tickets")
	_, err := b.l.Retention.Fold(t.Context(), "operator", b.images("u-tickets")[0].ID)
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, "every image stands alone")
}

// What looks as if data were lost holds rotation back, where the policy says so, until a person has looked.
func TestRotationHeldForWhatIsUnusual(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	policy := everything("newest 2")
	policy.Hold = site.HoldUnusual
	b := newBench(t, map[string]site.Policy{"nightly-guests": policy})
	b.run("nightly-guests")
	good := b.images("u-timetable")[0]
	b.run("nightly-guests")
	odd := b.images("u-timetable")[0]
	require.NoError(t, b.rec.AddUnusual(ctx, odd.ID, []unusual.Sign{{Kind: unusual.Renamed, Text: "renamed: 412 of 500 data files"}}))
	sum, err := b.l.Summary(ctx, right.Everything)
	require.NoError(t, err)
	require.Equal(t, wire.Some{Count: 1, Names: []string{odd.Machine}}, sum.Unusual)
	r := b.run("nightly-guests")
	require.Equal(t, run.Warned, r.State)
	require.Contains(t, b.lines(r.ID), "image "+odd.ID+" is unusual, and those from before may be the last good ones. Look at it (keenlodge image show "+odd.ID)
	require.Len(t, b.images("u-timetable"), 3)
	require.Len(t, b.images("u-tickets"), 2, "others go on")
	sets, _, err := b.l.Retention.Preview(ctx, "nightly-guests", "", "", 0)
	require.NoError(t, err)
	at := slices.IndexFunc(sets, func(p wire.SetPreview) bool { return p.MachineID == "u-timetable" })
	first := sets[at].Images[slices.IndexFunc(sets[at].Images, func(m wire.PreviewedFate) bool { return m.ID == good.ID })]
	require.Equal(t, rotation.Held, first.Verdict)
	require.Contains(t, first.Why, "image "+odd.ID+" is unusual, and nobody has looked")
	_, err = b.l.Proofs.Look(ctx, good.ID, "operator", "")
	require.ErrorIs(t, err, fault.ErrConflict)
	m, err := b.l.Proofs.Look(ctx, odd.ID, "operator", "the berths got new names")
	require.NoError(t, err)
	require.Equal(t, []any{0, "operator", "the berths got new names"}, []any{m.Unusual, m.LookedBy, m.LookedNote})
	r = b.run("nightly-guests")
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	require.Len(t, b.images("u-timetable"), 2)
}
