package lodge_test

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/drill"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/drills"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store/medium"
)

// drill carries one out, and what it showed.
func (b *bench) drill(o drills.Order) (records.Run, drill.Result) {
	b.t.Helper()
	r, err := b.l.Drills.Start(b.t.Context(), "operator", o)
	require.NoError(b.t, err)
	r = b.await(r.ID)
	d, err := b.l.Drills.Find(b.t.Context(), r.ID)
	require.NoError(b.t, err)
	b.noTrial()
	return r, d
}

func (b *bench) page(run string) string {
	b.t.Helper()
	var out bytes.Buffer
	require.NoError(b.t, b.l.Drills.WritePage(b.t.Context(), run, &out))
	return out.String()
}

// A drill measures how long each machine was away and how old its data is, against what is owed, and keeps that with its pictures when its images are gone.
func TestADrill(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	b := owing(t, "1 hour, back in 1 second, drill yearly")
	b.apply()
	b.run("nightly-guests")
	require.Equal(t, promise.Overdue, b.stands("u-tickets")["back"].Standing)
	require.Equal(t, promise.Kept, b.stands("u-tickets")["drill"].Standing)
	b.host.OnTrial = func(t *sourcetest.Trial) {
		comesUp(t)
		if strings.Contains(t.Definition, "timetable") {
			t.Standing = source.Crashed
		}
	}
	r, d := b.drill(drills.Order{Names: []string{"tickets-db", "timetable"}, Way: drill.AtOnce, Note: "for the auditors <of the port>"})
	require.Equal(t, run.Failed, r.State, b.lines(r.ID))
	require.NotNil(t, d.Ended)
	db, web := d.Machines[0], d.Machines[1]
	require.Equal(t, drill.Missing, web.Standing)
	require.Contains(t, web.Why, "crashed")
	require.Contains(t, []drill.Standing{drill.Back, drill.Late}, db.Standing)
	require.Positive(t, db.Answered)
	require.GreaterOrEqual(t, db.Held, db.Answered)
	require.Greater(t, db.Answered, db.Begun)
	require.InDelta(t, d.Began.Sub(*db.Taken), db.Age, float64(time.Second))
	require.NotEmpty(t, db.Pictures)
	require.Equal(t, promise.Failed, b.stands("u-timetable")["back"].Standing)
	require.Equal(t, drill.Missing, d.Sum().Standing)

	// The store goes with the images, and it stays.
	var names []string
	require.NoError(t, b.shelf().List(ctx, "", func(o medium.Object) error { names = append(names, o.Name); return nil }))
	for _, name := range names {
		require.NoError(t, b.shelf().Delete(ctx, name))
	}
	page := b.page(r.ID)
	require.Contains(t, page, "data:image/png;base64,")
	require.Contains(t, page, "for the auditors &lt;of the port&gt;")
	require.Contains(t, page, "1 not back")
	listed, _, err := b.l.Drills.List(ctx, listing.Page{Limit: 5})
	require.NoError(t, err)
	of, sum := d.Of(), d.Sum()
	d.Machines = []drill.Comeback{}
	require.Equal(t, []drill.Listed{{Result: d, Of: of, Sum: sum}}, listed)
}

// Written out whole first, machines start from what lies in the scratch folder, of which nothing stays.
func TestADrillThatWritesOut(t *testing.T) {
	t.Parallel()
	b := trialBench(t)
	b.host.OnTrial = comesUp
	r, d := b.drill(drills.Order{Names: []string{"tickets-db", "timetable"}, Together: true, Way: drill.Restored})
	require.Equal(t, run.Done, r.State, b.lines(r.ID))
	for _, m := range d.Machines {
		require.Equal(t, drill.Back, m.Standing, m.Why)
		require.Equal(t, 1, m.Party)
		require.Positive(t, m.WrittenOut)
		require.Greater(t, m.Begun, m.WrittenOut)
	}
	left, err := os.ReadDir(string(b.l.Proofs.Scratch))
	require.NoError(t, err)
	require.Empty(t, left)
}

