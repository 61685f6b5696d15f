package retention

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/store"
	"keenlodge/internal/stores/storestest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

type bench struct {
	*testing.T
	rt   *Retention
	rec  *records.Records
	site site.Site
}

func newBench(t *testing.T) *bench {
	rec := recordstest.Open(t)
	ss, e, shelf := storestest.New(t, rec)
	b := &bench{t, New(rec, recordstest.Quiet(t), ss, e), rec, site.Site{Zone: "Europe/Lisbon", Stores: map[string]site.Store{"quay-shelf": shelf}, Policies: map[string]site.Policy{"nightly-guests": {Store: "quay-shelf", Rotation: "newest 9"}}}}
	b.save()
	_, _, err := rec.SaveMachines(t.Context(), "quay-1", []records.Machine{{Name: "timetable", UUID: "u-timetable", State: machine.Running, Tags: map[string]string{}, Disks: []records.MachineDisk{}}})
	require.NoError(t, err)
	return b
}

func (b *bench) save() {
	require.NoError(b, b.rec.SaveSite(b.Context(), b.site, func(site.Policy) time.Time { return time.Time{} }, nil))
}

// images adds so many images, one a day until now.
func (b *bench) images(n int, change func(*records.Image)) {
	for i := range n {
		m := records.Image{ID: fmt.Sprintf("image%05d", i), Machine: "timetable", MachineID: "u-timetable", Policy: "nightly-guests", Store: "quay-shelf", Taken: time.Now().AddDate(0, 0, i-n), Scope: image.WholeMachine, Capture: image.Full,
			Disks: []records.ImageDisk{}, Stored: int64(i+1) << 20}
		if change != nil {
			change(&m)
		}
		require.NoError(b, b.rec.AddImage(b.Context(), m))
		require.NoError(b, b.rec.FinishImage(b.Context(), m))
	}
}

func (b *bench) there() (n int) {
	images, err := b.rec.Images(b.Context(), records.ImageFilter{})
	require.NoError(b, err)
	return len(images)
}

