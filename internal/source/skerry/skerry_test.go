package skerry_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/source"
	_ "keenlodge/internal/source/skerry" // what is tested
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/standin"
	"keenlodge/internal/standin/skerry"
	"keenlodge/internal/standin/standintest"
)

func TestMain(m *testing.M) {
	standintest.Main()
	os.Exit(m.Run())
}

// account is one with an instance berth-archive in skerry-east, of two volumes.
type account struct {
	*standintest.Standin
	t        *testing.T
	instance skerry.Instance
}

const east = "/regions/skerry-east"

func newAccount(t *testing.T, o standin.Options) *account {
	t.Helper()
	a := &account{Standin: standintest.Start(t, skerry.Kind, o), t: t}
	var volumes []skerry.Attached
	for _, device := range []string{"vda", "vdb"} {
		var v skerry.Volume
		a.Must(http.MethodPost, east+"/volumes", skerry.NewVolume{Name: "berth-archive-" + device, Size: 32 << 20, Tags: map[string]string{"tier": "silver"}}, &v)
		volumes = append(volumes, skerry.Attached{Device: device, Volume: v.ID})
	}
	a.Must(http.MethodPost, east+"/instances", skerry.Instance{Name: "berth-archive", Type: "small", Network: "harbour", Tags: map[string]string{"tier": "silver"}, Volumes: volumes}, &a.instance)
	require.NoError(t, a.Task(t.Context(), time.Minute, http.MethodPost, east+"/instances/"+a.instance.ID+"/power", true, nil))
	return a
}

func (a *account) dial(t *testing.T) source.Source {
	h, err := source.Dial(t.Context(), a.Site)
	require.NoError(t, err)
	return h
}

func (a *account) write(t *testing.T, at int64, fill byte) {
	var now skerry.Instance
	a.Must(http.MethodGet, east+"/instances/"+a.instance.ID, nil, &now)
	require.NoError(t, a.Send(t.Context(), http.MethodPut, fmt.Sprintf("/inside/skerry-east/%s?at=%d", now.Volumes[0].Volume, at), 1<<20, bytes.NewReader(bytes.Repeat([]byte{fill}, 1<<20)), nil))
}

// moments are those that there are in the east.
func (a *account) moments() []skerry.Moment {
	var found skerry.Page[skerry.Moment]
	a.Must(http.MethodGet, east+"/moments", nil, &found)
	return found.Items
}

// A cloud account keeps the contract of sources, and that of snapshots in place.
func TestIsASource(t *testing.T) {
	t.Parallel()
	a := newAccount(t, standin.Options{})
	subject := sourcetest.Subject{Guest: "berth-archive", Target: "vda", Dial: a.dial, NewID: image.NewID, Write: a.write, Unfrozen: true}
	sourcetest.Run(t, subject)
	require.Empty(t, a.moments())
	sourcetest.RunInPlace(t, subject, func(t *testing.T, at int64) []byte {
		k, err := a.dial(t).(source.Capturer).Capture(t.Context(), sourcetest.Request("berth-archive", ""))
		require.NoError(t, err)
		p := make([]byte, 1<<20)
		_, err = k.Disks()[0].ReadAt(p, at)
		require.NoError(t, err)
		require.NoError(t, k.Close(t.Context(), false, nil))
		return p
	})
	require.Empty(t, a.moments())
	var volumes skerry.Page[skerry.Volume]
	a.Must(http.MethodGet, east+"/volumes", nil, &volumes)
	require.Len(t, volumes.Items, 2, "the volumes that were replaced are gone")
}

