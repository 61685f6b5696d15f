package unpack

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/inode"
)

// unprivileged reports whether something failed for want of root's rights; a process without them does what it can.
func unprivileged(err error) bool {
	return os.Geteuid() != 0 && (errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES))
}

// dress gives an open file its owner, attributes, mode and times.
func dress(fd int, e *files.Entry) error {
	return dressAt(fmt.Sprintf("/proc/self/fd/%d", fd), e, true)
}

// dressAt dresses what is at a path; through says that it is a link of the kernel's to an open file, which is to be followed.
func dressAt(place string, e *files.Entry, through bool) error {
	flags := unix.AT_SYMLINK_NOFOLLOW
	set := unix.Lsetxattr
	if through {
		flags, set = 0, unix.Setxattr
	}
	if err := unix.Fchownat(unix.AT_FDCWD, place, int(e.UID), int(e.GID), flags); err != nil && !unprivileged(err) && !errors.Is(err, unix.ENOTSUP) {
		return fmt.Errorf("give it to its owner (%d:%d): %w", e.UID, e.GID, err)
	}
	if e.Kind != files.Link {
		if err := unix.Fchmodat(unix.AT_FDCWD, place, e.Mode, 0); err != nil && !unprivileged(err) {
			return fmt.Errorf("set its mode: %w", err)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(e.Xattrs)) { // an ACL sets what the mode leaves open, and the owner takes capabilities away: they come last
		if err := set(place, name, []byte(e.Xattrs[name]), 0); err != nil && !unprivileged(err) && !errors.Is(err, unix.ENOTSUP) {
			return fmt.Errorf("set its attribute %s: %w", name, err)
		}
	}
	at := unix.NsecToTimespec(e.Modified.UnixNano())
	if err := unix.UtimesNanoAt(unix.AT_FDCWD, place, []unix.Timespec{{Nsec: unix.UTIME_OMIT}, at}, flags); err != nil {
		return fmt.Errorf("set its time: %w", err)
	}
	return nil
}

// dressAnew dresses what is at a path and has attributes by now: those that it shall not have are taken away.
func dressAnew(place string, e *files.Entry, is map[string]string) error {
	for name := range is {
		if _, stays := e.Xattrs[name]; !stays {
			if err := unix.Lremovexattr(place, name); err != nil && !unprivileged(err) && !errors.Is(err, unix.ENODATA) {
				return fmt.Errorf("take its attribute %s away: %w", name, err)
			}
		}
	}
	return dressAt(place, e, false)
}

// amendOne sets owner, mode, attributes and times of what is there.
func (p *putter) amendOne(s back.Step, e *files.Entry, folder int, name string) error {
	if err := p.asPlanned(s); err != nil && e.Kind != files.Dir {
		return err
	}
	p.linked[lasting(s.Old.Key)] = true // its other names change with it
	place := inode.Within(folder, name)
	was, err := inode.XattrsOf(place)
	if err != nil {
		return err
	}
	if err := p.journal.amend(s, was); err != nil {
		return err
	}
	if err := dressAnew(place, e, was); err != nil {
		return err
	}
	return p.journal.did(folder, name)
}

// redress gives something what it had.
func redress(fd int, name string, old *back.Found, raw map[string][]byte) error {
	if old == nil {
		return nil
	}
	e := &files.Entry{Kind: old.Kind, Mode: old.Mode, UID: old.UID, GID: old.GID, Modified: old.Modified, Xattrs: map[string]string{}}
	for k, v := range raw {
		e.Xattrs[k] = string(v)
	}
	place := inode.Within(fd, name)
	is, err := inode.XattrsOf(place)
	if err != nil {
		return err
	}
	return dressAnew(place, e, is)
}
