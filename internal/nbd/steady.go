package nbd

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"keenlodge/internal/core/disk"
)

// lineWait is between tries to get a connection.
const lineWait = time.Second

// Redial says how a connection that broke is made anew.
type Redial struct {
	// Dial makes one.
	Dial func(ctx context.Context) (*Client, error)
	// Over is asked after a try that failed whether what was offered is over, so that no other would help: then it is an error. nil knows of nothing.
	Over func(ctx context.Context, failed error) error
	// Tell is told once that the connection was cut, and once that it is back; nil tells nobody. What and Whose are words for that, such as
	// "disk vda" and "the hypervisor".
	Tell        func(format string, args ...any)
	What, Whose string
	// Patience is how long it is tried.
	Patience time.Duration
}

// Steady is an export that is read through a connection that is made anew when it breaks: what is offered stays the same. It implements
// [disk.Disk]. Close it.
type Steady struct {
	Redial
	ctx context.Context // of whoever reads
	end context.CancelFunc

	mu     sync.Mutex
	client *Client
}

// Steadily opens an export for the first time. When ctx ends, reading does.
func Steadily(ctx context.Context, r Redial) (*Steady, error) {
	ctx, end := context.WithCancel(ctx)
	s := &Steady{Redial: r, ctx: ctx, end: end}
	client, err := r.Dial(ctx)
	if err != nil {
		end()
		return nil, err
	}
	s.client = client
	return s, nil
}

func (s *Steady) now() *Client {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.client
}

// do does something with the connection, and again with another where it breaks.
func (s *Steady) do(act func(*Client) error) error {
	for {
		client := s.now()
		err := act(client)
		if err == nil || !errors.Is(err, ErrBroken) || s.ctx.Err() != nil {
			return err
		}
		if err := s.again(client, err); err != nil {
			return err
		}
	}
}

func (s *Steady) tell(format string, args ...any) {
	if s.Tell != nil {
		s.Tell(format, args...)
	}
}

// again makes another connection in place of a broken one. While there is none it tries, for a while.
func (s *Steady) again(broken *Client, why error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.client != broken {
		return nil // another reader has done it
	}
	begun := time.Now()
	for told := false; ; {
		client, err := s.Dial(s.ctx)
		if err == nil && client.Size() != broken.Size() {
			client.Close()
			return fmt.Errorf("%w; and what is offered now has %d bytes, not %d", why, client.Size(), broken.Size())
		}
		if err == nil {
			s.client = client
			if told {
				s.tell("the line to %s is back after %s; reading %s goes on", s.Whose, time.Since(begun).Round(time.Second), s.What)
			}
			return nil
		}
		if !told {
			s.tell("the line to %s was cut while %s was read; it goes on when the line is back (for %s it is tried)", s.Whose, s.What, s.Patience)
			told = true
		}
		if s.Over != nil {
			if over := s.Over(s.ctx, err); over != nil {
				return fmt.Errorf("%w: %w", why, over)
			}
		}
		if time.Since(begun) > s.Patience {
			return fmt.Errorf("%w; tried for %s to reach it again: %w", why, s.Patience, err)
		}
		select {
		case <-s.ctx.Done():
			return fmt.Errorf("%w: %w", why, context.Cause(s.ctx))
		case <-time.After(lineWait):
		}
	}
}

// ReadAt implements [disk.Disk].
func (s *Steady) ReadAt(p []byte, off int64) (n int, err error) {
	err = s.do(func(k *Client) (err error) {
		n, err = k.ReadAt(p, off)
		return err
	})
	return n, err
}

// Size implements [disk.Disk].
func (s *Steady) Size() int64 { return s.now().Size() }

// Extents implements [disk.Disk].
func (s *Steady) Extents(ctx context.Context, offset, length int64) (out []disk.Extent, err error) {
	err = s.do(func(k *Client) (err error) {
		out, err = k.Extents(ctx, offset, length)
		return err
	})
	return out, err
}

// Whole is the same disk without the word of the bitmap.
func (s *Steady) Whole() disk.Disk { return steadyWhole{s} }

type steadyWhole struct{ *Steady }

// Extents implements [disk.Disk].
func (w steadyWhole) Extents(ctx context.Context, offset, length int64) (out []disk.Extent, err error) {
	err = w.do(func(k *Client) (err error) {
		out, err = k.Whole().Extents(ctx, offset, length)
		return err
	})
	return out, err
}

// Close ends the connection, also one that is being made.
func (s *Steady) Close() error {
	s.end()
	return s.now().Close()
}
