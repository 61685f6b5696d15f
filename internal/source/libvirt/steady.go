package libvirt

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/nbd"
	"keenlodge/internal/reach"
)

const (
	// patience is how long a capture waits for a line that was cut: the job stays open on the host meanwhile, and what the guest writes
	// needs room there.
	patience = 10 * time.Minute
	// lineWait is between tries to get a line.
	lineWait = time.Second
)

// steady is a disk of a job, read through a connection that is made anew when it breaks: what the job offers stays the same. It implements
// [disk.Disk].
type steady struct {
	c              *capture
	target, bitmap string
	ctx            context.Context // the capture's
	end            context.CancelFunc

	mu     sync.Mutex
	client *nbd.Client
}

// connect opens the disk for the first time.
func (c *capture) connect(ctx context.Context, target, bitmap string) (*steady, error) {
	ctx, end := context.WithCancel(ctx)
	s := &steady{c: c, target: target, bitmap: bitmap, ctx: ctx, end: end}
	client, err := s.dial()
	if err != nil {
		end()
		return nil, err
	}
	s.client = client
	return s, nil
}

func (s *steady) dial() (*nbd.Client, error) {
	conn, secure, err := s.c.h.Export(s.ctx, s.c.server)
	if err != nil {
		return nil, fmt.Errorf("disk %s: %w", s.target, err)
	}
	return nbd.Over(s.ctx, conn, secure, s.target, s.bitmap)
}

func (s *steady) now() *nbd.Client {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.client
}

// do does something with the connection, and again with another where it breaks.
func (s *steady) do(act func(*nbd.Client) error) error {
	for {
		client := s.now()
		err := act(client)
		if err == nil || !errors.Is(err, nbd.ErrBroken) || s.ctx.Err() != nil {
			return err
		}
		if err := s.again(client, err); err != nil {
			return err
		}
	}
}

// again makes another connection in place of a broken one. While the host can't be reached it tries, for a while; it gives up at once when the
// host says that the job is over.
func (s *steady) again(broken *nbd.Client, why error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.client != broken {
		return nil // another reader has done it
	}
	begun := time.Now()
	for told := false; ; {
		client, err := s.dial()
		if err == nil && client.Size() != broken.Size() {
			client.Close()
			return fmt.Errorf("%w; and what is offered now has %d bytes, not %d", why, client.Size(), broken.Size())
		}
		if err == nil {
			s.client = client
			if told {
				s.c.tell("the line to the hypervisor is back after %s; reading disk %s goes on", time.Since(begun).Round(time.Second), s.target)
			}
			return nil
		}
		if !told {
			s.c.tell("the line to the hypervisor was cut while disk %s was read; it goes on when the line is back (for %s it is tried)", s.target, s.c.patience)
			told = true
		}
		if !errors.Is(err, reach.ErrUnreachable) {
			text, asked := s.c.h.job(s.ctx, s.c.domain)
			if asked == nil && !strings.Contains(text, marked+s.c.mark) {
				return fmt.Errorf("%w: the hypervisor has ended the backup job (was the guest shut down?)", why)
			}
		}
		if time.Since(begun) > s.c.patience {
			return fmt.Errorf("%w; tried for %s to reach it again: %w", why, s.c.patience, err)
		}
		select {
		case <-s.ctx.Done():
			return fmt.Errorf("%w: %w", why, context.Cause(s.ctx))
		case <-time.After(lineWait):
		}
	}
}

// ReadAt implements [disk.Disk].
func (s *steady) ReadAt(p []byte, off int64) (n int, err error) {
	err = s.do(func(k *nbd.Client) (err error) {
		n, err = k.ReadAt(p, off)
		return err
	})
	return n, err
}

// Size implements [disk.Disk].
func (s *steady) Size() int64 { return s.now().Size() }

// Extents implements [disk.Disk].
func (s *steady) Extents(ctx context.Context, offset, length int64) (out []disk.Extent, err error) {
	err = s.do(func(k *nbd.Client) (err error) {
		out, err = k.Extents(ctx, offset, length)
		return err
	})
	return out, err
}

// Whole is the same disk without the word of the bitmap.
func (s *steady) Whole() disk.Disk { return whole{s} }

type whole struct{ *steady }

// Extents implements [disk.Disk].
func (w whole) Extents(ctx context.Context, offset, length int64) (out []disk.Extent, err error) {
	err = w.do(func(k *nbd.Client) (err error) {
		out, err = k.Whole().Extents(ctx, offset, length)
		return err
	})
	return out, err
}

// close ends the connection, also one that is being made: then its context has ended.
func (s *steady) close() {
	s.end()
	s.now().Close()
}
