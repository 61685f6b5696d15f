// Package places knows on what stores lie: which disk or host carries each, and where a disk is mounted that comes and goes.
package places

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/mountinfo"
)

// Mount is a file system of a block device that is mounted on this host.
type Mount struct {
	Point string
	// Device is the block device's number, as major:minor.
	Device string
	// Source is the device's path.
	Source string
}

// table is where the kernel tells what is mounted (proc(5)); init's may tell of more than this process sees.
const table, tableOfInit = "/proc/self/mountinfo", "/proc/1/mountinfo"

// Mounts lists the file systems of block devices that are mounted on this host, in the order in which they were.
func Mounts() ([]Mount, error) {
	body, err := os.ReadFile(table)
	if err != nil {
		return nil, fmt.Errorf("see what is mounted: %w", err)
	}
	return parse(body), nil
}

// Watch tells when something is mounted or unmounted on this host. Its file is none of package os: that would hand it to the runtime's poller, too, and
// a change is told to the first who asks.
type Watch struct {
	table int
	end   [2]int // a pipe
	mu    sync.Mutex
	over  bool
}

// NewWatch begins to watch. Close it.
func NewWatch() (*Watch, error) {
	fd, err := unix.Open(table, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("watch what is mounted: %w", err)
	}
	w := &Watch{table: fd}
	if err := unix.Pipe2(w.end[:], unix.O_CLOEXEC|unix.O_NONBLOCK); err != nil {
		return nil, errors.Join(fmt.Errorf("watch what is mounted: %w", err), unix.Close(fd))
	}
	return w, nil
}

// End ends a wait that is under way, and all that follow. It may be called by another goroutine.
func (w *Watch) End() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.over {
		unix.Write(w.end[1], []byte{0})
	}
}

// Wait waits for a change (proc(5), "mounts": the file tells of one by POLLPRI), or for so long.
func (w *Watch) Wait(most time.Duration) (changed bool, err error) {
	fds := []unix.PollFd{{Fd: int32(w.table), Events: unix.POLLPRI}, {Fd: int32(w.end[0]), Events: unix.POLLIN}}
	if _, err := unix.Poll(fds, int(most.Milliseconds())); err != nil && !errors.Is(err, unix.EINTR) {
		return false, err
	}
	return fds[0].Revents != 0, nil
}

// Close ends the watch.
func (w *Watch) Close() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.over = true
	return errors.Join(unix.Close(w.table), unix.Close(w.end[0]), unix.Close(w.end[1]))
}

// parse reads a table of mounts. Lines that are none are left out.
func parse(body []byte) (out []Mount) {
	for scan := bufio.NewScanner(bytes.NewReader(body)); scan.Scan(); {
		if l, ok := mountinfo.Parse(scan.Text()); ok && strings.HasPrefix(l.Source, "/dev/") && l.Root == "/" {
			out = append(out, Mount{Point: l.Point, Device: l.Device, Source: l.Source})
		}
	}
	return out
}

// Find looks for a folder that lay at a path when its disk was plugged in first: there, and at the end of that path below every mount. is tells it from
// others. It returns "" where it is not here.
func Find(path string, is func(folder string) bool) (string, error) {
	if is(path) {
		return path, nil
	}
	mounts, err := Mounts()
	if err != nil {
		return "", err
	}
	slices.Reverse(mounts) // what came last is what was plugged in
	ends := []string{""}
	for rest := path; rest != "/"; rest = filepath.Dir(rest) {
		ends = append(ends, strings.TrimPrefix(path, filepath.Dir(rest)))
	}
	for _, m := range mounts {
		for _, end := range ends {
			if folder := filepath.Join(m.Point, end); folder != path && is(folder) {
				return folder, nil
			}
		}
	}
	return "", nil
}

// ErrStillMounted marks a disk that this process can't unmount.
var ErrStillMounted = errors.New("it is still mounted")

// Unmount writes out what is on its way to the disk that a folder lies on, and unmounts it. The error wraps [ErrStillMounted] where all was written
// out, and somebody else has to unmount it.
func Unmount(folder string) (Mount, error) {
	mounts, err := Mounts()
	if err != nil {
		return Mount{}, err
	}
	var on Mount
	for _, m := range mounts {
		if (folder == m.Point || strings.HasPrefix(folder, strings.TrimSuffix(m.Point, "/")+"/")) && len(m.Point) >= len(on.Point) {
			on = m
		}
	}
	f, err := os.Open(folder)
	if err != nil {
		return on, err
	}
	err = errors.Join(unix.Syncfs(int(f.Fd())), f.Close())
	if err != nil {
		return on, fmt.Errorf("write out what is on its way to %s: %w", folder, err)
	}
	if on.Point == "" || on.Point == "/" {
		return on, fmt.Errorf("%w: %s lies on no disk of its own", ErrStillMounted, folder)
	}
	switch err := unix.Unmount(on.Point, unix.UMOUNT_NOFOLLOW); {
	case errors.Is(err, unix.EBUSY):
		return on, fmt.Errorf("%w: something else uses %s (fuser -vm %[2]s tells what); end that, then: umount %[2]s", ErrStillMounted, on.Point)
	case errors.Is(err, unix.EPERM):
		return on, fmt.Errorf("%w: this service may not unmount it; do it: umount %s", ErrStillMounted, on.Point)
	case err != nil:
		return on, fmt.Errorf("%w: unmount %s: %w", ErrStillMounted, on.Point, err)
	}
	body, err := os.ReadFile(tableOfInit)
	if err == nil && slices.ContainsFunc(parse(body), func(m Mount) bool { return m.Device == on.Device }) {
		return on, fmt.Errorf("%w: other programs see mounts that this service does not; on the host: umount %s", ErrStillMounted, on.Source)
	}
	return on, nil
}
