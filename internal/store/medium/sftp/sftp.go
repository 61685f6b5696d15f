// Package sftp is the medium of a folder on a host that is reached by SSH.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"keenlodge/internal/reach"
	"keenlodge/internal/store/medium"
)

// Config says where the folder is.
type Config struct {
	Host string
	Port int // 0 is 22
	User string
	// Folder is an absolute path on the host; it must exist.
	Folder string
	// HostKey is the host's public key as in an authorized_keys file ("ssh-ed25519 AAAA…"). Empty: the known_hosts files of
	// the account that runs the lodge, and of the system.
	HostKey string
	// Password or PrivateKey (PEM) signs in.
	Password, PrivateKey string
}

const (
	// tries is how often something is begun whose line was cut.
	tries = 4
	// listsAtOnce is how many folders are listed side by side.
	listsAtOnce = 8
)

// Folder is a folder on a host. It implements [medium.Medium].
type Folder struct {
	c Config

	mu     sync.Mutex
	line   *line
	made   medium.Made
	closed bool
}

// line is one connection.
type line struct {
	host *reach.Line
	sftp *sftp.Client
}

// Open signs in and looks whether the folder is there.
func Open(ctx context.Context, c Config) (*Folder, error) {
	if !path.IsAbs(c.Folder) {
		return nil, fmt.Errorf("folder %q on %s: not an absolute path; write it from / on", c.Folder, c.Host)
	}
	f := &Folder{c: c, made: medium.Made{Top: c.Folder}}
	err := f.do(ctx, "open", "", func(s *sftp.Client) error {
		info, err := s.Stat(c.Folder)
		if errors.Is(err, fs.ErrNotExist) {
			return medium.ErrNoPlace
		}
		if err == nil && !info.IsDir() {
			err = errors.New("it is not a folder")
		}
		return err
	})
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (f *Folder) String() string { return fmt.Sprintf("folder %s on %s", f.c.Folder, f.c.Host) }

func (f *Folder) dial(ctx context.Context) (*line, error) {
	host, err := reach.SSH{Host: f.c.Host, Port: f.c.Port, User: f.c.User, HostKey: f.c.HostKey, Password: f.c.Password, PrivateKey: f.c.PrivateKey}.Dial(ctx)
	switch {
	case errors.Is(err, reach.ErrRefused):
		return nil, told{err, medium.ErrRefused}
	case errors.Is(err, reach.ErrUnreachable):
		return nil, told{err, medium.ErrUnreachable}
	case err != nil:
		return nil, err
	}
	s, err := sftp.NewClient(host.Client, sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(64))
	if err != nil {
		host.Close()
		return nil, fmt.Errorf("%w: the host offers no SFTP: %v", medium.ErrUnreachable, err)
	}
	return &line{host, s}, nil
}

// told is an error that the medium has a name for.
type told struct{ err, name error }

func (t told) Error() string   { return t.err.Error() }
func (t told) Unwrap() []error { return []error{t.err, t.name} }

func (l *line) close() {
	l.host.Close() // first, so that nothing waits for the other side
	l.sftp.Close()
}

// connect gives the line, a new one if there is none.
func (f *Folder) connect(ctx context.Context) (*line, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.closed {
		return nil, errors.New("it was closed")
	}
	if f.line != nil {
		return f.line, nil
	}
	var err error
	f.line, err = f.dial(ctx)
	return f.line, err
}

// drop lets a line go on which something failed.
func (f *Folder) drop(l *line) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.line == l {
		f.line = nil
		l.close()
	}
}

// do carries something out, and does it again on a new line where the old one was cut. Everything here may be done twice.
func (f *Folder) do(ctx context.Context, verb, name string, act func(*sftp.Client) error) error {
	for n := 0; ; n++ {
		l, err := f.connect(ctx)
		if err == nil {
			err = act(l.sftp)
			if !isCut(err) {
				return f.failed(verb, name, err)
			}
			f.drop(l)
			err = fmt.Errorf("%w: %v", medium.ErrUnreachable, err)
		}
		if !errors.Is(err, medium.ErrUnreachable) || n == tries-1 || ctx.Err() != nil {
			return f.failed(verb, name, err)
		}
		select {
		case <-ctx.Done():
			return f.failed(verb, name, context.Cause(ctx))
		case <-time.After(time.Duration(200<<n) * time.Millisecond):
		}
	}
}

// isCut reports whether an error is of the line and not of the file.
func isCut(err error) bool {
	var status *sftp.StatusError
	if err == nil || errors.As(err, &status) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, medium.ErrEnd) {
		return false
	}
	var network net.Error
	return errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, sftp.ErrSSHFxNoConnection) || errors.Is(err, io.EOF) ||
		errors.Is(err, net.ErrClosed) || errors.As(err, &network) || strings.Contains(err.Error(), "connection lost")
}

// Put implements [medium.Medium].
func (f *Folder) Put(ctx context.Context, name string, content []byte) error {
	return f.do(ctx, "write", name, func(s *sftp.Client) error {
		target := f.path(name)
		folder := path.Dir(target)
		if err := f.made.Make(folder, func(name string) error { return makeFolder(s, name) }); err != nil {
			return err
		}
		part := medium.Part(folder)
		err := writeFile(s, part, content)
		if err == nil {
			err = s.PosixRename(part, target)
		}
		if err == nil {
			return nil
		}
		if isCut(err) {
			return err // the part is found by its name, a day later
		}
		s.Remove(part)
		if errors.Is(err, fs.ErrNotExist) { // somebody removed the folder
			f.made.Forget(folder)
		}
		// The protocol has one answer for all that fails: whether there was room is for us to find out.
		if room, asked := s.StatVFS(f.c.Folder); asked == nil && (room.FreeSpace() < uint64(len(content))+1<<20 || room.Favail == 0 && room.Files > 0) {
			return fmt.Errorf("%w (%v)", medium.ErrFull, err)
		}
		return err
	})
}

