package daemon

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path"
	"sync"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/reach"
)

// Lends reports whether something can be offered to what runs guests on the host: on this one, and on one that is reached by SSH.
func (c *Conn) Lends() bool {
	_, tls := c.Way.(*TLS)
	return !tls
}

// settleSocket makes way for a socket; dressSocket gives it to the account that runs guests, or where none is named ($3) to that of the file beside it
// ($2). Who may not give it away lets that account open it by an access control list.
const (
	settleSocket = `[ ! -S "$1" ] || rm -f "$1"`
	dressSocket  = `ids=$3; [ -n "$ids" ] || ids=$(stat -c %u:%g "$2") || exit 1
[ "$(stat -c %u "$1")" != "${ids%:*}" ] || exit 0
chown "$ids" "$1" 2>/dev/null || setfacl -m "u:${ids%:*}:rw" "$1"`
)

// ListenThere listens at a Unix socket of a host that is reached by SSH (OpenSSH's PROTOCOL, section 2.4), over a line of its own: the listener ends
// with it. The socket is for root, the account that signs in, and one more ("uid:gid"), or that of the file beside it where none is named. It needs a
// shell there only where the account that signs in is not the one that runs guests, or where the SSH server leaves old sockets in the way;
// without one a socket stays when the listener is closed, and is of no use.
func (c *Conn) ListenThere(ctx context.Context, socket, beside, account string) (net.Listener, error) {
	w, ok := c.Way.(*SSH)
	if !ok {
		return nil, errors.New("only by SSH something can be offered on another host")
	}
	line, err := new(lane).get(ctx, w)
	if err != nil {
		return nil, err
	}
	fail := func(format string, args ...any) (net.Listener, error) {
		line.Close()
		return nil, fmt.Errorf("%w: offer a disk at %s of %s: %w", fault.ErrConflict, socket, w.address(), fmt.Errorf(format, args...))
	}
	const hint = "its SSH server must let sockets be made (AllowStreamLocalForwarding), and old ones be replaced (StreamLocalBindUnlink) where user %s has no shell; and that user must be allowed to write in %s"
	shell := w.shell(ctx, line, settleSocket, socket)
	if shell != nil { // then a socket whose line was cut stays in the way, unless the server itself takes it away
		if err := w.replaces(ctx, line, socket+".try"); err != nil {
			return fail("%w (%w); "+hint, err, shell, w.to.User, path.Dir(socket))
		}
	}
	l, err := line.ListenUnix(socket)
	if err != nil {
		return fail("%w; "+hint, err, w.to.User, path.Dir(socket))
	}
	if shell == nil {
		if err := w.shell(ctx, line, dressSocket, socket, beside, account); err != nil {
			return fail("give it to what runs guests: %w; sign in as root, or as the account that runs them, or install setfacl", err)
		}
	}
	return offered{l, sync.OnceValue(func() error {
		err := l.Close()
		if shell == nil { // the server leaves the socket where it is
			err = errors.Join(err, w.shell(context.WithoutCancel(ctx), line, settleSocket, socket))
		}
		return errors.Join(err, line.Close())
	})}, nil
}

// replaces tries whether the SSH server makes a socket where one is already.
func (w *SSH) replaces(ctx context.Context, line *reach.Line, socket string) error {
	first, err := line.ListenUnix(socket)
	if err != nil {
		return err
	}
	defer first.Close()
	other, err := new(lane).get(ctx, w)
	if err != nil {
		return err
	}
	defer other.Close()
	second, err := other.ListenUnix(socket)
	if err != nil {
		return err
	}
	return second.Close()
}

// offered is a listener with its line.
type offered struct {
	net.Listener
	close func() error
}

func (o offered) Close() error { return o.close() }

// shell runs a script on the host.
func (w *SSH) shell(ctx context.Context, line *reach.Line, script string, args ...string) error {
	s, err := line.NewSession()
	if err != nil {
		return fmt.Errorf("it gives no session: %w", err)
	}
	defer s.Close()
	command := "sh -c " + quoted(script) + " keenlodge"
	for _, a := range args {
		command += " " + quoted(a)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, AnswerTime, fmt.Errorf("no answer within %s", AnswerTime))
	defer cancel()
	defer context.AfterFunc(ctx, func() { s.Close() })()
	said, err := s.CombinedOutput(command)
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err != nil {
		return fmt.Errorf("%w: %s", err, plain.LastLine(string(said), 300))
	}
	return nil
}
