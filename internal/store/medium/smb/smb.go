// Package smb is the medium of a folder of a share that is reached by SMB 2 or 3 ([MS-SMB2]), such as Windows and Samba have them. Messages are signed, and
// encrypted where the server wants that.
package smb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"sync"
	"syscall"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"keenlodge/internal/store/medium"
)

// Config says where the folder is.
type Config struct {
	Host string
	Port int // 0 is 445
	User string
	// Domain is the account's, where it has one.
	Domain string
	Share  string
	// Folder is below the share's top; it must exist. "" is the top.
	Folder   string
	Password string
}

const (
	// tries is how often something is begun whose line was cut; dialTime is how long a server may take to answer.
	tries    = 4
	dialTime = 30 * time.Second
	// listsAtOnce is how many folders are listed side by side.
	listsAtOnce = 8
)

// What servers answer ([MS-ERREF], 2.3).
const (
	statusDiskFull       = 0xC000007F
	statusQuotaExceeded  = 0xC0000044
	statusLogonFailure   = 0xC000006D
	statusAccountLocked  = 0xC0000234
	statusBadNetworkName = 0xC00000CC
	statusNotADirectory  = 0xC0000103
	statusSessionGone    = 0xC0000203
	statusSessionExpired = 0xC000035C
	statusNameDeleted    = 0xC00000C9
)

// Folder is a folder of a share. It implements [medium.Medium].
type Folder struct {
	c Config

	mu     sync.Mutex
	line   *line
	made   medium.Made
	closed bool
}

// line is one connection, over which many requests go at once.
type line struct {
	conn    net.Conn
	session *smb2.Session
	share   *smb2.Share
}

