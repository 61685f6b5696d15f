// Package ftp is the medium of a folder on a server that speaks FTP (RFC 959), with TLS (RFC 4217, or from the first byte on) or without.
package ftp

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/textproto"
	"path"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"

	"keenlodge/internal/store/medium"
)

// Security says whether the line is encrypted.
type Security string

const (
	// Explicit asks for encryption once the line is there, Implicit speaks TLS from the first byte on, None does neither.
	Explicit Security = "explicit"
	Implicit Security = "implicit"
	None     Security = "none"
)

// Securities lists all.
var Securities = []Security{Explicit, Implicit, None}

// Config says where the folder is.
type Config struct {
	Host string
	Port int // 0 is 21, and 990 with implicit TLS
	User string
	// Folder is an absolute path on the server; it must exist.
	Folder   string
	Password string
	TLS      Security // "" is explicit
	// Certificate is the digest of the server's (sha256:…) where no authority vouches for it.
	Certificate string

	// data reaches an address at which data is sent, for tests; nil is the usual way.
	data func(address string) (net.Conn, error)
}

const (
	// tries is how often something is begun whose line was cut.
	tries = 4
	// linesAtOnce bounds the connections at once: servers allow few.
	linesAtOnce = 6
	// dialTime is how long a server may take to answer, idle how long a line that nobody uses is kept.
	dialTime, idle = 30 * time.Second, 30 * time.Second
)

// Folder is a folder on a server. It implements [medium.Medium].
type Folder struct {
	c     Config
	tls   *tls.Config
	slots chan struct{}

	mu     sync.Mutex
	lines  []*line
	made   medium.Made
	closed bool
}

// line is a connection with its data connections; the protocol does one thing at a time on each.
type line struct {
	*ftp.ServerConn
	used   time.Time
	broken bool // what was asked of it came, and its end did not

	mu    sync.Mutex
	conns []net.Conn
}

// cut ends all that the line waits for.
func (l *line) cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range l.conns {
		c.Close()
	}
}

