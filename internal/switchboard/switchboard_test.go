package switchboard

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
	"keenlodge/internal/records"
	"keenlodge/internal/records/recordstest"
	"keenlodge/internal/source"
	"keenlodge/internal/vault"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// switchboard is a board of a process that lives, and servers that joined.
type switchboard struct {
	*Board
	t   *testing.T
	rec *records.Records
}

func newSwitchboard(t *testing.T, warned []string, names ...string) switchboard {
	rec := recordstest.Open(t)
	owner, err := rec.Own(t.Context(), 7)
	require.NoError(t, err)
	t.Cleanup(owner.Release)
	for _, name := range names {
		require.NoError(t, rec.AdmitAgent(t.Context(), name, "servers", "first", "word", time.Hour))
		require.NoError(t, rec.JoinAgent(t.Context(), name, "word", "key of "+name, "192.0.2.7", time.Hour))
	}
	v, err := vault.Open(rec, filepath.Join(t.TempDir(), "lodge-key"))
	require.NoError(t, err)
	b := New(rec, v, recordstest.Quiet(t, warned...), 7)
	b.Patience = 50 * time.Millisecond
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- b.Serve(ctx) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-done) })
	return switchboard{b, t, rec}
}

// call has a server call, and say of itself what it likes.
func (s switchboard) call(name string, about line.About) (ended chan error) {
	near, far := net.Pipe()
	a, err := s.rec.AgentOf(s.t.Context(), "key of "+name, 0)
	require.NoError(s.t, err)
	ended = make(chan error, 2)
	go func() { ended <- s.Take(context.Background(), a, near) }()
	_, err = line.Offer(far, line.Oldest, line.Newest)
	require.NoError(s.t, err)
	go line.Serve(context.Background(), far, func(_ context.Context, call string, _ json.RawMessage) (any, func(net.Conn) error, error) {
		if call != line.CallAbout {
			return nil, nil, errors.New("odd")
		}
		return about, nil, nil
	}, func(string, error) {})
	return ended
}

func (s switchboard) await(name string, want bool) {
	require.Eventually(s.t, func() bool {
		servers, err := s.Servers(s.t.Context(), "servers")
		require.NoError(s.t, err)
		for _, v := range servers {
			if v.Name == name {
				return v.Connected == want
			}
		}
		return !want
	}, 5*time.Second, 10*time.Millisecond)
}

// An agent that calls again takes the place of its older line; one that is dismissed loses its line, and its source hears of all that.
func TestBoard(t *testing.T) {
	s := newSwitchboard(t, []string{"a server's clock is wrong"}, "gate-07", "gate-08")
	var told atomic.Int64
	s.Changed = func(_ context.Context, source string) error {
		require.Equal(t, "servers", source)
		told.Add(1)
		return nil
	}
	ctx := t.Context()
	_, err := s.Line(ctx, "gate-07")
	require.ErrorIs(t, err, source.ErrUnreachable)
	require.ErrorContains(t, err, "its agent does not call")
	_, err = s.Line(ctx, "gate-70")
	require.ErrorIs(t, err, source.ErrNoMachine)
	first := s.call("gate-07", line.About{Now: time.Now()})
	s.await("gate-07", true)
	older, err := s.Line(ctx, "gate-07")
	require.NoError(t, err)
	second := s.call("gate-07", line.About{Now: time.Now().AddDate(1, 0, 0)}) // a wrong clock is told, and does no harm
	require.NoError(t, <-first)
	newer, err := s.Line(ctx, "gate-07")
	require.NoError(t, err)
	require.NotSame(t, older, newer)
	s.await("gate-08", false)

	other := New(s.rec, s.vault, recordstest.Quiet(t), 8)
	other.Patience = 50 * time.Millisecond
	_, err = other.Line(ctx, "gate-07")
	require.ErrorContains(t, err, "the one at pipe that has its agent's line did not pass it on")
	require.NoError(t, s.rec.RevokeAgent(ctx, "gate-07"))
	begun := time.Now()
	require.NoError(t, <-second)
	require.Less(t, time.Since(begun), 2*time.Second)
	s.await("gate-07", false)
	_, err = s.Line(ctx, "gate-07")
	require.ErrorIs(t, err, source.ErrNoMachine)
	require.Eventually(t, func() bool { return told.Load() >= 2 }, 5*time.Second, 10*time.Millisecond)
	_, err = s.rec.AgentOf(ctx, "key of gate-07", 0)
	require.ErrorIs(t, err, fault.ErrNotFound)
}

// What a server says of itself is kept as far as it can be shown.
func TestWhatAServerSays(t *testing.T) {
	s := newSwitchboard(t, nil, "gate-07")
	about := line.About{Host: "gate\x1b[2J", System: strings.Repeat("x", 9000), Now: time.Now(), Disks: []line.Disk{{Target: "../sda", Size: 1}, {Target: "sda", Size: 1 << 30}, {Target: "sdb", Size: -1},
		{Target: "sdc", Size: image.MaxDisk + 1}, {Target: "sdd", Size: 9, Left: strings.Repeat("y", 500)}}}
	s.call("gate-07", about)
	s.await("gate-07", true)
	servers, err := s.Servers(t.Context(), "servers")
	require.NoError(t, err)
	got := servers[0].About
	require.NotContains(t, got.Host, "\x1b")
	require.LessOrEqual(t, len(got.System), 210)
	require.Len(t, got.Disks, 2)
	require.Equal(t, []string{"sda", "sdd"}, []string{got.Disks[0].Target, got.Disks[1].Target})
	require.LessOrEqual(t, len(got.Disks[1].Left), 210)
	near, far := net.Pipe()
	ended := make(chan error, 1)
	go func() { ended <- s.Take(t.Context(), records.Agent{Name: "gate-07", Source: "servers"}, near) }()
	_, err = far.Write([]byte{9, 9})
	require.NoError(t, err)
	_, _ = far.Read(make([]byte, 1))
	require.ErrorContains(t, <-ended, "versions 9 to 9")
}
