// Package webdav is the medium of a folder on a server that speaks WebDAV (RFC 4918), over HTTP or HTTPS.
package webdav

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/studio-b12/gowebdav"

	"keenlodge/internal/store/medium"
)

// Config says where the folder is.
type Config struct {
	// Address is the folder's, https:// or http://; it must exist.
	Address        string
	User, Password string
	// Certificate is the digest of the server's (sha256:…) where no authority vouches for it.
	Certificate string
}

const (
	// tries is how often something is begun whose line was cut.
	tries = 4
	// listsAtOnce is how many folders are listed side by side.
	listsAtOnce = 8
)

// Folder is a folder on a server. It implements [medium.Medium].
type Folder struct {
	c         Config
	transport *http.Transport
	root      string              // the address as the library wants it: it escapes the path itself
	auth      gowebdav.Authorizer // remembers how the server wants to be signed in to
	made      medium.Made
}

// Open signs in and looks whether the folder is there.
func Open(ctx context.Context, c Config) (*Folder, error) {
	u, err := url.Parse(c.Address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil, fmt.Errorf("address %q: not one; write for example https://files.brindle.example/images, with no password in it", c.Address)
	}
	f := &Folder{c: c, root: u.Scheme + "://" + u.Host + u.Path, transport: http.DefaultTransport.(*http.Transport).Clone()}
	f.transport.TLSClientConfig = medium.TLS(u.Hostname(), c.Certificate)
	f.transport.MaxIdleConnsPerHost = 16
	if f.auth = gowebdav.NewEmptyAuth(); c.User != "" {
		f.auth = gowebdav.NewAutoAuth(c.User, c.Password)
	}
	f.transport.ResponseHeaderTimeout = 2 * time.Minute
	err = f.do(ctx, "open", "", func(dav *gowebdav.Client) error {
		_, err := dav.ReadDir("/")
		if gowebdav.IsErrNotFound(err) {
			return medium.ErrNoPlace
		}
		return err
	})
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (f *Folder) String() string { return "folder " + f.c.Address }

// bound has requests end with a context: the library knows none.
type bound struct {
	ctx  context.Context
	next http.RoundTripper
}

func (b bound) RoundTrip(r *http.Request) (*http.Response, error) {
	return b.next.RoundTrip(r.WithContext(b.ctx))
}

// do carries something out, and again where the line was cut. Everything here may be done twice.
func (f *Folder) do(ctx context.Context, verb, name string, act func(*gowebdav.Client) error) error {
	dav := gowebdav.NewAuthClient(f.root, f.auth)
	dav.SetTransport(bound{ctx, f.transport})
	for n := 0; ; n++ {
		err := act(dav)
		if err == nil || !isCut(err) || n == tries-1 || ctx.Err() != nil {
			return f.failed(ctx, verb, name, err)
		}
		select {
		case <-ctx.Done():
			return f.failed(ctx, verb, name, context.Cause(ctx))
		case <-time.After(time.Duration(200<<n) * time.Millisecond):
		}
	}
}

// status is the server's answer, 0 where there was none.
func status(err error) int {
	var s gowebdav.StatusError
	if errors.As(err, &s) {
		return s.Status
	}
	return 0
}

// isCut reports whether an error is of the line, or of a server that is not ready just now.
func isCut(err error) bool {
	if errors.Is(err, medium.ErrEnd) || errors.Is(err, medium.ErrRefused) {
		return false
	}
	var network net.Error
	s := status(err)
	return s == http.StatusBadGateway || s == http.StatusServiceUnavailable || s == http.StatusGatewayTimeout || s == http.StatusTooManyRequests ||
		s == 0 && (errors.As(err, &network) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.Is(err, net.ErrClosed))
}

// renames is how often a part that is there is renamed again whose server says that something is not.
const renames = 3

// Put implements [medium.Medium]. The protocol has no word that something is durable; it is put under a name of its own, looked at, and renamed.
func (f *Folder) Put(ctx context.Context, name string, content []byte) error {
	return f.do(ctx, "write", name, func(dav *gowebdav.Client) error {
		folder := path.Dir(name)
		if err := f.made.Make(folder, func(name string) error { return makeFolder(dav, name) }); err != nil {
			return err
		}
		part := medium.Part(folder)
		err := dav.Write(part, content, 0)
		if err == nil { // some servers take what they have no room for, and say that all is well
			var info fs.FileInfo
			if info, err = dav.Stat(part); err == nil && info.Size() != int64(len(content)) {
				err = fmt.Errorf("%w: of %d bytes the server kept %d, and said that all is well", medium.ErrFull, len(content), info.Size())
			}
		}
		if err == nil {
			err = dav.Rename(part, name, true)
		}
		// Of several that put one object at once, one may find that another's, which it was to replace, went just now.
		for n := 0; n < renames && status(err) == http.StatusNotFound; n++ {
			if _, lost := dav.Stat(part); lost != nil {
				break
			}
			err = dav.Rename(part, name, true)
		}
		if err == nil {
			return nil
		}
		if s := status(err); s == http.StatusConflict || s == http.StatusNotFound { // somebody removed the folder
			f.made.Forget(folder)
		}
		if !isCut(err) {
			return errors.Join(err, ignoring(dav.Remove(part), http.StatusNotFound))
		}
		return err // the part is found by its name, a day later
	})
}

// ignoring is an error but for some answers.
func ignoring(err error, answers ...int) error {
	if slices.Contains(answers, status(err)) {
		return nil
	}
	return err
}

// makeFolder makes one folder. That another writer made it just now is no error.
func makeFolder(dav *gowebdav.Client, folder string) error {
	if err := dav.Mkdir(folder, 0); err != nil && status(err) != http.StatusMethodNotAllowed {
		// One that another writer made just now is told of in many ways.
		if info, looked := dav.Stat(folder); looked != nil || !info.IsDir() {
			return err
		}
	}
	return nil
}

// Get implements [medium.Medium].
func (f *Folder) Get(ctx context.Context, name string, offset, length int64) (out []byte, err error) {
	return out, f.do(ctx, "read", name, func(dav *gowebdav.Client) error {
		want := length
		if length <= 0 || offset > 0 {
			info, err := dav.Stat(name)
			if err != nil {
				return err
			}
			left := info.Size() - offset
			if left < 0 || length > left {
				return medium.ErrEnd
			}
			if length < 0 {
				want = left
			}
		}
		if err := medium.CheckWhole(want); err != nil {
			return err
		}
		out = make([]byte, want)
		if want == 0 {
			return nil
		}
		body, err := dav.ReadStreamRange(name, offset, want)
		if err != nil {
			return err
		}
		defer body.Close()
		n, err := io.ReadFull(body, out)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			if info, looked := dav.Stat(name); looked == nil && info.Size() <= offset+int64(n) {
				return medium.ErrEnd
			}
			err = io.ErrUnexpectedEOF // the line was cut
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
		return found, f.do(ctx, "list", folder, func(dav *gowebdav.Client) error {
			infos, err := dav.ReadDir("/" + folder)
			found = medium.Entries(infos)
			return ignoring(err, http.StatusNotFound)
		})
	}}
}

// Stat implements [medium.Medium].
func (f *Folder) Stat(ctx context.Context, name string) (o medium.Object, err error) {
	return o, f.do(ctx, "look at", name, func(dav *gowebdav.Client) error {
		info, err := dav.Stat(name)
		if err == nil {
			o = medium.Object{Name: name, Size: info.Size(), Modified: info.ModTime()}
		}
		return err
	})
}

// Delete implements [medium.Medium].
func (f *Folder) Delete(ctx context.Context, name string) error {
	return f.do(ctx, "delete", name, func(dav *gowebdav.Client) error { return ignoring(dav.Remove(name), http.StatusNotFound) })
}

// Room implements [medium.Medium]: the library does not ask for quotas (RFC 4331), and most servers have none.
func (f *Folder) Room(context.Context) (medium.Room, error) {
	return medium.Room{FreeBytes: -1, TotalBytes: -1, FreeInodes: -1, TotalInodes: -1}, nil
}

// Lasts implements [medium.Lasting].
func (f *Folder) Lasts(context.Context) (string, error) {
	return "this protocol has no word for it: an image that has just been made may be lost in a power cut of the server, unless that writes through by itself", nil
}

// Exposed implements [medium.Exposer]: it asks for the object as a stranger does.
func (f *Folder) Exposed(ctx context.Context, name string) (string, error) {
	if strings.HasPrefix(f.c.Address, "http://") {
		return "the line is not encrypted, password and all; use an https:// address", nil
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(f.c.Address, "/")+"/"+name, nil)
	if err != nil {
		return "", err
	}
	answer, err := (&http.Client{Transport: f.transport, Timeout: 30 * time.Second}).Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusOK {
		return "everyone who knows the address can read " + f.c.Address + "; close it for strangers", nil
	}
	return "", nil
}

// Close implements [medium.Medium].
func (f *Folder) Close() error {
	f.transport.CloseIdleConnections()
	return nil
}

// failed words an error and maps it onto the medium's own.
func (f *Folder) failed(ctx context.Context, verb, name string, err error) error {
	if err == nil {
		return nil
	}
	var kind error
	switch s := status(err); {
	case ctx.Err() != nil:
		kind = context.Cause(ctx)
	case errors.Is(err, medium.ErrNoPlace) || errors.Is(err, medium.ErrRefused) || errors.Is(err, medium.ErrFull) || errors.Is(err, medium.ErrTooLarge) || errors.Is(err, io.ErrUnexpectedEOF) && errors.Is(err, medium.ErrEnd):
		return fmt.Errorf("%s: %w", medium.Doing(verb, name, f), err)
	case s == http.StatusNotFound:
		kind = medium.ErrNotFound
	case s == http.StatusUnauthorized:
		kind = medium.ErrRefused
	case s == http.StatusForbidden:
		kind = medium.ErrNoRight
	case s == http.StatusInsufficientStorage || s == http.StatusRequestEntityTooLarge:
		kind = medium.ErrFull
	case isCut(err):
		kind = medium.ErrUnreachable
	default:
		return fmt.Errorf("%s: %w", medium.Doing(verb, name, f), err)
	}
	return fmt.Errorf("%s: %w (%v)", medium.Doing(verb, name, f), kind, err)
}
