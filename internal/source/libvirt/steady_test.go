package libvirt

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/reach"
	"keenlodge/internal/source/libvirt/daemon"
	"keenlodge/internal/source/libvirt/inside"
	"keenlodge/internal/store/medium/mediumtest"
)

// through is a way to a server of disks that goes through a line.
type through struct {
	daemon.Way
	line *mediumtest.Line
}

func (w through) Export(ctx context.Context, _ *libvirtxml.DomainBackupPullServer, _ int) (net.Conn, *tls.Config, error) {
	conn, err := new(net.Dialer).DialContext(ctx, "tcp", w.line.Address())
	if err != nil {
		err = fmt.Errorf("%w: %w", reach.ErrUnreachable, err)
	}
	return conn, nil, err
}

// The daemon is as far away as the disks.
func (w through) Daemon(context.Context) (net.Conn, error) { return nil, reach.ErrUnreachable }
func (w through) Streams() int                             { return 4 }
func (w through) Place() string                            { return "pier-2" }

// A disk that is read while its line is cut again and again is read as it is; a line that stays away is given up.
func TestALineThatIsCutWhileADiskIsRead(t *testing.T) {
	folder := t.TempDir()
	body := make([]byte, 24<<20)
	rand.Read(body)
	file, socket := filepath.Join(folder, "vda.raw"), filepath.Join(folder, "s")
	require.NoError(t, os.WriteFile(file, body, 0o600))
	cmd := exec.CommandContext(t.Context(), "qemu-nbd", "-r", "-t", "-e", "9", "-f", "raw", "-x", "vda", "-k", socket, file)
	require.NoError(t, cmd.Start())
	defer cmd.Wait()
	defer cmd.Process.Kill()
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 10*time.Second, 20*time.Millisecond)

	line := mediumtest.NewLine(t, socket)
	var told atomic.Int64
	h := &Host{Agent: inside.Of(daemon.At(through{line: line}))}
	c := &capture{h: h, tell: func(string, ...any) { told.Add(1) }, patience: time.Minute}
	opened, err := c.connect(t.Context(), "vda", "", 0)
	require.NoError(t, err)
	defer opened.Close()
	s, err := c.widen(t.Context(), opened, "vda", "", time.Second) // as if it were far
	require.NoError(t, err)
	require.Len(t, c.open, 3, "and the first")
	defer func() {
		for _, more := range c.open {
			more.Close()
		}
	}()
	var group errgroup.Group
	for n := range 4 {
		group.Go(func() error {
			got := make([]byte, 640<<10)
			for at := n * len(got); at+len(got) <= len(body); at += 4 * len(got) {
				if at/len(got)%9 == n {
					line.CutAfter(100_000)
				}
				if _, err := s.ReadAt(got, int64(at)); err != nil {
					return err
				}
				if string(got) != string(body[at:at+len(got)]) {
					return fmt.Errorf("other bytes at %d", at)
				}
			}
			return nil
		})
	}
	require.NoError(t, group.Wait())
	require.Positive(t, line.Cuts())
	end := make([]byte, 1<<20)
	n, err := s.ReadAt(end, int64(len(body))-300_000)
	require.Equal(t, []any{300_000, io.EOF}, []any{n, err})
	require.Equal(t, string(body[len(body)-300_000:]), string(end[:n]))
	size := int64(0)
	require.NoError(t, disk.Walk(t.Context(), s, func(e disk.Extent) error { size += e.Length; return nil }))
	require.EqualValues(t, len(body), size)

	for _, each := range append(c.open, opened) {
		each.Patience = 0
	}
	line.Down(true)
	_, err = s.ReadAt(make([]byte, 10), 0)
	require.ErrorContains(t, err, "tried for 0s to reach it again")
	require.Positive(t, told.Load())

	// One that is closed meanwhile waits no longer.
	line.Down(false)
	c.patience = time.Hour
	opened, err = c.connect(t.Context(), "vda", "", 0)
	require.NoError(t, err)
	line.Down(true)
	failed := make(chan error)
	go func() { _, err := opened.ReadAt(make([]byte, 10), 0); failed <- err }()
	time.AfterFunc(50*time.Millisecond, func() { opened.Close() })
	require.True(t, errors.Is(<-failed, context.Canceled))
}
