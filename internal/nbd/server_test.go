package nbd

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	mrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// striped is a disk whose even MiB are data and whose odd ones are holes; of the data every second MiB is said to be unchanged.
type striped struct {
	disk.Memory
	since bool
	bad   int64 // a byte that can't be read, or 0
}

func (s striped) Extents(_ context.Context, offset, length int64) (out []disk.Extent, _ error) {
	for at := offset; at < offset+length; {
		n := min((at>>20+1)<<20, offset+length) - at
		e := disk.Extent{Offset: at, Length: n, Kind: disk.Data}
		switch {
		case s.since && at>>20%4 != 0:
			e.Kind = disk.Unchanged
		case at>>20%2 == 1:
			e.Kind = disk.Zero
		}
		out = append(out, e)
		at += n
	}
	return out, nil
}

func (s striped) ReadAt(p []byte, off int64) (int, error) {
	if s.bad > 0 && off <= s.bad && s.bad < off+int64(len(p)) {
		return 0, errors.New("bad sector")
	}
	return s.Memory.ReadAt(p, off)
}

func newStriped() striped {
	d := make(disk.Memory, 9<<20+512)
	rng := mrand.New(mrand.NewPCG(1, 2))
	for i := range d {
		if i>>20%2 == 0 {
			d[i] = byte(rng.Uint32())
		}
	}
	return striped{Memory: d}
}

// offer serves a disk on a Unix socket.
func offer(t *testing.T, e Export) string {
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer conn.Close(); Serve(context.Background(), conn, e) }()
		}
	}()
	return path
}

// What is served is what our own client and QEMU's read, with its holes and its bitmap; nothing can be written.
func TestServe(t *testing.T) {
	d := newStriped()
	changed := d
	changed.since = true
	path := offer(t, Export{Name: "sda", Disk: d, Bitmap: "since", Changed: changed})
	c, err := Dial(t.Context(), "unix", path, "sda", "since")
	require.NoError(t, err)
	defer c.Close()
	require.Equal(t, d.Size(), c.Size())
	got := make([]byte, d.Size())
	n, err := c.ReadAt(got, 0)
	require.NoError(t, err)
	require.Equal(t, len(got), n)
	require.True(t, bytes.Equal(d.Memory, got))
	sum := map[disk.Kind]int64{}
	require.NoError(t, disk.Walk(t.Context(), c, func(e disk.Extent) error { sum[e.Kind] += e.Length; return nil }))
	require.EqualValues(t, 3, sum[disk.Data]>>20)
	whole, err := disk.Allocated(t.Context(), c.Whole())
	require.NoError(t, err)
	require.EqualValues(t, 5<<20, whole-whole%(1<<20))
	_, err = Dial(t.Context(), "unix", path, "sdb", "")
	require.ErrorContains(t, err, "sdb")
	_, err = Dial(t.Context(), "unix", path, "sda", "other")
	require.ErrorIs(t, err, ErrNoBitmap)

	out := filepath.Join(t.TempDir(), "out.raw")
	url := "nbd+unix:///sda?socket=" + path
	text, err := exec.Command("qemu-img", "convert", "-O", "raw", url, out).CombinedOutput()
	require.NoError(t, err, string(text))
	body, err := os.ReadFile(out)
	require.NoError(t, err)
	require.True(t, bytes.Equal(d.Memory, body[:len(d.Memory)]))
	text, err = exec.Command("qemu-img", "map", "--output=json", "--image-opts", "driver=nbd,server.type=unix,server.path="+path+",export=sda,x-dirty-bitmap=qemu:dirty-bitmap:since").Output()
	require.NoError(t, err)
	var clean []struct {
		Start, Length int64
		Data          bool
	}
	require.NoError(t, json.Unmarshal(text, &clean))
	require.Len(t, clean, 6, "dirty and clean in turn")
	text, err = exec.Command("qemu-io", "-f", "raw", "-c", "write 0 4096", url).CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(text), "Permission denied")
}

