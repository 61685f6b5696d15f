package sourcetest

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/source"
)

// snap is a snapshot in place of a fake's guest.
type snap struct {
	source.Snapshot
	disks map[string]disk.Memory
}

// Snap implements [source.Snapshotter].
func (c *Conn) Snap(ctx context.Context, r source.Request, note string, memory bool) (out source.Snapped, err error) {
	if err := c.h.fault("snap", r.Machine); err != nil {
		return out, err
	}
	take := func() error {
		c.h.mu.Lock()
		defer c.h.mu.Unlock()
		g, err := c.h.guest(r.Machine)
		if err != nil {
			return err
		}
		s := snap{Snapshot: source.Snapshot{Machine: r.Machine, ID: r.ID, Ref: fmt.Sprint("ref-", r.ID), Name: source.SnapshotMark + r.ID, Note: note, Taken: time.Now(), Memory: memory && g.State == machine.Running}, disks: map[string]disk.Memory{}}
		for target, d := range g.Disks {
			s.disks[target] = bytes.Clone(d)
		}
		g.snaps = append(g.snaps, s)
		out.Snapshot = s.Snapshot
		return nil
	}
	c.h.mu.Lock()
	g, err := c.h.guest(r.Machine)
	off := err == nil && g.State == machine.Off
	c.h.mu.Unlock()
	switch {
	case err != nil:
		return out, err
	case off:
		out.Consistency = image.Off
		return out, take()
	}
	r.Watch = func() (source.Watchdog, error) { return nobody{}, nil }
	out.Stood, err = source.WhileFrozen(ctx, r, freezes{c, r.Machine}, take)
	return out, err
}

// Snapshots implements [source.Snapshotter].
func (c *Conn) Snapshots(_ context.Context, name string) ([]source.Snapshot, error) {
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	names := []string{name}
	if name == "" {
		names = slices.Sorted(maps.Keys(c.h.guests))
	}
	out := []source.Snapshot{}
	for _, name := range names {
		g, err := c.h.guest(name)
		if err != nil {
			return nil, err
		}
		for _, s := range g.snaps {
			for target, was := range s.disks {
				for at := range was {
					if was[at] != g.Disks[target][at] {
						s.Bytes++
					}
				}
			}
			out = append(out, s.Snapshot)
		}
	}
	return out, nil
}

