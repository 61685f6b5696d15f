package islet_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/source"
	_ "keenlodge/internal/source/islet" // what is tested
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/standin"
	standislet "keenlodge/internal/standin/islet"
	"keenlodge/internal/standin/standintest"
)

func TestMain(m *testing.M) {
	standintest.Main()
	os.Exit(m.Run())
}

// rock is a hypervisor with a guest that runs: lighthouse, with a disk vda.
type rock struct {
	*standintest.Standin
	t     *testing.T
	guest string
}

func newRock(t *testing.T) *rock {
	t.Helper()
	r := &rock{standintest.Start(t, standislet.Kind, standin.Options{}), t, ""}
	var g standislet.Guest
	r.Must(http.MethodPost, "/guests", standislet.Guest{Name: "lighthouse", Build: standislet.Build{Memory: 256 << 20, CPUs: 1, Firmware: "bios", Shares: []string{"/srv/charts"}},
		Disks: []standislet.Disk{{Target: "vda", Volume: r.Bring("lighthouse-vda", standintest.EmptyDisk(t, "32M"))}}}, &g)
	r.guest = g.ID
	require.NoError(t, r.Task(t.Context(), time.Minute, http.MethodPost, "/guests/"+g.ID+"/power", "on", nil))
	return r
}

func (r *rock) dial(t *testing.T) source.Source {
	h, err := source.Dial(t.Context(), r.Site)
	require.NoError(t, err)
	return h
}

func (r *rock) write(t *testing.T, at int64, fill byte) {
	require.NoError(t, r.Send(t.Context(), http.MethodPut, fmt.Sprintf("/inside/%s/vda?at=%d", r.guest, at), 1<<20, bytes.NewReader(bytes.Repeat([]byte{fill}, 1<<20)), nil))
}

func (r *rock) capturer() source.Capturer {
	h := r.dial(r.t)
	r.t.Cleanup(func() { h.Close() })
	return h.(source.Capturer)
}

// snapshots are those that the guest has.
func (r *rock) there() (out []standislet.Snapshot) {
	r.Must(http.MethodGet, "/guests/"+r.guest+"/snapshots", nil, &out)
	return out
}

func request(since string) source.Request { return sourcetest.Request("lighthouse", since) }

// A hypervisor with an interface of its own keeps the contract of sources.
func TestIsASource(t *testing.T) {
	r := newRock(t)
	subject := sourcetest.Subject{Guest: "lighthouse", Target: "vda", Dial: r.dial, NewID: image.NewID, Write: r.write}
	sourcetest.Run(t, subject)
	require.Empty(t, r.there())
	sourcetest.RunInPlace(t, subject, func(t *testing.T, at int64) []byte {
		k, err := r.capturer().Capture(t.Context(), request(""))
		require.NoError(t, err)
		p := make([]byte, 1<<20)
		_, err = k.Disks()[0].ReadAt(p, at)
		require.NoError(t, err)
		require.NoError(t, k.Close(t.Context(), false, nil))
		return p
	})
	require.Empty(t, r.there())
}

// Changes that the hypervisor has lost are told as lost, and the disk is whole.
func TestAChangeIdentityThatIsLost(t *testing.T) {
	r := newRock(t)
	c := r.capturer()
	first := request("")
	k, err := c.Capture(t.Context(), first)
	require.NoError(t, err)
	require.NoError(t, k.Close(t.Context(), true, nil))
	for name, lose := range map[string]func(){
		"by its power": func() { r.Kill(); r.Again() },
		"by its word":  func() { r.Must(http.MethodDelete, "/inside/"+r.guest+"/tides", nil, nil) },
	} {
		lose()
		k, err = c.Capture(t.Context(), request(first.ID))
		require.NoError(t, err, name)
		require.Nil(t, k.Disks()[0].Whole, name)
		require.Contains(t, k.Disks()[0].Why, "has lost what changed since image "+first.ID, name)
		require.NoError(t, k.Close(t.Context(), false, nil))
	}
	require.Equal(t, []string{first.ID}, k.Checkpoints())

	// One that ended well has them still.
	k, err = c.Capture(t.Context(), first)
	require.NoError(t, err)
	require.NoError(t, k.Close(t.Context(), true, nil))
	r.Stop()
	r.Again()
	k, err = c.Capture(t.Context(), request(first.ID))
	require.NoError(t, err)
	require.NotNil(t, k.Disks()[0].Whole, k.Disks()[0].Why)
	require.NoError(t, k.Close(t.Context(), false, nil))
}

