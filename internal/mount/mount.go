package mount

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
)

// FileSystem is a file system of a disk, mounted read-only, or the reason why it is not.
type FileSystem struct {
	Disk string
	Part disk.Part
	// Folder is where it is mounted; empty if it could not be.
	Folder string
	// Why says why it is not mounted: what lies there is no file system, or this host can't read it.
	Why string
	// Refused says that the kernel does not take it though its disk can be read: its superblock or its journal is not right.
	Refused bool
}

// Name says where the file system lies, such as "vda2".
func (f FileSystem) Name() string {
	if f.Part.Number == 0 {
		return f.Disk
	}
	return fmt.Sprintf("%s%d", f.Disk, f.Part.Number)
}

// Mounted is a set of disks with their file systems. Close it always.
type Mounted struct {
	FileSystems []FileSystem
	folder      string
	trouble     trouble
	lock        *os.File
	server      *fuse.Server
	loops       []string
}

// Disks offers disks and mounts the file systems in them, all below a new folder in base.
func Disks(base string, disks map[string]disk.Disk) (*Mounted, error) {
	if err := CheckRights(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(base, 0o700); err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp(base, "m")
	if err != nil {
		return nil, err
	}
	m := &Mounted{folder: folder}
	if err := m.mount(disks); err != nil {
		return nil, errors.Join(err, m.Close())
	}
	return m, nil
}

func (m *Mounted) mount(disks map[string]disk.Disk) (err error) {
	// Whoever holds the lock lives; Clean leaves its mounts alone.
	if m.lock, err = os.Create(filepath.Join(m.folder, "lock")); err != nil {
		return err
	}
	if err := unix.Flock(int(m.lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return err
	}
	files := filepath.Join(m.folder, "disks")
	if err := os.Mkdir(files, 0o700); err != nil {
		return err
	}
	names := slices.Sorted(maps.Keys(disks))
	var offered []disk.Disk
	for _, name := range names {
		offered = append(offered, disks[name])
	}
	if m.server, err = offer(files, offered, &m.trouble); err != nil {
		return err
	}
	for i, name := range names {
		parts, err := disk.Parts(disks[name])
		if err != nil {
			return fmt.Errorf("disk %s: %w", name, err)
		}
		for _, p := range parts {
			fs := FileSystem{Disk: name, Part: p}
			if err := m.one(filepath.Join(files, diskFile(i)), &fs); err != nil {
				return err
			}
			m.FileSystems = append(m.FileSystems, fs)
		}
	}
	return nil
}

// one mounts a file system through a loop device of its own.
func (m *Mounted) one(file string, f *FileSystem) error {
	switch f.Part.Format {
	case "":
		f.Why = "no known file system lies there"
		return nil
	case "swap", "lvm", "luks":
		f.Why = "it holds " + f.Part.Format + ", not a file system"
		return nil
	}
	if known, err := kernelKnows(f.Part.Format); err != nil || !known {
		f.Why = "this host's kernel can't read " + f.Part.Format
		return err
	}
	// The loop device is writable so that a journal can be played back, as at a boot; what is written stays in memory.
	out, err := run("losetup", "--find", "--show", "--offset", fmt.Sprint(f.Part.Offset), "--sizelimit", fmt.Sprint(f.Part.Length), file)
	if err != nil {
		return fmt.Errorf("%s: %w", f.Name(), err)
	}
	loop := strings.TrimSpace(out)
	m.loops = append(m.loops, loop)
	folder := filepath.Join(m.folder, fmt.Sprintf("fs-%d", len(m.loops)))
	if err := os.Mkdir(folder, 0o700); err != nil {
		return err
	}
	options := "ro,nosuid,nodev,noexec"
	if f.Part.Format == "xfs" {
		options += ",nouuid"
	}
	if _, err := run("mount", "-t", f.Part.Format, "-o", options, loop, folder); err != nil {
		var ended *exec.ExitError
		if trouble := m.trouble.first(); trouble != nil {
			return fmt.Errorf("mount %s (%s): %w: %w", f.Name(), f.Part.Format, trouble, err)
		} else if errors.As(err, &ended) && ended.ExitCode() == mountFailed {
			f.Why, f.Refused = err.Error(), true
			return nil
		}
		return fmt.Errorf("mount %s (%s): %w", f.Name(), f.Part.Format, err)
	}
	f.Folder = folder
	return nil
}

// Trouble is the first error with which a disk could not be read since it was mounted, nil if there was none. What a file system then
// reported says nothing of itself.
func (m *Mounted) Trouble() error { return m.trouble.first() }

// mountFailed is the status with which mount(8) says that the kernel refused.
const mountFailed = 32

// diskFile is what a disk is called below a mount's folder. The disks' own names are their guests' words, and no part of any path.
func diskFile(i int) string { return fmt.Sprintf("disk-%d", i) }

// Close unmounts everything and removes the folder. It may be called after a part of the mounting failed.
func (m *Mounted) Close() error {
	var errs []error
	for _, f := range slices.Backward(m.FileSystems) {
		if f.Folder != "" {
			errs = append(errs, unmount(f.Folder))
		}
	}
	for _, loop := range m.loops {
		// A device that is still busy is released by the kernel when it no longer is.
		if _, err := run("losetup", "--detach", loop); err != nil {
			errs = append(errs, err)
		}
	}
	if m.server != nil {
		if err := m.server.Unmount(); err != nil {
			errs = append(errs, unix.Unmount(filepath.Join(m.folder, "disks"), unix.MNT_DETACH))
		}
	}
	if m.lock != nil {
		m.lock.Close()
	}
	return errors.Join(append(errs, removeFolder(m.folder))...)
}

func unmount(folder string) error {
	err := unix.Unmount(folder, 0)
	if errors.Is(err, syscall.EBUSY) {
		err = unix.Unmount(folder, unix.MNT_DETACH)
	}
	if err != nil {
		return fmt.Errorf("unmount %s: %w", folder, err)
	}
	return nil
}

// removeFolder removes our empty folders and the lock, never what is in a file system that is still mounted.
func removeFolder(folder string) error {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if err := os.Remove(filepath.Join(folder, e.Name())); err != nil {
			return err
		}
	}
	return os.Remove(folder)
}

// Clean unmounts what a process that died left below base, and says what it found.
func Clean(base string) (found []string, err error) {
	folders, err := filepath.Glob(filepath.Join(base, "m*"))
	if err != nil {
		return nil, err
	}
	var errs []error
	for _, folder := range folders {
		lock, err := os.Open(filepath.Join(folder, "lock"))
		if err == nil {
			err = unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB)
			lock.Close()
			if err != nil {
				continue // somebody lives there
			}
		}
		points, err := mountsBelow(folder)
		if err != nil {
			return found, err
		}
		for _, point := range slices.Backward(points) {
			errs = append(errs, unix.Unmount(point, unix.MNT_DETACH))
			found = append(found, "unmounted "+point)
		}
		if out, err := run("losetup", "--list", "--noheadings", "--output", "NAME,BACK-FILE"); err == nil {
			for line := range strings.Lines(out) {
				if name, back, ok := strings.Cut(strings.TrimSpace(line), " "); ok && strings.HasPrefix(strings.TrimSpace(back), folder+"/") {
					run("losetup", "--detach", name) // often gone with its mount already
				}
			}
		}
		errs = append(errs, removeFolder(folder))
	}
	return found, errors.Join(errs...)
}

