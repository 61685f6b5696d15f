package daemon

import (
	"context"
	"fmt"
	"net"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
)

// Own is a connection that is not made anew when it breaks: the daemon ends with it what was started over it.
type Own struct {
	L    *golibvirt.Libvirt
	conn net.Conn
}

// Another makes a connection of its own to the same daemon. Close it.
func (c *Conn) Another(ctx context.Context) (*Own, error) {
	conn, err := c.Way.Daemon(ctx)
	if err != nil {
		return nil, fmt.Errorf("libvirt at %s %w", c.Way.Place(), err)
	}
	o := &Own{golibvirt.NewWithDialer(dialed{conn}), conn}
	err = o.Within(ctx, AnswerTime, "sign in to libvirt at "+c.Way.Place(), func() error {
		return o.L.ConnectToURI(golibvirt.ConnectURI("qemu://" + c.path))
	})
	if err != nil {
		conn.Close()
		return nil, err
	}
	return o, nil
}

// Within makes a call that may take so long. When the time is up the connection is closed.
func (o *Own) Within(ctx context.Context, limit time.Duration, what string, call func() error) error {
	one := &Conn{L: o.L, conn: o.conn}
	return one.call(ctx, limit, what, call)
}

// Close ends it.
func (o *Own) Close() { o.conn.Close() }
