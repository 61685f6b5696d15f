package islet

import (
	"context"
	"crypto/rand"
	"net"
	"net/http"
	"time"

	"keenlodge/internal/nbd"
	"keenlodge/internal/standin"
)

// ticketTime is how long a disk that was lent waits for somebody to read it.
const ticketTime = time.Minute

// ticket lends a disk of a snapshot to whoever knows its name. It ends with the host, the snapshot and its connection.
type ticket struct {
	guest, snapshot, host string
	used                  bool
	disk                  moment
	ctx                   context.Context
	end                   context.CancelFunc
}

// Lent is where a disk can be read: an NBD server, which begins with TLS and shows the certificate of this interface, and the name of an export there.
type Lent struct {
	Address string `json:"address"`
	Export  string `json:"export"`
}

func (v *islet) lend(r *http.Request) (any, error) {
	g, s, d, err := v.ofDisk(r)
	if err != nil {
		return nil, err
	}
	o, l, err := v.at(d)
	if err != nil {
		return nil, err
	}
	t := &ticket{guest: g.ID, snapshot: s.ID, host: g.Host, disk: moment{o, l}}
	t.ctx, t.end = context.WithCancel(v.ctx)
	out := Lent{Export: rand.Text()}
	for _, h := range v.hosts {
		if h.Name == g.Host {
			out.Address = h.NBD
		}
	}
	if out.Address == "" {
		return nil, standin.Refuse(http.StatusConflict, "guest %s is on host %s, which is not there", g.Name, g.Host)
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.tickets[out.Export] = t
	time.AfterFunc(ticketTime, func() { v.expire(out.Export) })
	return out, nil
}

// expire ends a ticket that nobody uses.
func (v *islet) expire(export string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if t := v.tickets[export]; t != nil && !t.used {
		delete(v.tickets, export)
	}
}

// endTickets ends those that are meant, and the connections that use them.
func (v *islet) endTickets(meant func(t *ticket) bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for export, t := range v.tickets {
		if meant(t) {
			delete(v.tickets, export)
			t.end()
		}
	}
}

// offer offers what was lent on a host.
func (v *islet) offer(l net.Listener, host string) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		v.ending.Go(func() {
			defer conn.Close()
			ctx, end := context.WithCancel(v.ctx)
			defer end()
			_ = nbd.ServeSecure(ctx, conn, v.Secure, func(name string) (nbd.Export, bool) { // why a reader went is no matter here
				v.mu.Lock()
				defer v.mu.Unlock()
				t, ok := v.tickets[name]
				if !ok || t.host != host {
					return nbd.Export{}, false
				}
				t.used = true
				context.AfterFunc(t.ctx, end)
				return nbd.Export{Name: name, Disk: t.disk}, true
			})
		})
	}
}
