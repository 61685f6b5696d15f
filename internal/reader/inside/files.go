package inside

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/tree"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/inode"
	"keenlodge/internal/line"
	"keenlodge/internal/reader"
)

// rootOf is where a place's file system is mounted.
func (g *Guest) rootOf(w reader.Where) (string, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if w.FileSystem == "" {
		if !g.opened.Tree {
			return "", line.Refuse(line.Unknown, "the disks have no mount table, so their files are no one tree; say which file system: NAME:%s", w.Path)
		}
		return treeFolder, nil
	}
	i := slices.IndexFunc(g.opened.FileSystems, func(f reader.FileSystem) bool { return f.Name == w.FileSystem })
	if i < 0 {
		return "", line.Refuse(line.Unknown, "no file system is called %q", w.FileSystem)
	}
	if why := g.opened.FileSystems[i].Why; why != "" {
		return "", line.Refuse(line.Unknown, "file system %s is not open: %s", w.FileSystem, why)
	}
	return g.systems[w.FileSystem], nil
}

// wrong is what became of a path, in words.
func wrong(p string, err error) error {
	if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ENOTDIR) {
		return line.Refuse(line.Unknown, "%s is not there", files.Readable(path.Clean("/"+p)))
	}
	return fmt.Errorf("%s: %w", files.Readable(path.Clean("/"+p)), err)
}

// entryOf makes an entry of what the kernel says of a name in an open folder, or of an open file where that is "".
func (g *Guest) entryOf(fd int, name, p string) (e files.Entry, err error) {
	var st unix.Stat_t
	if err := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW|unix.AT_EMPTY_PATH); err != nil {
		return files.Entry{Path: p, Kind: files.Unseen, Unread: err.Error()}, err
	}
	e = files.Entry{Path: p, Owner: g.users[st.Uid], Group: g.groups[st.Gid]}
	inode.Fill(&e, &st)
	if e.Kind == files.Link {
		if e.Target, err = inode.Target(fd, name); err != nil {
			return files.Entry{Path: p, Kind: files.Unseen, Unread: err.Error()}, err
		}
	}
	return e, nil
}

// list sends the list of a folder, or of one file, as [files.NewListReader] reads it.
func (g *Guest) list(w reader.Where) (any, func(net.Conn) error, error) {
	root, err := g.rootOf(w)
	if err != nil {
		return nil, nil, err
	}
	fd, err := inode.OpenIn(root, w.Path, unix.O_PATH)
	if err != nil {
		return nil, nil, wrong(w.Path, err)
	}
	rel := strings.TrimPrefix(path.Clean("/"+w.Path), "/")
	one, err := g.entryOf(fd, "", cmp.Or(rel, "."))
	unix.Close(fd)
	if err != nil {
		return nil, nil, wrong(w.Path, err)
	}
	if one.Kind != files.Dir {
		return nil, func(conn net.Conn) error {
			_, err := conn.Write(files.AppendEntry([]byte(files.ListHead), &one))
			return err
		}, nil
	}
	if fd, err = inode.OpenIn(root, w.Path, unix.O_RDONLY|unix.O_DIRECTORY); err != nil {
		return nil, nil, wrong(w.Path, err)
	}
	folder := os.NewFile(uintptr(fd), w.Path)
	names, err := folder.Readdirnames(-1)
	if err != nil {
		folder.Close()
		return nil, nil, wrong(w.Path, err)
	}
	slices.Sort(names)
	return nil, func(conn net.Conn) error {
		defer folder.Close()
		out := bufio.NewWriterSize(conn, 64<<10)
		out.WriteString(files.ListHead)
		l := lister{g: g, out: out, below: w.Below}
		if w.Full {
			l.first = map[[2]uint64]string{}
			one.Xattrs, _ = inode.Xattrs(fd)
		}
		if w.Self {
			out.Write(files.AppendEntry(nil, &one))
		}
		if err := l.names(fd, rel, names); err != nil {
			return err
		}
		return out.Flush()
	}, nil
}