// A guest that moves to another host while it is read is read on there.
func TestAGuestThatMovesInTheMiddle(t *testing.T) {
	r := newRock(t)
	r.write(t, 0, 7)
	r.write(t, 8<<20, 8)
	c := r.capturer()
	k, err := c.Capture(t.Context(), request(""))
	require.NoError(t, err)
	p := make([]byte, 1<<20)
	_, err = k.Disks()[0].ReadAt(p, 0)
	require.NoError(t, err)
	require.NoError(t, r.Task(t.Context(), time.Minute, http.MethodPost, "/guests/"+r.guest+"/move", "rock-2", nil))
	r.write(t, 8<<20, 9)
	_, err = k.Disks()[0].ReadAt(p, 8<<20)
	require.NoError(t, err)
	require.Equal(t, bytes.Repeat([]byte{8}, 1<<20), p, "of the moment at which the capture began")
	calls := map[string]int{}
	r.Must(http.MethodGet, "/calls", nil, &calls)
	require.Equal(t, 2, calls["snapshot.lend"], "it was asked for again")
	require.NoError(t, k.Close(t.Context(), false, nil))
	require.Empty(t, r.there())
}

// What the hypervisor says is not believed, and what it does not do is told; what it can't do now can be done later.
func TestWhatItDoesNotDo(t *testing.T) {
	for _, f := range []struct {
		standin.Fault
		says string // "" where the capture is made, and in what consistency
		in   image.Consistency
	}{
		{standin.Fault{Call: "snapshot.make", Do: standin.Nothing}, "tells of no snapshot", ""},
		{standin.Fault{Call: "snapshot.make work", Do: standin.Stuck}, "the storage does not let it happen", ""},
		{standin.Fault{Call: "guest.hold", Do: standin.Nothing}, "", image.Crash},
		{standin.Fault{Call: "guest.hold", Do: standin.Slow, Seconds: 12}, "", image.Crash},
		{standin.Fault{Call: "guest.hold", Do: standin.Refused}, "", image.Crash},
		{standin.Fault{Call: "guest.list", Do: standin.Refused}, "", image.FileSystem},
		{standin.Fault{Call: "snapshot.lend", Do: standin.Refused}, "not to be had just now", ""},
	} {
		t.Run(string(f.Do)+" "+f.Call, func(t *testing.T) {
			t.Parallel()
			r := newRock(t)
			c := r.capturer()
			r.Fault(f.Fault)
			k, err := c.Capture(t.Context(), request(""))
			if f.says != "" {
				require.ErrorContains(t, err, f.says)
			} else {
				require.NoError(t, err)
				got, _ := k.Consistency()
				require.Equal(t, f.in, got, k.Warnings())
				require.NoError(t, k.Close(t.Context(), true, nil))
			}
			require.Empty(t, r.there())
			r.write(t, 0, 1) // it is not held
		})
	}
}

// A snapshot that can't be removed is told, and is removed once it can be.
func TestASnapshotThatCanNotBeRemoved(t *testing.T) {
	for says, f := range map[string]standin.Fault{
		"the storage does not let it happen": {Call: "snapshot.remove work", Do: standin.Stuck, Times: 2},
		"and it is there still":              {Call: "snapshot.remove", Do: standin.Nothing, Times: 2},
	} {
		r := newRock(t)
		c := r.capturer()
		q := request("")
		k, err := c.Capture(t.Context(), q)
		require.NoError(t, err)
		r.Fault(f)
		require.ErrorContains(t, k.Close(t.Context(), false, nil), says)
		require.Len(t, r.there(), 1)
		_, err = c.Clear(t.Context(), "lighthouse", q.ID, false)
		require.ErrorContains(t, err, says)
		found, err := c.Clear(t.Context(), "lighthouse", q.ID, false)
		require.NoError(t, err)
		require.NotEmpty(t, found)
		require.Empty(t, r.there())
	}
}

