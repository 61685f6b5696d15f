package main

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// longLine is what a line carries in a second, in bytes, and how long what is said takes there and an answer back.
type longLine struct {
	rate int64
	trip time.Duration
}

// clock has what goes one way over a line wait for what is before it, on whichever connection.
type clock struct {
	mu   sync.Mutex
	free time.Time
}

// take is when so many bytes have gone that come now.
func (c *clock) take(n int, rate int64) time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); c.free.Before(now) {
		c.free = now
	}
	c.free = c.free.Add(time.Duration(int64(n) * int64(time.Second) / rate))
	return c.free
}

// mbit is a megabit a second, in bytes.
const mbit = 1_000_000 / 8

// far measures what it costs that a hypervisor is elsewhere: by SSH and TLS on loopback against its socket, and over a line.
func far(ctx context.Context, p *demo.Place, r *report) error {
	if err := p.Quay.OpenTLS(); err != nil {
		return err
	}
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	if err := p.Quay.OpenSSH(ctx); err != nil {
		return err
	}
	disk, err := l.rawDisk(ctx, "berth-sim", 2, "", "/usr/bin", "/usr/share")
	if err != nil {
		return err
	}
	ssh := p.Quay.OverSSH()
	var overSSH, overTLS, cipher []float64
	for i := range rounds {
		var socket, processor float64
		for _, way := range []string{"socket", "ssh", "tls"} {
			l.spec = map[string]site.Hypervisor{"socket": p.Quay.Spec(), "ssh": ssh, "tls": p.Quay.OverTLS()}[way]
			into := fmt.Sprintf("shelf-%s-%d", way, i)
			t, err := l.backup(ctx, into, "berth-sim", site.Store{})
			if err != nil {
				return err
			}
			switch way {
			case "socket":
				socket, processor = t.seconds, t.processor
			case "ssh":
				overSSH, cipher = append(overSSH, t.seconds/socket), append(cipher, t.processor-processor)
			case "tls":
				overTLS = append(overTLS, t.seconds/socket)
			}
			if err := l.drop(ctx, into); err != nil {
				return err
			}
		}
	}
	r.add("a full image by SSH on loopback, against the socket", "×", 1.25, overSSH...)
	r.add("more processor time of the service for a GiB by SSH", "s", 0, cipher...)
	r.add("a full image over TLS on loopback, against the socket", "×", 0, overTLS...)

	// Over the line a part of it will do.
	if err := shell("head -c 256M %s > %s", disk, l.file("berth-line.raw")); err != nil {
		return err
	}
	if err := l.guest(ctx, "berth-line", l.file("berth-line.raw"), "raw"); err != nil {
		return err
	}
	u, err := url.Parse(ssh.URI)
	if err != nil {
		return err
	}
	sshd := u.Host
	for _, line := range []longLine{{100 * mbit, 20 * time.Millisecond}, {400 * mbit, 60 * time.Millisecond}} {
		if u.Host, err = line.to(ctx, sshd); err != nil {
			return err
		}
		ssh.URI = u.String()
		l.spec = ssh
		var used []float64
		for i := range 3 {
			into := fmt.Sprintf("shelf-line-%d", i)
			t, err := l.backup(ctx, into, "berth-line", site.Store{})
			if err != nil {
				return err
			}
			reading, err := l.reading(ctx, "berth-line")
			if err != nil {
				return err
			}
			used = append(used, 100*float64(t.read)/reading/float64(line.rate))
			if err := l.drop(ctx, into); err != nil {
				return err
			}
		}
		r.add(fmt.Sprintf("a full image over a line of %d Mbit/s and %s: of the line used while the disk was read", line.rate/mbit, line.trip), "%", 0, used...)
	}
	return nil
}

// to makes such a line to an address, and gives the address of its near end.
func (k longLine) to(ctx context.Context, far string) (near string, err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	context.AfterFunc(ctx, func() { l.Close() })
	go func() {
		var out, back clock
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			end, err := net.Dial("tcp", far)
			if err != nil {
				near.Close()
				continue
			}
			go k.carry(near, end, &out)
			go k.carry(end, near, &back)
		}
	}()
	return l.Addr().String(), nil
}

// carry passes on what one side says, each piece when it would have come: after those before it, and the time that it is under way.
func (k longLine) carry(from, to net.Conn, way *clock) {
	type piece struct {
		body []byte
		due  time.Time
	}
	under := make(chan piece, 1024) // of 8 KiB: more than what is under way, as a router's queue has it
	go func() {
		defer to.Close()
		for p := range under {
			time.Sleep(time.Until(p.due))
			if _, err := to.Write(p.body); err != nil {
				from.Close()
				for range under {
				}
				return
			}
		}
	}()
	defer close(under)
	for {
		body := make([]byte, 8<<10)
		n, err := from.Read(body)
		if n > 0 {
			free := way.take(n, k.rate)
			under <- piece{body[:n], free.Add(k.trip / 2)}
		}
		if err != nil {
			return
		}
	}
}

// reading is how long the newest run read a machine's disks, in seconds.
func (l *lab) reading(ctx context.Context, name string) (seconds float64, err error) {
	c, err := l.p.Client()
	if err != nil {
		return 0, err
	}
	runs, _, err := c.Runs(ctx, wire.RunFilter{Page: wire.Page{Limit: 1}})
	if err != nil {
		return 0, err
	}
	run, err := c.Run(ctx, runs[0].ID)
	for _, t := range run.Tasks {
		for _, s := range t.Steps {
			if t.Machine == name && strings.HasPrefix(s.Name, "reading ") {
				seconds += time.Duration(s.Took).Seconds()
			}
		}
	}
	return seconds, err
}
