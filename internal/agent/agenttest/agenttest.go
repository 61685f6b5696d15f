// Package agenttest has a disk of this host that stands for a server's: mounted, and written to.
package agenttest

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Alone returns once no other room's tests have agents on this host: the kernel has one place for what agents follow, and who starts clears it.
func Alone() (err error) {
	if alone, err = os.OpenFile(filepath.Join(os.TempDir(), "keenlodge-agents-under-test"), os.O_RDWR|os.O_CREATE, 0o600); err == nil {
		err = unix.Flock(int(alone.Fd()), unix.LOCK_EX)
	}
	return err
}

// alone is locked until this process ends.
var alone *os.File

// Sh runs a script with some variables.
func Sh(t testing.TB, script string, vars ...string) string {
	t.Helper()
	cmd := exec.Command("sh", "-ec", script)
	cmd.Env = append(append(os.Environ(), "PATH=/usr/sbin:/sbin:"+os.Getenv("PATH")), vars...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.TrimSpace(string(out))
}

// Disk is a loop device with a file system.
type Disk struct {
	// File is what it stands on, Loop the device, Mounted where its file system is.
	File, Loop, Mounted string
}

// New makes a disk of so many bytes; mkfs is a script that makes its file system in $f. With "noauto" it is not mounted. Only root can.
func New(t testing.TB, size int64, mkfs string, options ...string) *Disk {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("only root has loop devices, and freezes file systems")
	}
	d := &Disk{File: filepath.Join(t.TempDir(), "disk"), Mounted: t.TempDir()}
	require.NoError(t, os.WriteFile(d.File, nil, 0o600))
	require.NoError(t, os.Truncate(d.File, size))
	Sh(t, mkfs, "f="+d.File)
	d.Loop = Sh(t, "losetup --find --show $f", "f="+d.File)
	// A watchdog may have it open for a while.
	t.Cleanup(func() { Sh(t, "umount -l $m 2>/dev/null || true; losetup -d $l", "m="+d.Mounted, "l="+d.Loop) })
	if !slices.Contains(options, "noauto") {
		Sh(t, "mount $l $m", "l="+d.Loop, "m="+d.Mounted)
	}
	return d
}

// Write keeps writing to the file system, until it is ended: files come, change and go, and a ledger says in which order. It tells the longest
// time for which a write waited.
func (d *Disk) Write(rate int) (end func() time.Duration) {
	stop := make(chan struct{})
	var done sync.WaitGroup
	var worst atomic.Int64
	done.Go(func() {
		ledger, err := os.OpenFile(filepath.Join(d.Mounted, "ledger"), os.O_RDWR|os.O_CREATE, 0o600)
		if err != nil {
			panic(err)
		}
		defer ledger.Close()
		rng := rand.New(rand.NewPCG(1, 1))
		body := make([]byte, 256<<10)
		tick := time.NewTicker(time.Second * time.Duration(len(body)) / time.Duration(rate))
		defer tick.Stop()
		for n := uint64(1); ; n++ {
			select {
			case <-stop:
				return
			case <-tick.C:
			}
			begun := time.Now()
			name := filepath.Join(d.Mounted, fmt.Sprintf("turnstile-%03d", rng.IntN(100)))
			if rng.IntN(4) == 0 {
				os.Remove(name)
			} else {
				for i := range body[:4096] {
					body[i] = byte(rng.Uint32())
				}
				// The same number first and last: a file that is torn shows.
				binary.BigEndian.PutUint64(body, n)
				binary.BigEndian.PutUint64(body[len(body)-8:], n)
				if err := os.WriteFile(name+".new", body, 0o600); err == nil {
					os.Rename(name+".new", name)
				}
			}
			ledger.WriteAt(binary.BigEndian.AppendUint64(nil, n), int64(n%1000)*4096)
			if n%8 == 0 {
				ledger.Sync()
			}
			if took := int64(time.Since(begun)); took > worst.Load() {
				worst.Store(took)
			}
		}
	})
	return func() time.Duration { close(stop); done.Wait(); return time.Duration(worst.Load()) }
}

// Check looks at a disk that was brought back as somebody would who needs it: its file system is whole, and no file is of two moments.
func Check(t testing.TB, file, fsck string) (files int) {
	t.Helper()
	Sh(t, fsck, "f="+file)
	at := t.TempDir()
	Sh(t, "mount -o loop,ro,noload $f $m || mount -o loop,ro,norecovery,nouuid $f $m || mount -o loop,ro $f $m", "f="+file, "m="+at)
	defer Sh(t, "umount $m", "m="+at)
	entries, err := os.ReadDir(at)
	require.NoError(t, err)
	newest := uint64(0)
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), "turnstile") || strings.HasSuffix(e.Name(), ".new") {
			continue
		}
		body, err := os.ReadFile(filepath.Join(at, e.Name()))
		require.NoError(t, err)
		require.Len(t, body, 256<<10, e.Name())
		first, last := binary.BigEndian.Uint64(body), binary.BigEndian.Uint64(body[len(body)-8:])
		require.Equal(t, first, last, e.Name())
		newest = max(newest, first)
		files++
	}
	ledger, err := os.ReadFile(filepath.Join(at, "ledger"))
	require.NoError(t, err)
	last := uint64(0)
	for i := 0; i+8 <= len(ledger); i += 4096 {
		last = max(last, binary.BigEndian.Uint64(ledger[i:]))
	}
	require.LessOrEqual(t, newest, last+1, "the ledger is written after the file, so it is of the same moment")
	require.GreaterOrEqual(t, last+1, newest)
	return files
}
