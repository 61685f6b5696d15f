package sourcetest

import (
	"bytes"
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
)

// Subject is a source under test, with a guest that runs.
type Subject struct {
	// Dial connects to it; the suite closes the connection.
	Dial func(t *testing.T) source.Source
	// Guest is a guest that runs with an agent in it, whose disk Target changes only by Write.
	Guest, Target string
	// Write writes a MiB of one byte at an offset of the disk, as what runs in the guest would, and returns when it is on the disk.
	Write func(t *testing.T, at int64, fill byte)
	// NewID draws the ID of a capture.
	NewID func() string
	// Unfrozen says that nothing can be frozen: what asks for it is refused.
	Unfrozen bool
}

// Run holds a source to its contract.
func Run(t *testing.T, s Subject) {
	t.Run("lists the guest", s.lists)
	t.Run("a capture is a moment", s.moment)
	t.Run("changes since a capture are all that changed", s.changes)
	t.Run("a capture that is not kept leaves nothing", s.nothing)
	t.Run("what nobody closed is cleared", s.clear)
	t.Run("a guest that is not there", s.missing)
	t.Run("its writes are counted", s.writes)
	t.Run("a hook that fails ends the capture", s.hook)
}

func (s Subject) connect(t *testing.T) (source.Source, source.Capturer) {
	t.Helper()
	h := s.Dial(t)
	t.Cleanup(func() { h.Close() })
	c, err := source.As[source.Capturer](h, "capture machines")
	require.NoError(t, err)
	return h, c
}

func (s Subject) request(since string) source.Request {
	r := Request(s.Guest, since)
	r.ID, r.Disks = s.NewID(), []string{s.Target}
	return r
}

// Request asks for a capture on which others may build, of what was written since another one ("" for all). Nobody watches its freeze.
func Request(machineName, since string) source.Request {
	return source.Request{Machine: machineName, ID: image.NewID(), Quiesce: machine.Preferred, Since: since, Checkpoint: true, Policy: "nightly-guests",
		Starting: func() error { return nil },
		Watch:    func() (source.Watchdog, error) { return nobody{}, nil }}
}

// nobody watches a freeze.
type nobody struct{}

func (nobody) Frozen() {}
func (nobody) Thawed() {}

func (s Subject) lists(t *testing.T) {
	h, _ := s.connect(t)
	found, err := h.Machines(t.Context())
	require.NoError(t, err)
	for _, m := range found {
		if m.Name == s.Guest {
			require.NotEmpty(t, m.UUID)
			require.Equal(t, machine.Running, m.State)
			for _, d := range m.Disks {
				if d.Target == s.Target {
					require.Positive(t, d.Size)
					return
				}
			}
		}
	}
	t.Fatalf("guest %s with disk %s is not among %v", s.Guest, s.Target, found)
}

func read(t *testing.T, d disk.Disk, at int64) []byte {
	t.Helper()
	body := make([]byte, 1<<20)
	n, err := d.ReadAt(body, at)
	require.Equal(t, len(body), n, "%v", err)
	return body
}

func (s Subject) moment(t *testing.T) {
	_, c := s.connect(t)
	s.Write(t, 4<<20, 1)
	k, err := c.Capture(t.Context(), s.request(""))
	require.NoError(t, err)
	require.Len(t, k.Disks(), 1)
	if settler, ok := k.(source.Settler); ok {
		s.settles(t, k, settler)
	} else {
		s.Write(t, 4<<20, 2)
		require.Equal(t, bytes.Repeat([]byte{1}, 1<<20), read(t, k.Disks()[0], 4<<20), "what is written later is not in it")
	}
	require.NoError(t, k.Close(t.Context(), false, nil))
	require.NoError(t, k.Close(t.Context(), false, nil), "a second time does nothing")
}