// Open signs in and looks whether the folder is there.
func Open(ctx context.Context, c Config) (*Folder, error) {
	f := &Folder{c: c, made: medium.Made{Top: c.Folder}}
	err := f.do(ctx, "open", "", func(s *smb2.Share) error {
		if c.Folder == "" {
			_, err := s.ReadDir("")
			return err
		}
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

func (f *Folder) String() string {
	return fmt.Sprintf("folder %s on %s", path.Join("/", f.c.Share, f.c.Folder), f.c.Host)
}

// code is the server's answer, 0 where there was none.
func code(err error) uint32 {
	var answer *smb2.ResponseError
	if errors.As(err, &answer) {
		return answer.Code
	}
	return 0
}

func (f *Folder) dial(ctx context.Context) (*line, error) {
	ctx, end := context.WithTimeout(ctx, dialTime)
	defer end()
	port := f.c.Port
	if port == 0 {
		port = 445
	}
	address := net.JoinHostPort(f.c.Host, fmt.Sprint(port))
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", medium.ErrUnreachable, err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	d := &smb2.Dialer{Negotiator: smb2.Negotiator{RequireMessageSigning: true}, Initiator: &smb2.NTLMInitiator{User: f.c.User, Password: f.c.Password, Domain: f.c.Domain}}
	session, err := d.DialConn(ctx, conn, address)
	if err != nil {
		conn.Close()
		switch c := code(err); {
		case c == statusLogonFailure || c == statusAccountLocked:
			return nil, fmt.Errorf("%w: user %s: %v", medium.ErrRefused, f.c.User, err)
		case c != 0:
			return nil, err
		}
		return nil, fmt.Errorf("%w: %v", medium.ErrUnreachable, err)
	}
	share, err := session.WithContext(ctx).Mount(f.c.Share)
	if err != nil {
		conn.Close()
		if code(err) == statusBadNetworkName {
			err = fmt.Errorf("share %s %w", f.c.Share, medium.ErrNoPlace)
		}
		return nil, err
	}
	return &line{conn, session, share}, nil
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
		l.conn.Close()
	}
}

// do carries something out, and does it again on a new line where the old one was cut. Everything here may be done twice.
func (f *Folder) do(ctx context.Context, verb, name string, act func(*smb2.Share) error) error {
	for n := 0; ; n++ {
		l, err := f.connect(ctx)
		if err == nil {
			err = act(l.share.WithContext(ctx))
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

// isCut reports whether an error is of the line, or of a session that the server has ended, and not of the file.
func isCut(err error) bool {
	if err == nil || errors.Is(err, medium.ErrEnd) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return false
	}
	switch code(err) {
	case statusSessionGone, statusSessionExpired, statusNameDeleted:
		return true
	case 0:
	default:
		return false
	}
	var network net.Error
	return errors.As(err, new(*smb2.TransportError)) || errors.As(err, &network) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.As(err, new(*smb2.InvalidResponseError))
}

// Put implements [medium.Medium].
func (f *Folder) Put(ctx context.Context, name string, content []byte) error {
	return f.do(ctx, "write", name, func(s *smb2.Share) error {
		target := f.path(name)
		folder := path.Dir(target)
		if err := f.made.Make(folder, func(name string) error { return makeFolder(s, name) }); err != nil {
			return err
		}
		part := medium.Part(folder)
		err := writeFile(s, part, content)
		if err == nil {
			err = s.Rename(part, target)
		}
		if err == nil {
			return nil
		}
		if isCut(err) {
			return err // the part is found by its name, a day later
		}
		if errors.Is(err, fs.ErrNotExist) { // somebody removed the folder
			f.made.Forget(folder)
		}
		gone := s.Remove(part)
		if errors.Is(gone, fs.ErrNotExist) {
			gone = nil
		}
		// Who reads the same object just now keeps it from being replaced: it is there then, for nothing is written twice with another content.
		if info, looked := s.Stat(target); looked == nil && info.Size() == int64(len(content)) && !isFull(err) {
			return gone
		}
		return errors.Join(err, gone)
	})
}

func isFull(err error) bool {
	c := code(err)
	return c == statusDiskFull || c == statusQuotaExceeded
}

func writeFile(s *smb2.Share, name string, content []byte) (err error) {
	file, err := s.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
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
	return file.Sync()
}

// makeFolder makes one folder. That another writer made it just now is no error.
func makeFolder(s *smb2.Share, folder string) error {
	if err := s.Mkdir(folder, 0o700); err != nil {
		if info, looked := s.Stat(folder); looked != nil || !info.IsDir() {
			return err
		}
	}
	return nil
}

// Get implements [medium.Medium].
func (f *Folder) Get(ctx context.Context, name string, offset, length int64) (out []byte, err error) {
	return out, f.do(ctx, "read", name, func(s *smb2.Share) error {
		file, err := s.Open(f.path(name))
		if err != nil {
			return err
		}
		defer file.Close()
		info, err := file.Stat()
		if err != nil {
			return err
		}
		want := length
		if length < 0 {
			want = info.Size() - offset
		}
		if want < 0 || offset+want > info.Size() {
			return medium.ErrEnd
		}
		if err := medium.CheckWhole(want); err != nil {
			return err
		}
		if out = make([]byte, want); want == 0 {
			return nil
		}
		_, err = io.ReadFull(io.NewSectionReader(file, offset, want), out)
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
		return found, f.do(ctx, "list", folder, func(s *smb2.Share) error {
			infos, err := s.ReadDir(f.path(folder))
			if found = medium.Entries(infos); errors.Is(err, fs.ErrNotExist) || code(err) == statusNotADirectory {
				return nil
			}
			return err
		})
	}}
}

// Stat implements [medium.Medium].
func (f *Folder) Stat(ctx context.Context, name string) (o medium.Object, err error) {
	return o, f.do(ctx, "look at", name, func(s *smb2.Share) error {
		info, err := s.Stat(f.path(name))
		if err == nil {
			o = medium.Object{Name: name, Size: info.Size(), Modified: info.ModTime()}
		}
		return err
	})
}

// Delete implements [medium.Medium].
func (f *Folder) Delete(ctx context.Context, name string) error {
	return f.do(ctx, "delete", name, func(s *smb2.Share) error {
		if err := s.Remove(f.path(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	})
}

// Room implements [medium.Medium]; shares have no inodes.
func (f *Folder) Room(ctx context.Context) (room medium.Room, err error) {
	return room, f.do(ctx, "ask for room", "", func(s *smb2.Share) error {
		v, err := s.Statfs(f.c.Folder)
		if err != nil {
			return err
		}
		unit := int64(v.BlockSize())
		room = medium.Room{FreeBytes: unit * int64(v.AvailableBlockCount()), TotalBytes: unit * int64(v.TotalBlockCount()), FreeInodes: -1, TotalInodes: -1}
		return nil
	})
}

// Close implements [medium.Medium].
func (f *Folder) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	if f.line != nil {
		f.line.conn.Close()
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
	case isFull(err):
		return fmt.Errorf("%s: %w (%v)", medium.Doing(verb, name, f), medium.ErrFull, err)
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s: %w", medium.Doing(verb, name, f), medium.ErrNotFound)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s: %w (%v)", medium.Doing(verb, name, f), medium.ErrNoRight, err)
	}
	return fmt.Errorf("%s: %w", medium.Doing(verb, name, f), err)
}
