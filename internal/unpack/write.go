package unpack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/inode"
)

// temporary is a name that nothing has.
func (p *putter) temporary() string {
	p.names++
	return fmt.Sprintf(".keenlodge-%s-%d", p.Order.ID, p.names)
}

// file writes a file beside, as one that has no name where the file system can, and gives it its name when it is whole.
func (p *putter) file(s back.Step, e *files.Entry, archive *files.Reader) error {
	drained := false
	defer func() {
		if !drained { // the next entry comes after it
			io.Copy(io.Discard, archive)
			archive.Settle(e)
		}
	}()
	if err := p.enter(path.Dir(s.Path)); err != nil {
		return err
	}
	if err := p.asPlanned(s); err != nil {
		return err
	}
	temp := ""
	fd, err := unix.Openat(p.fd, ".", unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.EISDIR) || errors.Is(err, unix.EINVAL) {
		temp = p.temporary()
		if err := p.journal.temp(path.Join(p.parent, temp)); err != nil {
			return err
		}
		fd, err = unix.Openat(p.fd, temp, unix.O_CREAT|unix.O_EXCL|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	}
	if err != nil {
		return fmt.Errorf("make a file: %w", err)
	}
	f := os.NewFile(uintptr(fd), s.Path)
	defer f.Close()
	named := false
	defer func() {
		if temp != "" && !named {
			unix.Unlinkat(p.fd, temp, 0)
		}
	}()
	if err := p.content(f, e, archive); err != nil {
		return err
	}
	drained = true
	if err := archive.Settle(e); err != nil {
		return cut{err}
	}
	if e.Unread != "" {
		return fmt.Errorf("the image could not give all of it: %s", e.Unread)
	}
	if err := dress(fd, e); err != nil {
		return err
	}
	if temp == "" {
		if s.Action != back.Replacing { // it gets its own name at once, or none
			if err := p.journal.intend(s, ""); err != nil {
				return err
			}
			err := unix.Linkat(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", fd), p.fd, path.Base(s.Path), unix.AT_SYMLINK_FOLLOW)
			if errors.Is(err, unix.EEXIST) {
				return errChanged
			}
			if err != nil {
				return fmt.Errorf("name it: %w", err)
			}
			return p.journal.did(p.fd, path.Base(s.Path))
		}
		temp = p.temporary()
		if err := p.journal.temp(path.Join(p.parent, temp)); err != nil {
			return err
		}
		if err := unix.Linkat(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", fd), p.fd, temp, unix.AT_SYMLINK_FOLLOW); err != nil {
			return fmt.Errorf("name it: %w", err)
		}
	}
	err = p.publish(s, temp)
	named = err == nil
	if err != nil {
		unix.Unlinkat(p.fd, temp, 0)
	}
	return err
}

// content writes a file's content.
func (p *putter) content(f *os.File, e *files.Entry, archive io.Reader) error {
	spans := e.Data
	if spans == nil {
		spans = []files.Span{{Length: e.Size}}
	}
	for _, span := range spans {
		for at, end := span.Offset, span.Offset+span.Length; at < end; {
			if p.ctx.Err() != nil {
				return cut{context.Cause(p.ctx)}
			}
			n, err := io.ReadFull(archive, p.buffer[:min(int64(len(p.buffer)), end-at)])
			if err != nil {
				return cut{err}
			}
			if _, err := f.WriteAt(p.buffer[:n], at); err != nil {
				return fmt.Errorf("write it: %w", errnoOf(err))
			}
			at += int64(n)
			p.at.Bytes += int64(n)
			p.tell()
		}
	}
	if e.Data != nil {
		if err := f.Truncate(e.Size); err != nil {
			return fmt.Errorf("write it: %w", errnoOf(err))
		}
	}
	return nil
}

// errnoOf is the system's own word, without a path that is not the right one.
func errnoOf(err error) error {
	var no unix.Errno
	if errors.As(err, &no) {
		return no
	}
	return err
}

// other makes what is no file with content of its own, or sets what is to be amended.
func (p *putter) other(s back.Step, e *files.Entry) error {
	if e.Kind == files.Dir && s.Action == back.Amend {
		p.amend = append(p.amend, amending{s, *e})
		return nil
	}
	if err := p.enter(path.Dir(s.Path)); err != nil {
		return err
	}
	name := path.Base(s.Path)
	if s.Action == back.Amend {
		return p.amendOne(s, e, p.fd, name)
	}
	if err := p.asPlanned(s); err != nil {
		if now, _, _ := find(p.fd, name); e.Kind != files.Dir || now == nil || now.Kind != files.Dir || s.Action != back.Make {
			return err
		}
		p.amend = append(p.amend, amending{s, *e}) // it was made for what lies in it
		return nil
	}
	temp := name
	if s.Action == back.Replacing {
		temp = p.temporary()
		if err := p.journal.temp(path.Join(p.parent, temp)); err != nil {
			return err
		}
	} else if err := p.journal.intend(s, ""); err != nil {
		return err
	}
	err := p.make(temp, e)
	if err == nil && e.Same == "" && (e.Kind != files.Dir || os.Geteuid() == 0) { // who is not root may have to write into it yet
		err = dressAt(inode.Within(p.fd, temp), e, false)
	}
	if err == nil && s.Action == back.Replacing {
		err = p.publish(s, temp)
	} else if err == nil {
		err = p.journal.did(p.fd, name)
	}
	if err != nil {
		if !errors.Is(err, unix.EEXIST) {
			flags := 0
			if e.Kind == files.Dir {
				flags = unix.AT_REMOVEDIR
			}
			unix.Unlinkat(p.fd, temp, flags)
		}
		return err
	}
	if e.Kind == files.Dir {
		p.amend = append(p.amend, amending{s, *e})
	}
	return nil
}

// make makes something at a name that nothing has.
func (p *putter) make(name string, e *files.Entry) error {
	var err error
	switch {
	case e.Same != "":
		first, ok := p.places[e.Same]
		if !ok {
			first, ok = p.besides[e.Same]
		}
		if !ok {
			first, ok = back.Locate(p.Order.Roots, e.Same)
		}
		if !ok {
			return fmt.Errorf("it is another name of /%s, which is not restored with it", files.Readable(e.Same))
		}
		fd, failed := openBelow(p.top, first, unix.O_PATH|unix.O_NOFOLLOW, within)
		if failed != nil {
			return fmt.Errorf("it is another name of /%s: %w", files.Readable(first), failed)
		}
		defer unix.Close(fd)
		err = unix.Linkat(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", fd), p.fd, name, unix.AT_SYMLINK_FOLLOW)
	case e.Kind == files.Dir:
		err = unix.Mkdirat(p.fd, name, 0o700)
	case e.Kind == files.Link:
		err = unix.Symlinkat(e.Target, p.fd, name)
	case e.Kind == files.Fifo:
		err = unix.Mknodat(p.fd, name, unix.S_IFIFO|0o600, 0)
	case e.Kind == files.Char:
		err = unix.Mknodat(p.fd, name, unix.S_IFCHR|0o600, int(unix.Mkdev(e.Major, e.Minor)))
	case e.Kind == files.Block:
		err = unix.Mknodat(p.fd, name, unix.S_IFBLK|0o600, int(unix.Mkdev(e.Major, e.Minor)))
	}
	if err != nil {
		return fmt.Errorf("make a %s: %w", e.Kind, err)
	}
	return nil
}

// publish gives what has a temporary name its own, in place of what has that.
func (p *putter) publish(s back.Step, temp string) error {
	if err := p.asPlanned(s); err != nil {
		return err
	}
	name := path.Base(s.Path)
	if s.Action != back.Replacing {
		if err := p.journal.intend(s, ""); err != nil {
			return err
		}
		err := unix.Renameat2(p.fd, temp, p.fd, name, unix.RENAME_NOREPLACE)
		if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) { // a file system that can't, or a name that can't be: the next says which
			err = unix.Renameat(p.fd, temp, p.fd, name)
		}
		if errors.Is(err, unix.EEXIST) {
			return errChanged
		}
		if err != nil {
			return fmt.Errorf("name it: %w", err)
		}
		return p.journal.did(p.fd, name)
	}
	hold, err := p.hold(s)
	if err != nil {
		return err
	}
	if err := p.journal.intend(s, hold); err != nil {
		return err
	}
	p.linked[lasting(s.Old.Key)] = true
	if hold != "" {
		err := unix.Linkat(p.fd, name, p.top, hold, 0)
		if errors.Is(err, unix.EPERM) || errors.Is(err, unix.EOPNOTSUPP) { // a file system on which a file has one name
			err = unix.Renameat(p.fd, name, p.top, hold)
		}
		if err != nil {
			return fmt.Errorf("keep what is there: %w", err)
		}
	}
	if s.Kind == files.Dir { // a folder takes no other's place by itself
		if err := unix.Unlinkat(p.fd, name, 0); err != nil && !errors.Is(err, unix.ENOENT) {
			return fmt.Errorf("replace it: %w", err)
		}
	}
	if err := unix.Renameat(p.fd, temp, p.fd, name); err != nil {
		return fmt.Errorf("replace it: %w", err)
	}
	return p.journal.did(p.fd, name)
}