// The hypervisor is killed at each call of a capture, before it does what was asked and after. Whatever comes of that capture, when the hypervisor is back
// nothing of it stays, and the guest writes.
func TestKilledAtEveryCall(t *testing.T) {
	for _, do := range []standin.Doing{standin.DieBefore, standin.DieAfter} {
		t.Run(string(do), func(t *testing.T) {
			t.Parallel()
			r := newRock(t)
			r.write(t, 0, 5)
			died := 0
			for n := 0; ; n++ {
				r.Fault(standin.Fault{Do: do, After: n})
				err := r.captureWhileItLives()
				if err == nil {
					require.Greater(t, died, 8)
					return
				}
				require.Eventually(t, func() bool { return !r.Lives() }, 10*time.Second, time.Millisecond, "%v", err)
				died++
				r.Again()
				for _, s := range r.there() {
					_, err := r.capturer().Clear(t.Context(), "lighthouse", s.Name[len(s.Name)-10:], false)
					require.NoError(t, err, "call %d", n)
				}
				require.Empty(t, r.there())
				r.write(t, 0, 5)
			}
		})
	}
}

// captureWhileItLives makes a capture, and gives up where the hypervisor has ended.
func (r *rock) captureWhileItLives() error {
	ctx, cancel := r.Living()
	defer cancel()
	h, err := source.Dial(ctx, r.Site)
	if err != nil {
		return err
	}
	defer h.Close()
	k, err := h.(source.Capturer).Capture(ctx, request(""))
	if err != nil {
		return err
	}
	return k.Close(ctx, false, nil)
}

// A guest is made of what an image has of one, as one of its own; what of it reaches the host is left out, unless it is asked for by name.
func TestMakesGuests(t *testing.T) {
	r := newRock(t)
	ctx := t.Context()
	h := r.dial(t)
	defer h.Close()
	k, err := h.(source.Capturer).Capture(ctx, request(""))
	require.NoError(t, err)
	require.NoError(t, k.Close(ctx, false, nil))
	to := h.(source.Restorer)
	body := standintest.EmptyDisk(t, "32M")
	place, err := to.CreateDisk(ctx, "", "lantern-vda", int64(len(body)), bytes.NewReader(body))
	require.NoError(t, err)
	_, err = to.CreateDisk(ctx, "", "lantern-vda", int64(len(body)), bytes.NewReader(body))
	require.ErrorIs(t, err, source.ErrExists)
	_, err = to.CreateDisk(ctx, "", "cut-vda", int64(len(body)), bytes.NewReader(body[:100]))
	require.Error(t, err)
	n := source.NewGuest{Name: "lantern", Definition: k.Definition(), Disks: map[string]string{"vda": place}}
	left, err := to.Define(ctx, n)
	require.NoError(t, err)
	require.Equal(t, []string{"shared folder /srv/charts"}, left)
	_, err = to.Define(ctx, n)
	require.ErrorIs(t, err, source.ErrExists)
	require.NoError(t, to.Start(ctx, "lantern"))
	n.Replace = true
	_, err = to.Define(ctx, n)
	require.ErrorIs(t, err, source.ErrBusy)
	removed, err := to.RemoveDisk(ctx, "", "lantern-vda")
	require.NoError(t, err)
	require.False(t, removed, "a machine has it")
	all, err := h.Machines(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"lantern", "lighthouse"}, []string{all[0].Name, all[1].Name})
	require.Equal(t, machine.Running, all[0].State)
	_, err = to.Define(ctx, source.NewGuest{Name: "x", Definition: "<domain/>"})
	require.ErrorContains(t, err, "not one of this kind")
}