// settles looks at the moment of a capture that goes on writing: it is when it has settled.
func (s Subject) settles(t *testing.T, k source.Capture, settler source.Settler) {
	require.True(t, k.Disks()[0].Moving)
	require.Equal(t, bytes.Repeat([]byte{1}, 1<<20), read(t, k.Disks()[0], 4<<20))
	s.Write(t, 4<<20, 2)
	var patched disk.Disk = k.Disks()[0]
	for done := false; !done; {
		changed, is, err := settler.Settle(t.Context())
		require.NoError(t, err)
		for _, d := range changed {
			patched = disk.Over(d, patched)
		}
		done = is
	}
	s.Write(t, 4<<20, 4)
	require.Equal(t, bytes.Repeat([]byte{2}, 1<<20), read(t, patched, 4<<20), "what was written while it was read is in it, and what is written later is not")
}

// finish does with a capture what a lodge does before it keeps it: all of it is read, and it settles.
func finish(t *testing.T, k source.Capture) {
	settler, ok := k.(source.Settler)
	if !ok {
		return
	}
	all := func(d disk.Disk) {
		require.NoError(t, disk.Walk(t.Context(), d, func(e disk.Extent) error {
			for at := e.Offset; e.Kind == disk.Data && at < e.End(); at += 1 << 20 {
				if _, err := d.ReadAt(make([]byte, min(1<<20, e.End()-at)), at); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	for _, d := range k.Disks() {
		all(d)
	}
	for {
		changed, done, err := settler.Settle(t.Context())
		require.NoError(t, err)
		for _, d := range changed {
			all(d)
		}
		if done {
			return
		}
	}
}

func (s Subject) changes(t *testing.T) {
	_, c := s.connect(t)
	first := s.request("")
	k, err := c.Capture(t.Context(), first)
	require.NoError(t, err)
	finish(t, k)
	require.NoError(t, k.Close(t.Context(), true, nil))
	s.Write(t, 8<<20, 3)
	second := s.request(first.ID)
	k, err = c.Capture(t.Context(), second)
	require.NoError(t, err)
	d := k.Disks()[0]
	require.Contains(t, k.Checkpoints(), first.ID)
	require.NotNil(t, d.Whole, "it says what changed: %s", d.Why)
	changed := int64(0)
	covered := false
	require.NoError(t, disk.Walk(t.Context(), d.Disk, func(e disk.Extent) error {
		if e.Kind != disk.Unchanged {
			changed += e.Length
			covered = covered || e.Offset <= 8<<20 && e.End() >= 9<<20
		}
		return nil
	}))
	require.True(t, covered, "what was written is told")
	require.Less(t, changed, d.Size(), "and not everything")
	require.Equal(t, bytes.Repeat([]byte{3}, 1<<20), read(t, d.Whole, 8<<20))
	finish(t, k)
	require.NoError(t, k.Close(t.Context(), true, []string{first.ID}))
	left, err := c.Checkpoints(t.Context(), s.Guest)
	require.NoError(t, err)
	require.NotContains(t, left, first.ID)
	require.Contains(t, left, second.ID)
	removed, err := c.DropCheckpoints(t.Context(), s.Guest, []string{second.ID, "nosuchid00"})
	require.NoError(t, err)
	require.Equal(t, []string{second.ID}, removed)

	// One whose checkpoint is lost is read whole, and says why.
	k, err = c.Capture(t.Context(), s.request(second.ID))
	require.NoError(t, err)
	require.Nil(t, k.Disks()[0].Whole)
	require.NotEmpty(t, k.Disks()[0].Why)
	require.NoError(t, k.Close(t.Context(), false, nil))
}

func (s Subject) nothing(t *testing.T) {
	_, c := s.connect(t)
	before, err := c.Checkpoints(t.Context(), s.Guest)
	require.NoError(t, err)
	k, err := c.Capture(t.Context(), s.request(""))
	require.NoError(t, err)
	require.NoError(t, k.Close(t.Context(), false, nil))
	after, err := c.Checkpoints(t.Context(), s.Guest)
	require.NoError(t, err)
	require.Equal(t, before, after)
	k, err = c.Capture(t.Context(), s.request(""))
	require.NoError(t, err, "the next can begin")
	require.NoError(t, k.Close(t.Context(), false, nil))
}

func (s Subject) clear(t *testing.T) {
	_, c := s.connect(t)
	r := s.request("")
	_, err := c.Capture(t.Context(), r) // whose process dies now
	require.NoError(t, err)
	_, again := s.connect(t)
	found, err := again.Clear(t.Context(), s.Guest, r.ID, false)
	require.NoError(t, err)
	require.NotEmpty(t, found)
	found, err = again.Clear(t.Context(), s.Guest, r.ID, false)
	require.NoError(t, err)
	require.Empty(t, found, "nothing is left")
	left, err := again.Checkpoints(t.Context(), s.Guest)
	require.NoError(t, err)
	require.NotContains(t, left, r.ID)
	k, err := again.Capture(t.Context(), s.request(""))
	require.NoError(t, err, "the next can begin")
	require.NoError(t, k.Close(t.Context(), false, nil))
	require.NoError(t, again.Thaw(t.Context(), s.Guest), "one that is not frozen")
}

// writes of the machine's own are counted and timed, by a source that can.
func (s Subject) writes(t *testing.T) {
	h, _ := s.connect(t)
	timer, ok := h.(source.WriteTimer)
	if !ok {
		t.Skip("this source does not tell")
	}
	before, took, err := timer.WriteTimes(t.Context(), s.Guest)
	require.NoError(t, err)
	s.Write(t, 5<<20, 0x5a)
	after, then, err := timer.WriteTimes(t.Context(), s.Guest)
	require.NoError(t, err)
	require.Greater(t, after, before)
	require.Greater(t, then, took)
	_, _, err = timer.WriteTimes(t.Context(), "nobody")
	require.ErrorIs(t, err, source.ErrNoMachine)
}

func (s Subject) missing(t *testing.T) {
	_, c := s.connect(t)
	r := s.request("")
	r.Machine = "no-such-guest"
	_, err := c.Capture(t.Context(), r)
	require.ErrorIs(t, err, source.ErrNoMachine)
	r.Machine, r.UUID = s.Guest, "0123456789abcdef0123456789abcdef"
	_, err = c.Capture(t.Context(), r)
	require.ErrorIs(t, err, source.ErrNoMachine, "another one of that name")
	_, err = c.Checkpoints(t.Context(), "no-such-guest")
	require.ErrorIs(t, err, source.ErrNoMachine)
	_, err = c.Clear(t.Context(), "no-such-guest", r.ID, false)
	require.NoError(t, err, "what is not there has nothing left on it")
}

func (s Subject) hook(t *testing.T) {
	h, c := s.connect(t)
	r := s.request("")
	told := errors.New("the hook says no")
	var moments []site.Moment
	r.Quiesce = machine.Required
	r.Moment = func(_ context.Context, m site.Moment) error {
		moments = append(moments, m)
		if m == site.Frozen {
			return told
		}
		return nil
	}
	k, err := c.Capture(t.Context(), r)
	if s.Unfrozen {
		require.ErrorContains(t, err, "freezes nothing")
		return
	}
	if err == nil { // its file systems stand still later, and on the far side
		require.Implements(t, (*source.Settler)(nil), k)
		require.NoError(t, k.Close(t.Context(), false, nil))
		t.Skip("nobody is told that it stands still")
	}
	require.ErrorIs(t, err, told)
	require.Contains(t, moments, site.Frozen)
	_, err = c.Clear(t.Context(), s.Guest, r.ID, false)
	require.NoError(t, err)
	if inside, err := source.As[source.Insider](h, "ask a machine from inside"); err == nil {
		require.Eventually(t, func() bool { return inside.Ping(t.Context(), s.Guest) == nil }, 20*time.Second, 100*time.Millisecond, "it is thawed")
	}
}