// Unsnap implements [source.Snapshotter].
func (c *Conn) Unsnap(_ context.Context, name, id, ref string) (was bool, err error) {
	if err := c.h.fault("unsnap", name); err != nil {
		return false, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, ok := c.h.guests[name]
	if !ok {
		return false, nil
	}
	n := len(g.snaps)
	g.snaps = slices.DeleteFunc(g.snaps, func(s snap) bool { return s.ID == id && (ref == "" || s.Ref == ref) })
	return len(g.snaps) < n, nil
}

// GoBack implements [source.Snapshotter].
func (c *Conn) GoBack(_ context.Context, name, id, ref string, off bool) ([]string, error) {
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, err := c.h.guest(name)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(g.snaps, func(s snap) bool { return s.ID == id && s.Ref == ref })
	switch {
	case i < 0:
		return nil, fmt.Errorf("guest %s has no snapshot %s any more", name, id)
	case g.State != machine.Off && !off:
		return nil, fmt.Errorf("guest %s: %w: it runs, and would have to be powered off", name, source.ErrBusy)
	}
	for target, d := range g.snaps[i].disks {
		g.Disks[target] = bytes.Clone(d)
	}
	g.snaps = g.snaps[:i+1]
	g.drop(slices.Clone(g.Checkpoints))
	return []string{"what later backups would have built on is removed, so the next one is full"}, nil
}

// freezes freezes a fake's guest.
type freezes struct {
	c    *Conn
	name string
}

func (f freezes) Guard(context.Context) (func(), error) { return func() {}, nil }

func (f freezes) Freeze(context.Context) error {
	f.c.h.Change(f.name, func(g *Guest) { g.Frozen = true })
	return nil
}

func (f freezes) Thaw(context.Context) (n int, err error) {
	f.c.h.Change(f.name, func(g *Guest) {
		if g.Frozen {
			n, g.Frozen = 1, false
		}
	})
	return n, nil
}

// RunInPlace holds a source to its contract of snapshots in place. Read reads a MiB of the disk Target, as it is now, of a guest that is stopped for it
// where that has to be.
func RunInPlace(t *testing.T, s Subject, read func(t *testing.T, at int64) []byte) {
	h, c := s.connect(t)
	keeps, err := source.As[source.Snapshotter](h, "keep snapshots in place")
	require.NoError(t, err)
	filled := func(fill byte) []byte { return bytes.Repeat([]byte{fill}, 1<<20) }
	of := func() (ours []source.Snapshot) {
		all, err := keeps.Snapshots(t.Context(), s.Guest)
		require.NoError(t, err)
		return slices.DeleteFunc(all, func(x source.Snapshot) bool { return x.ID == "" })
	}
	take := func(note string) source.Snapped {
		got, err := keeps.Snap(t.Context(), s.request(""), note, false)
		require.NoError(t, err)
		require.NotEmpty(t, got.Consistency)
		require.WithinDuration(t, time.Now(), got.Taken, time.Minute)
		return got
	}
	s.Write(t, 0, 1)
	first := take("before the upgrade")
	s.Write(t, 0, 2)
	second := take("")
	s.Write(t, 0, 3)
	there := of()
	require.Len(t, there, 2)
	require.Equal(t, []string{first.ID, first.Ref, second.ID}, []string{there[0].ID, there[0].Ref, there[1].ID})
	all, err := keeps.Snapshots(t.Context(), "")
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(all, func(x source.Snapshot) bool { return x.ID == first.ID && x.Machine == s.Guest }), "of all machines")
	was, err := keeps.Unsnap(t.Context(), s.Guest, first.ID, "another one's")
	require.NoError(t, err)
	require.False(t, was, "one of that name that is not ours")
	require.Len(t, of(), 2)

	base := s.request("") // on which a later backup would build
	k, err := c.Capture(t.Context(), base)
	require.NoError(t, err)
	finish(t, k)
	require.NoError(t, k.Close(t.Context(), true, nil))
	_, err = keeps.GoBack(t.Context(), s.Guest, first.ID, first.Ref, false)
	require.ErrorIs(t, err, source.ErrBusy, "it runs")
	require.Equal(t, filled(3), read(t, 0))
	_, err = keeps.GoBack(t.Context(), s.Guest, first.ID, first.Ref, true)
	require.NoError(t, err)
	require.Equal(t, filled(1), read(t, 0))
	require.Equal(t, first.ID, of()[0].ID, "it is there still")
	k, err = c.Capture(t.Context(), s.request(base.ID))
	require.NoError(t, err)
	require.Nil(t, k.Disks()[0].Whole, "nobody knows what changed since")
	require.NoError(t, k.Close(t.Context(), false, []string{base.ID}))
	_, err = keeps.GoBack(t.Context(), s.Guest, "nosuchid00", "", true)
	require.Error(t, err)
	for _, x := range of() {
		was, err := keeps.Unsnap(t.Context(), s.Guest, x.ID, x.Ref)
		require.NoError(t, err)
		require.True(t, was)
	}
	was, err = keeps.Unsnap(t.Context(), s.Guest, first.ID, first.Ref)
	require.NoError(t, err)
	require.False(t, was, "a second time there is nothing")
	require.Empty(t, of())
	require.Equal(t, filled(1), read(t, 0))
	_, err = keeps.Snapshots(t.Context(), "no-such-guest")
	require.ErrorIs(t, err, source.ErrNoMachine)
}

// QCOW2 is a disk as a qcow2 file.
func QCOW2(t *testing.T, d disk.Disk) []byte {
	t.Helper()
	f, err := qcow2.New(t.Context(), d, "")
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = f.WriteTo(&out)
	require.NoError(t, err)
	return out.Bytes()
}