// Instances and volumes are machines, told by their tags; all volumes of an instance are of one moment, which bears our marks; what bears our name, but not
// our mark, is never touched; lists that lack what was just made mislead nobody.
func TestMoments(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	a := newAccount(t, standin.Options{Lag: 2 * time.Second})
	h := a.dial(t)
	var all []source.Machine
	require.Eventually(t, func() (ok bool) {
		var err error
		all, err = h.Machines(ctx)
		require.NoError(t, err)
		return len(all) == 3
	}, 10*time.Second, 100*time.Millisecond)
	require.Equal(t, []string{"berth-archive", "berth-archive-vda", "berth-archive-vdb"}, []string{all[0].Name, all[1].Name, all[2].Name})
	require.Equal(t, map[string]string{"kind": "instance", "region": "skerry-east", "tier": "silver"}, all[0].Tags)
	require.Len(t, all[0].Disks, 2)
	keeps := h.(source.Snapshotter)
	q := sourcetest.Request("berth-archive", "")
	got, err := keeps.Snap(ctx, q, "kept by policy nightly-guests", false)
	require.NoError(t, err)
	var m skerry.Moment
	a.Must(http.MethodGet, "/regions/"+got.Ref[:11]+"/moments/"+got.Ref[12:], nil, &m)
	require.Len(t, m.Snapshots, 2)
	require.Equal(t, []string{q.ID, "nightly-guests"}, []string{m.Tags["keenlodge"], m.Tags["policy"]})

	// Somebody's own, one of which has our name, and one our tag.
	for _, n := range []skerry.NewMoment{{Name: m.Name, Instance: a.instance.ID}, {Name: m.Name, Instance: a.instance.ID, Tags: map[string]string{"keenlodge": q.ID}}} {
		a.Must(http.MethodPost, east+"/moments", n, nil)
	}
	was, err := keeps.Unsnap(ctx, "berth-archive", q.ID, "")
	require.NoError(t, err)
	require.True(t, was, "although no list has it yet")
	require.Eventually(t, func() bool { return len(a.moments()) == 2 }, 10*time.Second, 100*time.Millisecond, "theirs are there")
	found, err := keeps.Snapshots(ctx, "berth-archive")
	require.NoError(t, err)
	require.Equal(t, []string{"", ""}, []string{found[0].ID, found[1].ID}, "none of them is ours")
	was, err = keeps.Unsnap(ctx, "berth-archive", q.ID, "")
	require.NoError(t, err)
	require.False(t, was)

	one, err := keeps.Snap(ctx, sourcetest.Request("berth-archive-vdb", ""), "", false)
	require.NoError(t, err)
	_, err = keeps.GoBack(ctx, "berth-archive-vdb", one.ID, one.Ref, true)
	require.ErrorContains(t, err, "no instance that could go back")
}

// What an account does not do is told, a call whose answer was lost is not done twice, and what it asks to wait for is waited for.
func TestWhatItDoesNotDo(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	a := newAccount(t, standin.Options{})
	h := a.dial(t)
	keeps, captures := h.(source.Snapshotter), h.(source.Capturer)
	a.Fault(standin.Fault{Call: "moment.make", Do: standin.Nothing})
	_, err := keeps.Snap(ctx, sourcetest.Request("berth-archive", ""), "", false)
	require.ErrorContains(t, err, "answers that a moment is made, but: there is no moment")
	a.Must(http.MethodPut, "/limits/skerry-east", map[string]int{"snapshots": 3}, nil)
	k, err := captures.Capture(ctx, sourcetest.Request("berth-archive", ""))
	require.NoError(t, err)
	_, err = keeps.Snap(ctx, sourcetest.Request("berth-archive", ""), "", false)
	require.ErrorContains(t, err, "quota: region skerry-east has 2 snapshots of 3")
	require.NoError(t, k.Close(ctx, false, nil))
	require.Empty(t, a.moments())

	// It dies before it answers: what was made is found by its ID.
	q := sourcetest.Request("berth-archive", "")
	a.Fault(standin.Fault{Call: "moment.make", Do: standin.DieAfter})
	_, err = keeps.Snap(ctx, q, "", false)
	require.ErrorIs(t, err, source.ErrUnreachable)
	require.Eventually(t, func() bool { return !a.Lives() }, 10*time.Second, time.Millisecond)
	a.Again()
	require.Len(t, a.moments(), 1)
	was, err := keeps.Unsnap(ctx, "berth-archive", q.ID, "")
	require.NoError(t, err)
	require.True(t, was)
	require.Empty(t, a.moments())
}