// Open signs in and looks whether the folder is there.
func Open(ctx context.Context, c Config) (*Folder, error) {
	if !path.IsAbs(c.Folder) {
		return nil, fmt.Errorf("folder %q on %s: not an absolute path; write it from / on", c.Folder, c.Host)
	}
	f := &Folder{c: c, tls: medium.TLS(c.Host, c.Certificate), slots: make(chan struct{}, linesAtOnce), made: medium.Made{Top: c.Folder}}
	err := f.do(ctx, "open", "", func(l *line) error {
		if err := l.ChangeDir(c.Folder); isMissing(err) {
			return medium.ErrNoPlace
		} else if err != nil {
			return err
		}
		return l.ChangeDir("/")
	})
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (f *Folder) String() string { return fmt.Sprintf("folder %s on %s", f.c.Folder, f.c.Host) }

func (f *Folder) dial(ctx context.Context) (*line, error) {
	l := &line{}
	secure := f.tls.Clone()
	secure.ClientSessionCache = tls.NewLRUClientSessionCache(1) // servers want data on the session of its own line
	port := f.c.Port
	if port == 0 {
		port = map[bool]int{true: 990, false: 21}[f.c.TLS == Implicit]
	}
	dialer := &net.Dialer{Timeout: dialTime}
	// Data goes to the host that was named, whatever address the server tells: a stranger's could be any.
	open := func(network, address string) (net.Conn, error) {
		_, to, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		address = net.JoinHostPort(f.c.Host, to)
		var c net.Conn
		if len(l.conns) > 0 && f.c.data != nil {
			c, err = f.c.data(address)
		} else {
			c, err = dialer.DialContext(ctx, network, address)
		}
		if err != nil {
			return nil, err
		}
		l.mu.Lock()
		l.conns = append(l.conns, c)
		if len(l.conns) > 8 { // the control connection, and those of data that may still be open
			l.conns = append(l.conns[:1], l.conns[len(l.conns)-4:]...)
		}
		l.mu.Unlock()
		if len(l.conns) > 1 && f.c.TLS != None || f.c.TLS == Implicit {
			return tls.Client(c, secure), nil
		}
		return c, nil
	}
	options := []ftp.DialOption{ftp.DialWithDialFunc(open), ftp.DialWithContext(ctx), ftp.DialWithShutTimeout(time.Minute), ftp.DialWithForceListHidden(false)}
	switch f.c.TLS {
	case Explicit, "":
		options = append(options, ftp.DialWithExplicitTLS(secure))
	case Implicit:
		options = append(options, ftp.DialWithTLS(secure))
	}
	stop := context.AfterFunc(ctx, l.cut)
	defer stop()
	var err error
	if l.ServerConn, err = ftp.Dial(net.JoinHostPort(f.c.Host, fmt.Sprint(port)), options...); err != nil {
		if errors.Is(err, medium.ErrRefused) || errors.As(err, new(*tls.CertificateVerificationError)) {
			return nil, err
		}
		return nil, fmt.Errorf("%w: %v", medium.ErrUnreachable, err)
	}
	if err := l.Login(f.c.User, f.c.Password); err != nil {
		l.Quit()
		var answer *textproto.Error
		if errors.As(err, &answer) && answer.Code == ftp.StatusNotLoggedIn {
			return nil, fmt.Errorf("%w: user %s: %v", medium.ErrRefused, f.c.User, answer.Msg)
		}
		return nil, err
	}
	return l, nil
}

// take gives a line that is free, or a new one; give puts it back.
func (f *Folder) take(ctx context.Context) (*line, error) {
	select {
	case f.slots <- struct{}{}:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	f.mu.Lock()
	if f.closed {
		f.mu.Unlock()
		<-f.slots
		return nil, errors.New("it was closed")
	}
	for len(f.lines) > 0 {
		l := f.lines[len(f.lines)-1]
		f.lines = f.lines[:len(f.lines)-1]
		if time.Since(l.used) < idle {
			f.mu.Unlock()
			return l, nil
		}
		go l.Quit()
	}
	f.mu.Unlock()
	l, err := f.dial(ctx)
	if err != nil {
		<-f.slots
	}
	return l, err
}

func (f *Folder) give(l *line, whole bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	<-f.slots
	if l.used = time.Now(); whole && !f.closed {
		f.lines = append(f.lines, l)
		return
	}
	l.cut()
}

// do carries something out, and does it again on a new line where the old one was cut. Everything here may be done twice.
func (f *Folder) do(ctx context.Context, verb, name string, act func(*line) error) error {
	for n := 0; ; n++ {
		l, err := f.take(ctx)
		if err == nil {
			stop := context.AfterFunc(ctx, l.cut)
			err = act(l)
			stop()
			f.give(l, !l.broken && (err == nil || answered(err)))
			if err == nil || answered(err) {
				return f.failed(ctx, verb, name, err)
			}
			err = fmt.Errorf("%w: %v", medium.ErrUnreachable, err)
		}
		if !errors.Is(err, medium.ErrUnreachable) || n == tries-1 || ctx.Err() != nil {
			return f.failed(ctx, verb, name, err)
		}
		select {
		case <-ctx.Done():
			return f.failed(ctx, verb, name, context.Cause(ctx))
		case <-time.After(time.Duration(200<<n) * time.Millisecond):
		}
	}
}

// code is the server's answer, 0 where there was none.
func code(err error) int {
	var answer *textproto.Error
	if errors.As(err, &answer) {
		return answer.Code
	}
	return 0
}

// answered reports whether the server said no, so that its line is whole.
func answered(err error) bool {
	for _, own := range []error{medium.ErrEnd, medium.ErrNoPlace, medium.ErrFull, medium.ErrTooLarge, medium.ErrNotFound} {
		if errors.Is(err, own) {
			return true
		}
	}
	// 421 says goodbye, 425 and 426 tell of a data connection that broke.
	c := code(err)
	return c != 0 && c != ftp.StatusNotAvailable && c != ftp.StatusCanNotOpenDataConnection && c != ftp.StatusTransfertAborted
}

// isMissing reports whether the server has one answer for all that it does not do with a file, mostly because it is not there.
func isMissing(err error) bool { return code(err) == ftp.StatusFileUnavailable }

// Put implements [medium.Medium]. The protocol has no word that something is durable; it is put under a name of its own, its length is asked, and it is
// renamed.
func (f *Folder) Put(ctx context.Context, name string, content []byte) error {
	return f.do(ctx, "write", name, func(l *line) error {
		target := f.path(name)
		folder := path.Dir(target)
		if err := f.made.Make(folder, func(name string) error { return makeFolder(l, name) }); err != nil {
			return err
		}
		part := medium.Part(folder)
		err := l.Stor(part, bytes.NewReader(content))
		if c := code(err); c == ftp.StatusExceededStorage || c == 452 || c == 451 { // 452: no room (RFC 959); 451: could not write
			err = fmt.Errorf("%w (%v)", medium.ErrFull, err)
		}
		if err == nil { // some servers take what they have no room for, and say that all is well
			var size int64
			if size, err = l.FileSize(part); err == nil && size != int64(len(content)) {
				err = fmt.Errorf("%w: of %d bytes the server kept %d, and said that all is well", medium.ErrFull, len(content), size)
			}
		}
		if err == nil {
			err = l.Rename(part, target)
		}
		if err == nil {
			return nil
		}
		if isMissing(err) { // somebody removed the folder
			f.made.Forget(folder)
		}
		if answered(err) {
			l.Delete(part)
			return err
		}
		// What ended in the middle may have had no room left: only the server's free space could tell, which it does not.
		return err // the part is found by its name, a day later
	})
}

// makeFolder makes one folder. That another writer made it just now is no error.
func makeFolder(l *line, folder string) error {
	if err := l.MakeDir(folder); err != nil {
		if looked := l.ChangeDir(folder); looked != nil {
			return err
		}
	}
	return nil
}

// Get implements [medium.Medium]. The protocol knows where to begin and not where to end, so what is wanted is taken and the rest left.
func (f *Folder) Get(ctx context.Context, name string, offset, length int64) (out []byte, err error) {
	return out, f.do(ctx, "read", name, func(l *line) error {
		size, err := l.FileSize(f.path(name))
		if isMissing(err) {
			return medium.ErrNotFound
		}
		if err != nil {
			return err
		}
		want := length
		if length < 0 {
			want = size - offset
		}
		if offset > size || want < 0 || offset+want > size {
			return medium.ErrEnd
		}
		if err := medium.CheckWhole(want); err != nil {
			return err
		}
		if out = make([]byte, want); want == 0 {
			return nil
		}
		data, err := l.RetrFrom(f.path(name), uint64(offset))
		if err != nil {
			return err
		}
		_, err = io.ReadFull(data, out)
		ended := data.Close()
		if err == nil && ended != nil {
			// All is there. It was told to stop before the end, and says in one way or another that it did, or its line broke just now.
			c := code(ended)
			if l.broken = c == 0; l.broken || offset+want < size && (c == ftp.StatusTransfertAborted || c == ftp.StatusActionAborted || c == ftp.StatusFileUnavailable) {
				return nil
			}
		}
		return errors.Join(err, ended)
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
	return medium.Folders{AtOnce: linesAtOnce, Of: func(ctx context.Context, folder string) (found []medium.Entry, err error) {
		return found, f.do(ctx, "list", folder, func(l *line) error {
			// From within, for a folder's name may look like an option, and a list of what is not there looks empty on some servers.
			if err := l.ChangeDir(f.path(folder)); isMissing(err) {
				return nil
			} else if err != nil {
				return err
			}
			entries, err := l.List("")
			found = nil
			for _, e := range entries {
				if e.Name != "." && e.Name != ".." && e.Type != ftp.EntryTypeLink {
					found = append(found, medium.Entry{Object: medium.Object{Name: e.Name, Size: int64(e.Size), Modified: e.Time}, IsFolder: e.Type == ftp.EntryTypeFolder})
				}
			}
			return errors.Join(err, l.ChangeDir("/"))
		})
	}}
}

// Stat implements [medium.Medium].
func (f *Folder) Stat(ctx context.Context, name string) (o medium.Object, err error) {
	return o, f.do(ctx, "look at", name, func(l *line) error {
		size, err := l.FileSize(f.path(name))
		if isMissing(err) {
			return medium.ErrNotFound
		}
		if err != nil {
			return err
		}
		modified, err := l.GetTime(f.path(name))
		o = medium.Object{Name: name, Size: size, Modified: modified}
		return err
	})
}

// Delete implements [medium.Medium].
func (f *Folder) Delete(ctx context.Context, name string) error {
	return f.do(ctx, "delete", name, func(l *line) error {
		err := l.Delete(f.path(name))
		if isMissing(err) {
			if _, looked := l.FileSize(f.path(name)); isMissing(looked) {
				return nil
			}
		}
		return err
	})
}

// Room implements [medium.Medium]: the protocol can't tell.
func (f *Folder) Room(context.Context) (medium.Room, error) {
	return medium.Room{FreeBytes: -1, TotalBytes: -1, FreeInodes: -1, TotalInodes: -1}, nil
}

// Lasts implements [medium.Lasting].
func (f *Folder) Lasts(context.Context) (string, error) {
	return "this protocol has no word for it: an image that has just been made may be lost in a power cut of the server, unless that writes through by itself", nil
}

// Exposed implements [medium.Exposer].
func (f *Folder) Exposed(context.Context, string) (string, error) {
	if f.c.TLS == None {
		return "the line is not encrypted, password and all; leave out tls: none", nil
	}
	return "", nil
}

// Close implements [medium.Medium].
func (f *Folder) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	for _, l := range f.lines {
		l.Quit()
		l.cut()
	}
	f.lines = nil
	return nil
}

func (f *Folder) path(name string) string { return path.Join(f.c.Folder, name) }

// failed words an error and maps it onto the medium's own.
func (f *Folder) failed(ctx context.Context, verb, name string, err error) error {
	if err == nil {
		return nil
	}
	if ctx.Err() != nil && !errors.Is(err, medium.ErrUnreachable) {
		err = errors.Join(context.Cause(ctx), err)
	}
	for _, own := range []error{medium.ErrNoPlace, medium.ErrFull, medium.ErrTooLarge, medium.ErrNotFound, medium.ErrRefused, medium.ErrUnreachable, medium.ErrEnd} {
		if errors.Is(err, own) {
			return fmt.Errorf("%s: %w", medium.Doing(verb, name, f), err)
		}
	}
	if isMissing(err) || code(err) == ftp.StatusStorNeedAccount {
		return fmt.Errorf("%s: %w (%v)", medium.Doing(verb, name, f), medium.ErrNoRight, err)
	}
	return fmt.Errorf("%s: %w", medium.Doing(verb, name, f), err)
}