func writeFile(s *sftp.Client, name string, content []byte) (err error) {
	file, err := s.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return err
	}
	defer func() {
		if closed := file.Close(); err == nil {
			err = closed
		}
	}()
	if _, err := file.Write(content); err != nil {
		return err
	}
	if _, ok := s.HasExtension("fsync@openssh.com"); ok {
		return file.Sync()
	}
	return nil
}

// Lasts implements [medium.Lasting].
func (f *Folder) Lasts(ctx context.Context) (text string, err error) {
	return text, f.do(ctx, "ask", "", func(s *sftp.Client) error {
		if _, ok := s.HasExtension("fsync@openssh.com"); !ok {
			text = "this server can't be told to write through (it lacks fsync@openssh.com): an image that has just been made may be lost in a power cut there; use another server, or one that syncs by itself"
		}
		return nil
	})
}

// makeFolder makes one folder. That another writer made it just now is no error.
func makeFolder(s *sftp.Client, folder string) error {
	if err := s.Mkdir(folder); err != nil {
		if info, looked := s.Stat(folder); looked != nil || !info.IsDir() {
			return err
		}
	}
	return nil
}

// Get implements [medium.Medium].
func (f *Folder) Get(ctx context.Context, name string, offset, length int64) (out []byte, err error) {
	return out, f.do(ctx, "read", name, func(s *sftp.Client) error {
		file, err := s.Open(f.path(name))
		if err != nil {
			return err
		}
		defer file.Close()
		want := length
		if length < 0 {
			info, err := file.Stat()
			if err != nil {
				return err
			}
			want = max(0, info.Size()-offset)
		}
		if err := medium.CheckWhole(want); err != nil {
			return err
		}
		out = make([]byte, want)
		n, err := file.ReadAt(out, offset)
		switch {
		case int64(n) == want:
			return nil
		case err == io.EOF:
			return medium.ErrEnd
		}
		return err
	})
}

// List implements [medium.Medium].
func (f *Folder) List(ctx context.Context, prefix string, visit func(medium.Object) error) error {
	return f.folders().List(ctx, prefix, visit)
}

// Tidy removes what crashed processes left half written.
func (f *Folder) Tidy(ctx context.Context) error { return f.folders().Tidy(ctx, f.Delete) }

// folders lists the store's folders.
func (f *Folder) folders() medium.Folders {
	return medium.Folders{AtOnce: listsAtOnce, Of: func(ctx context.Context, folder string) (found []medium.Entry, err error) {
		return found, f.do(ctx, "list", folder, func(s *sftp.Client) error {
			infos, err := s.ReadDirContext(ctx, f.path(folder))
			if found = medium.Entries(infos); errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		})
	}}
}

// Stat implements [medium.Medium].
func (f *Folder) Stat(ctx context.Context, name string) (o medium.Object, err error) {
	return o, f.do(ctx, "look at", name, func(s *sftp.Client) error {
		info, err := s.Stat(f.path(name))
		if err == nil {
			o = medium.Object{Name: name, Size: info.Size(), Modified: info.ModTime()}
		}
		return err
	})
}

// Delete implements [medium.Medium].
func (f *Folder) Delete(ctx context.Context, name string) error {
	return f.do(ctx, "delete", name, func(s *sftp.Client) error {
		if err := s.Remove(f.path(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	})
}

// Room implements [medium.Medium], where the host has OpenSSH's extension for it.
func (f *Folder) Room(ctx context.Context) (room medium.Room, err error) {
	return room, f.do(ctx, "ask for room", "", func(s *sftp.Client) error {
		room = medium.Room{FreeBytes: -1, TotalBytes: -1, FreeInodes: -1, TotalInodes: -1}
		if _, ok := s.HasExtension("statvfs@openssh.com"); !ok {
			return nil
		}
		v, err := s.StatVFS(f.c.Folder)
		if err != nil {
			return err
		}
		room = medium.Room{FreeBytes: int64(v.Frsize * v.Bavail), TotalBytes: int64(v.TotalSpace()), FreeInodes: int64(v.Favail), TotalInodes: int64(v.Files)}
		return nil
	})
}

// Exposed implements [medium.Exposer].
func (f *Folder) Exposed(ctx context.Context, _ string) (text string, err error) {
	return text, f.do(ctx, "look at", "", func(s *sftp.Client) error {
		info, err := s.Stat(f.c.Folder)
		if err == nil && info.Mode().Perm()&0o005 == 0o005 {
			text = fmt.Sprintf("other accounts of %s may read %s; close it: chmod 700", f.c.Host, f.c.Folder)
		}
		return err
	})
}

// Close implements [medium.Medium].
func (f *Folder) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	if f.line != nil {
		f.line.close()
		f.line = nil
	}
	return nil
}

func (f *Folder) path(name string) string { return path.Join(f.c.Folder, name) }

// failed words an error and maps it onto the medium's own.
func (f *Folder) failed(verb, name string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s: %w", medium.Doing(verb, name, f), medium.ErrNotFound)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s: %w (%v)", medium.Doing(verb, name, f), medium.ErrNoRight, err)
	}
	return fmt.Errorf("%s: %w", medium.Doing(verb, name, f), err)
}