// Calls beyond what an account answers in a second are made again when it asks for that; a session that ends in the middle is begun anew.
func TestThrottling(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	a := newAccount(t, standin.Options{Rate: 6, Session: 2 * time.Second})
	h := a.dial(t)
	keeps := h.(source.Snapshotter)
	_, err := h.Machines(ctx)
	require.NoError(t, err)
	var taken []source.Snapped
	for range 8 {
		got, err := keeps.Snap(ctx, sourcetest.Request("berth-archive", ""), "", false)
		require.NoError(t, err)
		taken = append(taken, got)
	}
	for _, s := range taken {
		was, err := keeps.Unsnap(ctx, "berth-archive", s.ID, s.Ref)
		require.NoError(t, err)
		require.True(t, was)
	}
	calls := map[string]int{}
	a.Must(http.MethodGet, "/calls", nil, &calls)
	require.GreaterOrEqual(t, calls["moment.make"], 8)
}

// An instance is made of what an image has of one: its volumes, its type, its network and its tags; what fails on the way leaves no volume that costs.
func TestMakesInstances(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	a := newAccount(t, standin.Options{})
	a.write(t, 1<<20, 7)
	h := a.dial(t)
	k, err := h.(source.Capturer).Capture(ctx, sourcetest.Request("berth-archive", ""))
	require.NoError(t, err)
	defer k.Close(ctx, false, nil)
	to := h.(source.Restorer)
	n := source.NewGuest{Name: "berth-archive-again", Definition: k.Definition(), Disks: map[string]string{}}
	for _, d := range k.Disks() {
		body := sourcetest.QCOW2(t, d.Disk)
		if n.Disks[d.Target], err = to.CreateDisk(ctx, "", "again-"+d.Target, int64(len(body)), bytes.NewReader(body)); err != nil {
			require.NoError(t, err)
		}
	}
	unused, err := h.(source.UnusedTeller).Unused(ctx)
	require.NoError(t, err)
	require.Len(t, unused, 2, "no instance has them yet")
	require.ElementsMatch(t, []string{"volume again-vda in skerry-east", "volume again-vdb in skerry-east"}, []string{unused[0].Name, unused[1].Name})
	_, err = to.CreateDisk(ctx, "skerry-south", "x", 1, bytes.NewReader(nil))
	require.ErrorContains(t, err, `the account has no region "skerry-south"`)
	_, err = to.CreateDisk(ctx, "", "cut", 1000, bytes.NewReader(make([]byte, 100)))
	require.Error(t, err)
	_, err = to.Define(ctx, n)
	require.NoError(t, err)
	_, err = to.Define(ctx, n)
	require.ErrorIs(t, err, source.ErrExists)
	require.NoError(t, to.Start(ctx, "berth-archive-again"))
	unused, err = h.(source.UnusedTeller).Unused(ctx)
	require.NoError(t, err)
	require.Empty(t, unused)
	all, err := h.Machines(ctx)
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(m source.Machine) bool { return m.Name == "berth-archive-again" })
	require.Equal(t, []any{machine.Running, "silver", 2}, []any{all[i].State, all[i].Tags["tier"], len(all[i].Disks)})
	removed, err := to.RemoveDisk(ctx, "", "again-vda")
	require.NoError(t, err)
	require.False(t, removed, "an instance has it")
	again, err := h.(source.Capturer).Capture(ctx, sourcetest.Request("berth-archive-again", ""))
	require.NoError(t, err)
	p := make([]byte, 1<<20)
	_, err = again.Disks()[0].ReadAt(p, 1<<20)
	require.NoError(t, err)
	require.Equal(t, bytes.Repeat([]byte{7}, 1<<20), p)
	require.NoError(t, again.Close(ctx, false, nil))
}
