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
	c, err := Dial(ctx, "unix", serve(t, "--format=raw", path), "vda", "")
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

// A bitmap tells what was written since it was made; whatever it says, the whole can be read as well.
func TestABitmapAgainstQEMU(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "disk.qcow2")
	run := func(name string, args ...string) {
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	run("qemu-img", "create", "-q", "-f", "qcow2", path, "3G")
	run("qemu-io", "-f", "qcow2", "-c", "write -q -P 1 0 4M", "-c", "write -q -P 1 2G 4M", path)
	run("qemu-img", "bitmap", "--add", "-g", "64k", path, "b0")
	run("qemu-io", "-f", "qcow2", "-c", "write -q -P 2 1M 64k", "-c", "write -q -z -u 2G 1M", path)
	c, err := Dial(ctx, "unix", serve(t, "--format=qcow2", "--bitmap=b0", path), "vda", "b0")
	require.NoError(t, err)
	defer c.Close()
	var told []disk.Extent
	require.NoError(t, disk.Walk(ctx, c, func(e disk.Extent) error { told = append(told, e); return nil }))
	require.Equal(t, []disk.Extent{{Offset: 0, Length: 1 << 20, Kind: disk.Unchanged}, {Offset: 1 << 20, Length: 65536, Kind: disk.Data},
		{Offset: 1<<20 + 65536, Length: 2<<30 - 1<<20 - 65536, Kind: disk.Unchanged}, {Offset: 2 << 30, Length: 1 << 20, Kind: disk.Zero},
		{Offset: 2<<30 + 1<<20, Length: 1<<30 - 1<<20, Kind: disk.Unchanged}}, told)
	sum, err := disk.Allocated(ctx, c.Whole())
	require.NoError(t, err)
	require.EqualValues(t, 7<<20, sum)
	_, err = Dial(ctx, "unix", serve(t, "--format=qcow2", path), "vda", "b0")
	require.ErrorIs(t, err, ErrNoBitmap)
}

func TestAnExportThatIsNotThere(t *testing.T) {
	path := filepath.Join(t.TempDir(), "disk.raw")
	require.NoError(t, os.WriteFile(path, make([]byte, 1<<20), 0o600))
	_, err := Dial(context.Background(), "unix", serve(t, "--format=raw", path), "vdz", "")
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
		c := &Client{conn: here, size: 1 << 20, contexts: map[uint32]string{0: allocation, 2: dirtyBitmap + "b"}, pending: map[uint64]*request{}}
		r := &request{off: 0, want: 512, into: make([]byte, 512), extents: map[string][]disk.Extent{}, done: make(chan struct{})}
		c.pending[1] = r
		c.receive()
		<-r.done
		require.LessOrEqual(t, r.got, r.want)
	})
}