// lister lists folders.
type lister struct {
	g     *Guest
	out   *bufio.Writer
	below bool
	// first has the first name of files that have several; nil asks for neither those nor attributes.
	first map[[2]uint64]string
	room  []byte
}

// full adds what else is known of an entry of a name in an open folder.
func (l *lister) full(e *files.Entry, fd int, name string) {
	if l.first == nil {
		return
	}
	var st unix.Stat_t
	if e.Kind == files.File && unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil && st.Nlink > 1 {
		id := [2]uint64{st.Dev, st.Ino}
		if first := l.first[id]; first != "" {
			e.Same, e.Size = first, 0
			return
		}
		l.first[id] = e.Path
	}
	var err error
	if e.Xattrs, err = inode.XattrsOf(inode.Within(fd, name)); err != nil {
		e.Unread = "its extended attributes: " + err.Error()
	}
}

// names lists some names in an open folder, and where that is asked for what lies below those.
func (l *lister) names(fd int, above string, names []string) error {
	for _, name := range names {
		p := name
		if above != "" {
			p = above + "/" + name
		}
		e, err := l.g.entryOf(fd, name, p)
		if errors.Is(err, unix.ENOENT) || e.Kind == "" { // sockets are not kept
			continue
		}
		l.full(&e, fd, name)
		var inner *os.File
		var below []string
		if e.Kind == files.Dir && l.below {
			in, err := unix.Openat(fd, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
			if err == nil {
				inner = os.NewFile(uintptr(in), p)
				below, err = inner.Readdirnames(-1)
				slices.Sort(below)
			}
			if err != nil {
				e.Unread = err.Error()
			}
		}
		l.room = files.AppendEntry(l.room[:0], &e)
		_, err = l.out.Write(l.room)
		if err == nil && inner != nil {
			err = l.names(int(inner.Fd()), p, below)
		}
		if inner != nil {
			inner.Close()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// read sends a range of a file.
func (g *Guest) read(r reader.Read) (any, func(net.Conn) error, error) {
	root, err := g.rootOf(r.Where)
	if err != nil {
		return nil, nil, err
	}
	fd, err := inode.OpenIn(root, r.Path, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return nil, nil, wrong(r.Path, err)
	}
	f := os.NewFile(uintptr(fd), r.Path)
	e, err := g.entryOf(fd, "", cmp.Or(strings.TrimPrefix(path.Clean("/"+r.Path), "/"), "."))
	if err == nil && e.Kind != files.File {
		err = line.Refuse(line.Unknown, "%s is a %s, and no file", files.Readable(path.Clean("/"+r.Path)), e.Kind)
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	if r.Offset < 0 || r.Offset > e.Size {
		f.Close()
		return nil, nil, line.Refuse(line.Unknown, "%s has %d bytes, and none at %d", files.Readable("/"+e.Path), e.Size, r.Offset)
	}
	length := e.Size - r.Offset
	if r.Length >= 0 {
		length = min(length, r.Length)
	}
	return reader.Found{Entry: e, Length: length}, func(conn net.Conn) error {
		defer f.Close()
		n, err := io.Copy(conn, io.NewSectionReader(f, r.Offset, length))
		if err == nil && n < length {
			err = io.ErrUnexpectedEOF
		}
		return err
	}, nil
}

// archive sends files with all that lies below them.
func (g *Guest) archive(ctx context.Context, w reader.Where) (any, func(net.Conn) error, error) {
	root, err := g.rootOf(w)
	if err != nil {
		return nil, nil, err
	}
	var folders []string
	for _, p := range append([]string{w.Path}, w.Also...) {
		folders = append(folders, path.Clean("/"+p))
	}
	c, err := tree.Begin(ctx, "/run", tree.Offer{Root: root, Settings: "/run"}, line.Walk{ID: image.NewID(), Files: line.Files{Folders: folders, Personal: true, Only: w.Only}})
	if err != nil {
		return nil, nil, err
	}
	send, err := c.Archive(ctx, 0)
	if err != nil {
		return nil, nil, errors.Join(err, c.End(false))
	}
	return nil, func(conn net.Conn) error { return errors.Join(send(conn), c.End(false)) }, nil
}