// mountsBelow lists mount points in a folder, in the order in which they were mounted.
func mountsBelow(folder string) ([]string, error) {
	body, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	var points []string
	for line := range strings.Lines(string(body)) {
		if fields := strings.Fields(line); len(fields) > 4 && strings.HasPrefix(fields[4], folder+"/") {
			points = append(points, fields[4])
		}
	}
	return points, nil
}

// kernelKnows reports whether the kernel has a file system, built in or as a module that is loaded.
func kernelKnows(format string) (bool, error) {
	run("modprobe", "--quiet", format) // where it can be loaded it is; the list below decides
	f, err := os.Open("/proc/filesystems")
	if err != nil {
		return false, err
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		if fields := strings.Fields(s.Text()); len(fields) > 0 && fields[len(fields)-1] == format {
			return true, nil
		}
	}
	return false, nil
}

// programTime bounds each program that is called: what it works on may be anybody's.
const programTime = 2 * time.Minute

func run(name string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeoutCause(context.Background(), programTime, fmt.Errorf("it did not end within %s", programTime))
	defer cancel()
	var told bytes.Buffer
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stderr = &told
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C"} // nothing else of the service's is its business
	cmd.WaitDelay = time.Second                                 // a program that the kernel does not let go is left behind
	out, err := cmd.Output()
	if err != nil && ctx.Err() != nil {
		return "", fmt.Errorf("%s: %w", name, context.Cause(ctx))
	}
	if err != nil {
		return "", fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(told.String()))
	}
	return string(out), nil
}