// Upkeep sweeps every store daily, within its hours, rotates what is retired by its own rule, and forgets what is older than the site
// keeps.
func TestUpkeep(t *testing.T) {
	ctx := t.Context()
	b := newBench(t)
	b.images(8, nil)
	m, err := b.rec.Machine(ctx, "u-timetable")
	require.NoError(t, err)
	_, err = b.rt.Retire(ctx, m, "newest all", false)
	require.ErrorIs(t, err, fault.ErrInvalid)
	sets, err := b.rt.Retire(ctx, m, "newest 20", false)
	require.NoError(t, err)
	require.Len(t, sets, 1)
	require.Equal(t, "newest 20", sets[0].Rule)
	daily := 0
	upkeep := func() error {
		return b.rt.upkeepOnce(ctx, func(context.Context, site.Site) error { daily++; return nil })
	}
	again := func() {
		_, err := b.rec.Pool().Exec(ctx, "update stores set swept = now() - interval '25 hours'")
		require.NoError(t, err)
		require.NoError(t, upkeep())
	}
	require.NoError(t, upkeep())
	require.Zero(t, daily, "a new store is not due")
	again()
	require.NoError(t, upkeep())
	sweeps, err := b.rec.Runs(ctx, records.RunFilter{Kind: string(run.Sweep)})
	require.NoError(t, err)
	require.Len(t, sweeps, 1)
	require.Equal(t, run.Upkeep, sweeps[0].Cause)
	require.JSONEq(t, `{"store": "quay-shelf"}`, string(sweeps[0].Request))
	require.Equal(t, 1, daily)
	require.Equal(t, 8, b.there())

	require.NoError(t, b.rec.RetireMachine(ctx, m.ID, "newest 1")) // a rule that the guard holds back when nobody looks
	again()
	require.Equal(t, 8, b.there())
	m, err = b.rec.Machine(ctx, "u-timetable")
	require.NoError(t, err)
	require.Contains(t, m.Notice, "it would drop 7 of 8")
	require.NoError(t, b.rec.RetireMachine(ctx, m.ID, "newest 6"))
	_, err = b.rec.AdoptMachine(ctx, records.Machine{ID: "u-another", Name: "another", State: machine.Gone, Tags: map[string]string{}, Disks: []records.MachineDisk{}})
	require.NoError(t, err)
	require.NoError(t, b.rec.RetireMachine(ctx, "u-another", "a rule of another version"))
	_, err = b.rec.Pool().Exec(ctx, "update stores set swept = now() - interval '25 hours'")
	require.NoError(t, err)
	require.ErrorContains(t, upkeep(), `machine another, its rule "a rule of another version"`)
	require.NoError(t, b.rec.RetireMachine(ctx, "u-another", ""))
	require.Equal(t, 6, b.there(), "what is wrong with one machine keeps no other")
	m, err = b.rec.Machine(ctx, "u-timetable")
	require.NoError(t, err)
	require.Empty(t, m.Notice)
	gone, err := b.rec.Image(ctx, "image00000")
	require.NoError(t, err)
	require.Contains(t, gone.GoneWhy, "(its machine is retired)")
	_, err = b.rt.Undrop(ctx, "image00000")
	require.ErrorIs(t, err, fault.ErrConflict)
	require.ErrorContains(t, err, "image image00000 has no manifest in store quay-shelf any more")
	st, err := b.rt.stores.Named(ctx, "quay-shelf")
	require.NoError(t, err)
	manifest := &image.Manifest{Format: image.Format, ID: "image00000", Machine: "timetable", Taken: time.Now()}
	w, err := st.Begin(ctx, manifest, store.WriteOptions{})
	require.NoError(t, err)
	require.NoError(t, w.Finish(ctx, manifest))
	require.NoError(t, w.End(ctx, nil))
	_, err = b.rt.Undrop(ctx, "image00000")
	require.NoError(t, err)
	require.NoError(t, b.rt.Unretire(ctx, m))
	again()
	require.Equal(t, 7, b.there(), "nothing rotates it any more but its policy")
	m, err = b.rec.Machine(ctx, "u-timetable")
	require.NoError(t, err)
	require.ErrorIs(t, b.rt.Unretire(ctx, m), fault.ErrConflict)
	sets, err = b.rt.Retire(ctx, m, "newest 1", true)
	require.NoError(t, err)
	require.Len(t, sets[0].Images, 7)
	require.Equal(t, 7, b.there(), "it was only tried")
	_, err = b.rt.Retire(ctx, m, "newest 1", false)
	require.NoError(t, err)
	require.Equal(t, 1, b.there(), "who retires has seen it")
	err = b.rt.upkeepOnce(ctx, func(context.Context, site.Site) error { return errors.New("not called: nothing is due") })
	require.NoError(t, err)
}

// A store whose sweeps have to wait for their hours keeps no other one waiting.
func TestUpkeepOutOfHours(t *testing.T) {
	b := newBench(t)
	later := time.Now().In(b.site.Location()).Add(2 * time.Hour)
	closed := b.site.Stores["quay-shelf"]
	closed.SweepWindow = later.Format("15:04-") + later.Add(time.Hour).Format("15:04")
	b.site.Stores["annex"] = closed
	b.save()
	_, err := b.rec.Pool().Exec(t.Context(), "update stores set swept = now() - interval '25 hours'")
	require.NoError(t, err)
	require.NoError(t, b.rt.upkeepOnce(t.Context(), func(context.Context, site.Site) error { return nil }))
	sweeps, err := b.rec.Runs(t.Context(), records.RunFilter{Kind: string(run.Sweep)})
	require.NoError(t, err)
	require.Len(t, sweeps, 1)
	require.JSONEq(t, `{"store": "quay-shelf"}`, string(sweeps[0].Request))
}

// Of a retired machine's sets, one that the guard holds back keeps no other from its rotation.
func TestRetiredSetsByThemselves(t *testing.T) {
	for _, many := range []image.Scope{image.WholeMachine, image.SomeDisks} {
		b := newBench(t)
		few, n := image.WholeMachine, 0
		if many == few {
			few = image.SomeDisks
		}
		b.images(11, func(m *records.Image) {
			m.Scope = many
			if n++; n > 8 {
				m.Scope = few
			}
		})
		require.NoError(t, b.rec.RetireMachine(t.Context(), "u-timetable", "newest 2"))
		require.NoError(t, b.rt.rotateRetired(t.Context()))
		require.Equal(t, 10, b.there())
		gone, err := b.rec.Image(t.Context(), "image00008")
		require.NoError(t, err)
		require.NotNil(t, gone.Gone)
		m, err := b.rec.Machine(t.Context(), "u-timetable")
		require.NoError(t, err)
		require.Contains(t, m.Notice, "it would drop 6 of 8")
	}
}