// Where TLS is asked for nothing is answered before it, and by a client that knows the authority; an export is found by its name, and none is listed.
func TestServeSecure(t *testing.T) {
	d := newStriped()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	made := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "rock-1"}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature, NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"rock-1"}}
	der, err := x509.CreateCertificate(rand.Reader, made, made, key.Public(), key)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	known := x509.NewCertPool()
	known.AddCert(cert)
	server := &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				ServeSecure(context.Background(), conn, server, func(name string) (Export, bool) { return Export{Name: name, Disk: d}, name == "a word" })
			}()
		}
	}()
	over := func(secure *tls.Config, name string) (*Client, error) {
		conn, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		return Over(t.Context(), conn, secure, name, "")
	}
	c, err := over(&tls.Config{RootCAs: known, ServerName: "rock-1"}, "a word")
	require.NoError(t, err)
	defer c.Close()
	got := make([]byte, d.Size())
	_, err = c.ReadAt(got, 0)
	require.NoError(t, err)
	require.True(t, bytes.Equal(d.Memory, got))
	_, err = over(&tls.Config{RootCAs: known, ServerName: "rock-1"}, "another")
	require.ErrorContains(t, err, "another")
	_, err = over(&tls.Config{ServerName: "rock-1"}, "a word")
	require.ErrorContains(t, err, "unknown authority")
	_, err = over(nil, "a word")
	require.ErrorContains(t, err, "a word")

	port := l.Addr().(*net.TCPAddr).Port
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "ca-cert.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644))
	opts := fmt.Sprintf("driver=nbd,server.type=inet,server.host=127.0.0.1,server.port=%d,export=a word,tls-creds=t,tls-hostname=rock-1", port)
	text, err := exec.Command("qemu-img", "info", "--object", "tls-creds-x509,id=t,endpoint=client,dir="+folder, "--image-opts", opts).CombinedOutput()
	require.NoError(t, err, string(text))
	require.Contains(t, string(text), fmt.Sprintf("(%d bytes)", d.Size()))
}

// A place that can't be read fails that request alone; a client that talks nonsense is put out.
func TestServeTrouble(t *testing.T) {
	d := newStriped()
	d.bad = 2<<20 + 5
	path := offer(t, Export{Name: "sda", Disk: d})
	c, err := Dial(t.Context(), "unix", path, "sda", "")
	require.NoError(t, err)
	defer c.Close()
	_, err = c.ReadAt(make([]byte, 4096), 2<<20)
	require.ErrorContains(t, err, "read 4096 bytes at 2097152: bad sector")
	require.NotErrorIs(t, err, ErrBroken)
	_, err = c.ReadAt(make([]byte, 4096), 4<<20)
	require.NoError(t, err)
	conn, err := net.Dial("unix", path)
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Write(bytes.Repeat([]byte{0xa5}, 64))
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, conn)
	require.NoError(t, err, "it ends the connection")
}

// No client brings the server to its knees.
func FuzzServe(f *testing.F) {
	hello := []byte{0, 0, 0, 3}
	f.Add(hello)
	f.Add(append(hello, "IHAVEOPT\x00\x00\x00\x08\x00\x00\x00\x00IHAVEOPT\x00\x00\x00\x0a\x00\x00\x00\x1c\x00\x00\x00\x03sda\x00\x00\x00\x01\x00\x00\x00\x0fbase:allocationIHAVEOPT\x00\x00\x00\x07\x00\x00\x00\x09\x00\x00\x00\x03sda\x00\x00\x25\x60\x95\x13\x00\x00\x00\x07\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x10\x00"...))
	f.Fuzz(func(t *testing.T, sent []byte) {
		near, far := net.Pipe()
		go func() { far.Write(sent); far.Close() }()
		go io.Copy(io.Discard, far)
		Serve(t.Context(), near, Export{Name: "sda", Disk: disk.Memory(make([]byte, 1<<20))})
	})
}