// Ended in the middle, a drill ends its trials, and what it had seen stays.
func TestADrillThatIsEnded(t *testing.T) {
	t.Parallel()
	b := trialBench(t)
	var going atomic.Bool
	b.host.OnTrial = func(t *sourcetest.Trial) {
		if comesUp(t); strings.Contains(t.Definition, "timetable") {
			t.Agent, t.Serial = false, ""
			going.Store(true)
		}
	}
	b.apply()
	r, err := b.l.Drills.Start(t.Context(), "operator", drills.Order{Names: []string{"tickets-db", "timetable"}})
	require.NoError(t, err)
	b.until(func() bool {
		d, err := b.l.Drills.Find(t.Context(), r.ID)
		return err == nil && going.Load() && d.Machines[0].Standing == drill.Back
	}, "one back and the other on its way")
	_, err = b.l.Runs.Cancel(t.Context(), r.ID, "operator", "it is late")
	require.NoError(t, err)
	require.Equal(t, run.Cancelled, b.await(r.ID).State)
	b.until(func() bool { return len(b.host.Trials()) == 0 }, "the end of its trials")
	d, err := b.l.Drills.Find(t.Context(), r.ID)
	require.NoError(t, err)
	require.Nil(t, d.Ended)
	require.Equal(t, []drill.Standing{drill.Back, drill.Pending}, []drill.Standing{d.Machines[0].Standing, d.Machines[1].Standing})
	require.Contains(t, b.page(r.ID), "ended in the middle")
}

// What can't be asked for is refused before anything begins.
func TestDrillsThatCanNotBe(t *testing.T) {
	t.Parallel()
	b := trialBench(t)
	for want, o := range map[string]drills.Order{
		"name some of them":                 {},
		"or of what is named":               {Whole: true, Names: []string{"timetable"}},
		"is named twice":                    {Names: []string{"timetable", "timetable"}},
		"is a group already":                {Names: []string{"ticketing"}, Together: true},
		`no machine is called "timetables"`: {Names: []string{"timetables"}},
	} {
		_, err := b.l.Drills.Start(t.Context(), "operator", o)
		require.ErrorContains(t, err, want)
	}
	b.site.Hypervisors["quay-1"] = site.Hypervisor{Kind: sourcetest.Kind, URI: t.Name()}
	b.apply()
	_, err := b.l.Drills.Start(t.Context(), "operator", drills.Order{Whole: true})
	require.ErrorContains(t, err, "no hypervisor of the site may hold trials")
}

// A lodge that has lost everything, and has only the store and a host, brings the whole site back.
func TestADrillFromNothing(t *testing.T) {
	t.Parallel()
	b := trialBench(t)
	b.stop()
	b.host.Remove("timetable")
	b.rec = recordstest.Open(t)
	b.start()
	b.site.Policies, b.site.Groups = nil, map[string]site.Group{"pier": {Machines: []string{"crew-rota"}}}
	b.apply()
	_, err := b.l.Stores.Adopt(t.Context(), "quay-shelf", false)
	require.NoError(t, err)
	b.host.OnTrial = func(t *sourcetest.Trial) { comesUp(t); t.Agent = true }
	r, d := b.drill(drills.Order{Whole: true})
	require.Equal(t, run.Warned, r.State, b.lines(r.ID))
	got := map[string]drill.Standing{}
	for _, m := range d.Machines {
		got[m.Machine] = m.Standing
	}
	require.Equal(t, map[string]drill.Standing{"crew-rota": drill.Impossible, "tickets-db": drill.Back, "timetable": drill.Back}, got)
	body, err := json.Marshal(d)
	require.NoError(t, err)
	var again drill.Result
	require.NoError(t, json.Unmarshal(body, &again))
	require.Equal(t, d.Sum(), again.Sum())
}
