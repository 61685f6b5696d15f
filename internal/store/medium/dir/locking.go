package dir

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/store/medium"
)

// Locking is a folder of a file system that knows the attribute immutable (chattr(1)), by an account that may set it. It implements [medium.Locker].
type Locking struct{ *Dir }

// untilAttribute is the extended attribute of a file that is locked: until when, RFC 3339.
const untilAttribute = "user.keenlodge.until"

// immutableFlag is FS_IMMUTABLE_FL of linux/fs.h.
const immutableFlag = 0x10

// Reach is Open, and a [Locking] where files can be made immutable.
func Reach(root string) (medium.Medium, error) {
	d, err := Open(root)
	if err != nil {
		return nil, err
	}
	header := [...]unix.CapUserHeader{{Version: unix.LINUX_CAPABILITY_VERSION_3}}
	var sets [2]unix.CapUserData
	if unix.Capget(&header[0], &sets[0]) != nil || sets[0].Effective&(1<<unix.CAP_LINUX_IMMUTABLE) == 0 {
		return d, nil
	}
	f, err := os.Open(root)
	if err != nil {
		return nil, d.failed("look at", "", err)
	}
	defer f.Close()
	if _, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS); err != nil {
		return d, nil
	}
	if err := unix.Fsetxattr(int(f.Fd()), untilAttribute, nil, 0); err != nil {
		return d, nil
	}
	return Locking{d}, nil
}

// Locks implements [medium.Locker].
func (h Locking) Locks() string {
	return "by the attribute immutable of its files: no mistake and no program without the right deletes them; an administrator of the host can take it off"
}

// set makes a file immutable, or not.
func set(f *os.File, immutable bool) error {
	flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
	if err != nil {
		return err
	}
	want := flags &^ immutableFlag
	if immutable {
		want |= immutableFlag
	}
	if want == flags {
		return nil
	}
	return unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, want)
}

// lockedUntil is until when a file is locked, the zero time for one that is not.
func lockedUntil(path string) (time.Time, error) {
	value := make([]byte, 64)
	n, err := unix.Lgetxattr(path, untilAttribute, value)
	if errors.Is(err, unix.ENODATA) {
		return time.Time{}, nil
	}
	if err != nil {
		return time.Time{}, &fs.PathError{Op: "lgetxattr", Path: path, Err: err}
	}
	until, err := time.Parse(time.RFC3339, string(value[:n]))
	if err != nil {
		return time.Time{}, nil // not ours
	}
	return until, nil
}

// PutUntil implements [medium.Locker].
func (h Locking) PutUntil(ctx context.Context, name string, content []byte, until time.Time) error {
	if err := h.Put(ctx, name, content); err != nil {
		return err
	}
	return h.Extend(ctx, name, until)
}

// Put implements [medium.Medium].
func (h Locking) Put(ctx context.Context, name string, content []byte) error {
	err := h.Dir.Put(ctx, name, content)
	if errors.Is(err, syscall.EPERM) {
		if locked := h.locked("write over", name); locked != nil {
			return locked
		}
	}
	return err
}

// Extend implements [medium.Locker].
func (h Locking) Extend(_ context.Context, name string, until time.Time) error {
	return h.failed("lock", name, h.extend(h.path(name), until))
}

func (h Locking) extend(path string, until time.Time) (err error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	had, err := lockedUntil(path)
	if err == nil && !had.Before(until) {
		return set(f, true)
	}
	if err := set(f, false); err != nil {
		return err
	}
	text := until.Add(time.Second - 1).UTC().Format(time.RFC3339)
	err = unix.Fsetxattr(int(f.Fd()), untilAttribute, []byte(text), 0)
	if err = errors.Join(err, set(f, true)); err != nil {
		return fmt.Errorf("make it immutable: %w", err)
	}
	return f.Sync()
}

// Delete implements [medium.Medium].
func (h Locking) Delete(ctx context.Context, name string) error {
	if err := h.locked("delete", name); err != nil {
		return err
	}
	err := h.Dir.Delete(ctx, name)
	if !errors.Is(err, syscall.EPERM) {
		return err
	}
	f, opened := os.OpenFile(h.path(name), os.O_RDONLY|syscall.O_NOFOLLOW, 0)
	if opened != nil {
		return h.failed("delete", name, opened)
	}
	defer f.Close()
	if err := set(f, false); err != nil {
		return h.failed("delete", name, err)
	}
	return h.Dir.Delete(ctx, name)
}

// locked is [medium.ErrLocked] for an object that is locked now.
func (h Locking) locked(verb, name string) error {
	until, err := lockedUntil(h.path(name))
	if err == nil && until.After(time.Now()) {
		return fmt.Errorf("%s: %w until %s", medium.Doing(verb, name, h), medium.ErrLocked, until.UTC().Format("2006-01-02 15:04:05 MST"))
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return h.failed(verb, name, err)
}

// MendHidden implements [medium.Locker]: it makes those files immutable again that somebody made not so.
func (h Locking) MendHidden(ctx context.Context) (names []string, err error) {
	err = filepath.WalkDir(h.root, func(path string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		until, err := lockedUntil(path)
		if errors.Is(err, fs.ErrNotExist) || err == nil && !until.After(time.Now()) {
			return ctx.Err()
		}
		if err != nil {
			return err
		}
		f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		flags, err := unix.IoctlGetInt(int(f.Fd()), unix.FS_IOC_GETFLAGS)
		if err != nil || flags&immutableFlag != 0 {
			return err
		}
		names = append(names, strings.TrimPrefix(path, h.root+"/"))
		return set(f, true)
	})
	return names, h.failed("look for what is hidden", "", err)
}
