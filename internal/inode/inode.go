// Package inode is what the kernel tells of files, and is told, in the terms of entries of an image.
package inode

import (
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/files"
)

var kinds = map[uint32]files.Kind{unix.S_IFREG: files.File, unix.S_IFDIR: files.Dir, unix.S_IFLNK: files.Link, unix.S_IFCHR: files.Char, unix.S_IFBLK: files.Block, unix.S_IFIFO: files.Fifo}

// Kind is what a mode says that a file is, "" for a socket, which no image holds.
func Kind(mode uint32) files.Kind { return kinds[mode&unix.S_IFMT] }

// Fill fills in what stat(2) tells; an entry's path, names and target are the caller's.
func Fill(e *files.Entry, st *unix.Stat_t) {
	e.Kind, e.Mode, e.UID, e.GID, e.Modified = Kind(st.Mode), st.Mode&07777, st.Uid, st.Gid, time.Unix(st.Mtim.Sec, st.Mtim.Nsec).UTC()
	switch e.Kind {
	case files.File:
		e.Size = st.Size
	case files.Char, files.Block:
		e.Major, e.Minor = unix.Major(st.Rdev), unix.Minor(st.Rdev)
	}
}

// Target reads a symbolic link in an open folder, or an open link where name is "".
func Target(fd int, name string) (string, error) {
	room := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(fd, name, room)
	return string(room[:max(0, n)]), err
}

// Within is a name in an open folder as a path, for calls that know no folders.
func Within(fd int, name string) string { return fmt.Sprintf("/proc/self/fd/%d/%s", fd, name) }

// Xattrs reads the extended attributes of an open file.
func Xattrs(fd int) (map[string]string, error) {
	return xattrs(func(b []byte) (int, error) { return unix.Flistxattr(fd, b) }, func(name string, b []byte) (int, error) { return unix.Fgetxattr(fd, name, b) })
}

// XattrsOf reads those of a path, and not of what a link there leads to.
func XattrsOf(place string) (map[string]string, error) {
	return xattrs(func(b []byte) (int, error) { return unix.Llistxattr(place, b) }, func(name string, b []byte) (int, error) { return unix.Lgetxattr(place, name, b) })
}

// xattrs reads extended attributes; where there can be none, there are none.
func xattrs(list func([]byte) (int, error), get func(string, []byte) (int, error)) (map[string]string, error) {
	var room [4 << 10]byte
	names, err := sized(room[:], list)
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.ENOENT) || err == nil && len(names) == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for name := range strings.SplitSeq(strings.TrimSuffix(string(names), "\x00"), "\x00") {
		value, err := sized(nil, func(b []byte) (int, error) { return get(name, b) })
		if errors.Is(err, unix.ENODATA) || errors.Is(err, unix.ENOTSUP) {
			continue // it went meanwhile, or is the kernel's own
		}
		if err != nil {
			return out, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = string(value)
	}
	return out, nil
}

// sized calls for something that tells how long it is where there is no room for it.
func sized(room []byte, call func([]byte) (int, error)) ([]byte, error) {
	for range 5 {
		n, err := call(room)
		if err == nil && len(room) > 0 {
			return room[:n], nil
		}
		if err != nil && !errors.Is(err, unix.ERANGE) {
			return nil, err
		}
		if n, err = call(nil); err != nil || n == 0 {
			return nil, err
		}
		room = make([]byte, n+64)
	}
	return nil, unix.ERANGE
}

// OpenIn opens a path below a root. Links lead where they would if the root were the machine's, and never out of it.
func OpenIn(root, p string, flags uint64) (int, error) {
	top, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	defer unix.Close(top)
	rel := strings.TrimPrefix(path.Clean("/"+p), "/")
	if rel == "" {
		rel = "."
	}
	return unix.Openat2(top, rel, &unix.OpenHow{Flags: flags | unix.O_CLOEXEC, Resolve: unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_MAGICLINKS})
}
