// Package line has lines to measure over that are as thin and as long as one asks for.
package line

import (
	"context"
	"net"
	"sync"
	"time"
)

// Line is what a line carries in a second, in bytes, and how long what is said takes there and an answer back.
type Line struct {
	Rate int64
	Trip time.Duration
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

// Mbit is a megabit a second, in bytes.
const Mbit = 1_000_000 / 8

// To makes such a line to an address, and gives the address of its near end.
func (k Line) To(ctx context.Context, far string) (near string, err error) {
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
func (k Line) carry(from, to net.Conn, way *clock) {
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
			free := way.take(n, k.Rate)
			under <- piece{body[:n], free.Add(k.Trip / 2)}
		}
		if err != nil {
			return
		}
	}
}
