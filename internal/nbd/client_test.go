package nbd

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/raw"
)

// serve offers a file through QEMU's own NBD server and returns its socket.
func serve(t *testing.T, args ...string) string {
	socket := filepath.Join(t.TempDir(), "s")
	cmd := exec.Command("qemu-nbd", append([]string{"--socket", socket, "--persistent", "--shared=8", "--read-only", "--export-name=vda"}, args...)...)
	var told bytes.Buffer
	cmd.Stderr = &told
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	require.Eventually(t, func() bool {
		conn, err := net.Dial("unix", socket)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 10*time.Millisecond, "%s", &told)
	return socket
}

func TestAgainstQEMU(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "disk.raw")
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(5<<30)) // more than one block status can describe
	rng := rand.New(rand.NewPCG(5, 5))
	for _, at := range []int64{0, 64 << 20, 1<<30 - 65536, 3 << 30, 5<<30 - 1<<20} {
		piece := make([]byte, 1<<20)
		for i := range piece {
			piece[i] = byte(rng.Uint32())
		}
		_, err := f.WriteAt(piece, at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	c, err := Dial(ctx, "unix", serve(t, "--format=raw", path), "vda")
	require.NoError(t, err)
	defer c.Close()
	require.EqualValues(t, 5<<30, c.Size())
	sum, err := disk.Allocated(ctx, c)
	require.NoError(t, err)
	require.EqualValues(t, 5<<20, sum)
	d, err := raw.Open(path)
	require.NoError(t, err)
	defer d.Close()
	at, err := disk.FirstDifference(ctx, c, d)
	require.NoError(t, err)
	require.EqualValues(t, -1, at)

	var all sync.WaitGroup
	for i := range 32 {
		all.Go(func() {
			one, two := make([]byte, 300_000), make([]byte, 300_000)
			off := int64(i) * 33_333
			_, err := c.ReadAt(one, off)
			require.NoError(t, err)
			_, err = d.ReadAt(two, off)
			require.NoError(t, err)
			require.True(t, bytes.Equal(one, two))
		})
	}
	all.Wait()
	n, err := c.ReadAt(make([]byte, 100), 5<<30-40)
	require.Equal(t, 40, n)
	require.Equal(t, io.EOF, err)
}

func TestAnExportThatIsNotThere(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk.raw")
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	_, err := Dial(context.Background(), "unix", serve(t, "--format=raw", path), "vdz")
	require.ErrorContains(t, err, `NBD export "vdz"`)
	require.ErrorContains(t, err, "the server refused")
}

// A cut line and a cancelled context end what waits; nothing hangs.
func TestPendingRequestsEnd(t *testing.T) {
	for _, how := range []string{"cut", "cancel"} {
		t.Run(how, func(t *testing.T) {
			here, there := net.Pipe()
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			c := &Client{conn: here, size: 1 << 20, pending: map[uint64]*request{}}
			c.stop = context.AfterFunc(ctx, func() { c.fail(context.Cause(ctx)) })
			go c.receive()
			asked := make(chan error)
			go func() { _, err := c.ReadAt(make([]byte, 512), 0); asked <- err }()
			_, err := io.ReadFull(there, make([]byte, 28))
			require.NoError(t, err)
			if how == "cut" {
				there.Close()
			} else {
				cancel()
			}
			require.Error(t, <-asked)
		})
	}
}

// A hostile server can't make the client write outside of a buffer, hang or take all memory.
func FuzzReply(f *testing.F) {
	f.Add([]byte("\x66\x8e\x33\xef\x00\x01\x00\x01\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x0a\x00\x00\x00\x00\x00\x00\x00\x00ab"))
	f.Add([]byte("\x66\x8e\x33\xef\x00\x01\x00\x05\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x0c\x00\x00\x00\x00\x00\x00\x02\x00\x00\x00\x00\x03"))
	f.Add([]byte("\x67\x44\x66\x98\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x01"))
	f.Fuzz(func(t *testing.T, wire []byte) {
		here, there := net.Pipe()
		go func() { there.Write(wire); there.Close() }()
		c := &Client{conn: here, size: 1 << 20, hasContext: true, pending: map[uint64]*request{}}
		r := &request{off: 0, want: 512, into: make([]byte, 512), done: make(chan struct{})}
		c.pending[1] = r
		c.receive()
		<-r.done
		require.LessOrEqual(t, r.got, r.want)
	})
}