// Images are planned set by set: by what they cover, whether by hand, and by machine; what was proven wrong is not proven.
func TestSets(t *testing.T) {
	ctx := t.Context()
	b := newBench(t)
	n := 0
	b.images(6, func(m *records.Image) {
		switch n++; n {
		case 2:
			m.Scope = image.SomeDisks
		case 3:
			m.SeparateSet = true
		case 4:
			m.MachineID = "u-other"
		}
	})
	sets, err := b.rt.Sets(ctx, site.Site{}, "nightly-guests", site.Policy{Store: "quay-shelf"}, nil)
	require.NoError(t, err)
	names := map[string]int{}
	for _, s := range sets {
		names[s.String()] += len(s.Images)
	}
	require.Equal(t, map[string]int{"timetable": 4, "timetable (some disks)": 1, "timetable (by hand)": 1}, names)
	require.Len(t, sets, 4)
	sets, err = b.rt.Sets(ctx, site.Site{}, "nightly-guests", site.Policy{Store: "quay-shelf"}, []string{"u-other"})
	require.NoError(t, err)
	require.Len(t, sets, 1)
	sets, err = b.rt.Sets(ctx, site.Site{}, "nightly-guests", site.Policy{Store: "annex"}, nil)
	require.NoError(t, err)
	require.Empty(t, sets)

	now := time.Now()
	m := records.Image{ID: "a", Proven: image.ByRead, Pinned: true, Stored: 7, State: image.Usable, Base: "b"}
	require.Equal(t, rotation.Image{ID: "a", Proven: image.ByRead, Pinned: true, Bytes: 7, State: image.Usable, Base: "b"}, Planned(m))
	m.Failed = true
	require.Empty(t, Planned(m).Proven)
	of := SetOf(records.Image{Machine: "timetable", Scope: image.SomeDisks, SeparateSet: true}, []records.Image{{ID: "new"}, {ID: "gone", Gone: &now}, {ID: "old"}})
	require.Equal(t, []string{"old", "new"}, []string{of.Images[0].ID, of.Images[1].ID})
	require.Len(t, of.Images, 2)
	require.Equal(t, "timetable (some disks) (by hand)", of.String())
	require.Equal(t, "5 GiB and 9 inodes", FloorWords(site.Store{Floor: "5 GiB", FloorInodes: 9}))
	require.Equal(t, "9 inodes", FloorWords(site.Store{FloorInodes: 9}))
	require.Empty(t, FloorWords(site.Store{}))
	usable := func(n int64) rotation.Image { return rotation.Image{State: image.Usable, Bytes: n} }
	require.EqualValues(t, 10, nextSize([]rotation.Image{usable(100), usable(8), usable(4), {State: image.Broken, Bytes: 99}}))
	require.Zero(t, nextSize(nil))
}

// Sweeps that nobody has begun yet are one, however many ask for it, and the more urgent wish holds.
func TestSweepsDoNotPileUp(t *testing.T) {
	b := newBench(t)
	for _, q := range []SweepRequest{{Store: "quay-shelf"}, {Store: "quay-shelf"}, {Store: "quay-shelf", Now: true}, {Store: "quay-shelf"}} {
		require.NoError(t, b.rt.SweepSoon(t.Context(), q))
	}
	queued, err := b.rec.Runs(t.Context(), records.RunFilter{Kind: string(run.Sweep)})
	require.NoError(t, err)
	require.Len(t, queued, 1)
	require.JSONEq(t, `{"store": "quay-shelf", "now": true}`, string(queued[0].Request))
	_, err = b.rt.Sweep(t.Context(), "operator", "quay-shelf")
	require.ErrorIs(t, err, fault.ErrConflict)
	_, err = b.rec.BeginRun(t.Context(), queued[0].ID, 1)
	require.NoError(t, err)
	again, err := b.rt.Sweep(t.Context(), "operator", "quay-shelf")
	require.NoError(t, err)
	w, err := sweeps{rt: b.rt}.Wait(t.Context(), again)
	require.NoError(t, err)
	require.Equal(t, "store quay-shelf is being swept by run "+queued[0].ID, w.Why)
}
