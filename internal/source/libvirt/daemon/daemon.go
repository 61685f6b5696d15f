// Package daemon speaks with libvirt's daemons: it reaches them on this host, by SSH and by TLS, makes calls within limits of time, and reads and
// writes small files of their hosts.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"

	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
)

// Marked begins the name of all that we make on a hypervisor.
const Marked = "keenlodge-"

// AnswerTime is how long libvirt may take to answer an ordinary call.
const AnswerTime = 20 * time.Second

// Conn is a connection to a libvirt daemon, which is made anew when it breaks. Calls may be made at the same time.
type Conn struct {
	uri  string
	path string // of the address: /system or /session
	Way
	once sync.Once

	// mu is held for writing while the connection is made anew, and for reading during each call.
	mu   sync.RWMutex
	conn net.Conn
	// L makes the calls, within [Conn.Within] only.
	L *golibvirt.Libvirt
	// dead says that the connection can't be used any more: a call took too long, or the daemon went.
	dead atomic.Bool
}

// Dial connects to a libvirt daemon: on this host ("qemu:///system", or "qemu+unix:///session?socket=/path" for one with a socket of its
// own), or on another by SSH ("qemu+ssh://user@host/system") or TLS ("qemu+tls://host/system").
func Dial(ctx context.Context, spec site.Hypervisor) (*Conn, error) {
	u, w, err := Parse(spec)
	if err != nil {
		return nil, err
	}
	c := At(w)
	c.uri, c.path = spec.URI, u.Path
	if err := c.again(ctx); err != nil {
		w.hangUp()
		return nil, err
	}
	return c, nil
}

// At is a connection that is made when it is first used.
func At(w Way) *Conn {
	c := &Conn{Way: w}
	c.dead.Store(true)
	return c
}

// dial makes the connection, or makes it anew.
func (c *Conn) dial(ctx context.Context) error {
	conn, err := c.Way.Daemon(ctx)
	if err != nil {
		return fmt.Errorf("libvirt at %s %w", c.Way.Place(), err)
	}
	c.conn, c.L = conn, golibvirt.NewWithDialer(dialed{conn})
	c.dead.Store(false)
	err = c.call(ctx, AnswerTime, "sign in to libvirt at "+c.Way.Place(), func() error {
		return c.L.ConnectToURI(golibvirt.ConnectURI("qemu://" + c.path))
	})
	if err != nil {
		conn.Close()
		c.dead.Store(true)
	}
	return err
}

// dialed hands an open connection to the library.
type dialed struct{ net.Conn }

func (d dialed) Dial() (net.Conn, error) { return d.Conn, nil }

// Within makes a call that may take so long. The protocol has no way to take a call back, so when the time is up the connection is closed,
// which ends the wait; the daemon may still carry the call out. The next call makes a new connection, so that clearing up is possible after
// any failure, and after the daemon was started anew.
func (c *Conn) Within(ctx context.Context, limit time.Duration, what string, call func() error) error {
	c.mu.RLock()
	for c.dead.Load() || !c.L.IsConnected() {
		c.mu.RUnlock()
		if err := c.again(ctx); err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		c.mu.RLock()
	}
	defer c.mu.RUnlock()
	return c.call(ctx, limit, what, call)
}

// again makes a new connection in place of one that is dead.
func (c *Conn) again(ctx context.Context) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.dead.Load() && c.L.IsConnected() {
		return nil // somebody else has made it
	}
	if c.conn != nil {
		c.conn.Close()
	}
	return c.dial(ctx)
}

// abandonTime is how long after its connection was closed a call may take to come back before nobody waits for it any more. Tests shorten it.
var abandonTime = 5 * time.Second

func (c *Conn) call(ctx context.Context, limit time.Duration, what string, call func() error) error {
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("%w within %s", source.ErrUnreachable, limit))
	defer cancel()
	stop := context.AfterFunc(ctx, func() { c.conn.Close() })
	defer stop()
	done := make(chan error, 1)
	go func() { done <- call() }()
	var err error
	select {
	case err = <-done:
	case <-ctx.Done():
		select {
		case err = <-done:
		case <-time.After(abandonTime): // the library waits for itself (it does where a stream's last packet comes behind its end), which nothing ends
			err = context.Cause(ctx)
		}
	}
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		err = context.Cause(ctx)
		c.dead.Store(true)
	} else if cut(err) {
		c.dead.Store(true)
		err = fmt.Errorf("%w: the connection to libvirt broke (was its daemon started anew?): %w", source.ErrUnreachable, err)
	}
	if IsCode(err, golibvirt.ErrOperationTimeout, golibvirt.ErrAgentUnresponsive, golibvirt.ErrResourceBusy) {
		return fmt.Errorf("%s: %w: %w", what, source.ErrBusy, err)
	}
	return fmt.Errorf("%s: %w", what, err)
}

// cut reports whether an error is the connection's. The library tells of one that is closed already by EINVAL.
func cut(err error) bool {
	for _, e := range []error{io.EOF, io.ErrUnexpectedEOF, net.ErrClosed, os.ErrClosed, syscall.EINVAL, syscall.EPIPE, syscall.ECONNRESET, golibvirt.ErrInterrupted} {
		if errors.Is(err, e) {
			return !errors.As(err, new(golibvirt.Error))
		}
	}
	return errors.As(err, new(*net.OpError))
}

// Close ends the connection.
func (c *Conn) Close() error {
	c.once.Do(func() {
		c.mu.RLock()
		defer c.mu.RUnlock()
		defer c.Way.hangUp()
		if c.conn == nil {
			return
		}
		stop := time.AfterFunc(2*time.Second, func() { c.conn.Close(); c.Way.hangUp() })
		defer stop.Stop()
		c.L.Disconnect()
		c.conn.Close()
	})
	return nil
}

// IsCode reports whether libvirt answered with one of its error numbers.
func IsCode(err error, codes ...golibvirt.ErrorNumber) bool {
	var e golibvirt.Error
	return errors.As(err, &e) && slices.Contains(codes, golibvirt.ErrorNumber(e.Code))
}

// URI is the daemon's address; IsSystem reports whether it is the system's, and not a session's.
func (c *Conn) URI() string    { return c.uri }
func (c *Conn) IsSystem() bool { return c.path == "/system" }

// IsHere reports whether the daemon is on this host.
func (c *Conn) IsHere() bool { _, local := c.Way.(Local); return local }
