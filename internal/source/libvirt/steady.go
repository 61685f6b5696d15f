package libvirt

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

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
	nth            int             // of the streams of its disk
	ctx            context.Context // the capture's
	end            context.CancelFunc

	mu     sync.Mutex
	client *nbd.Client
}

// connect opens a stream of a disk for the first time.
func (c *capture) connect(ctx context.Context, target, bitmap string, nth int) (*steady, error) {
	ctx, end := context.WithCancel(ctx)
	s := &steady{c: c, target: target, bitmap: bitmap, nth: nth, ctx: ctx, end: end}
	client, err := s.dial()
	if err != nil {
		end()
		return nil, err
	}
	s.client = client
	return s, nil
}

func (s *steady) dial() (*nbd.Client, error) {
	conn, secure, err := s.c.h.Export(s.ctx, s.c.server, s.nth)
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

// whole is the same disk without the word of the bitmap.
type whole struct {
	disk.Disk
	s *steady
}

// Extents implements [disk.Disk].
func (w whole) Extents(ctx context.Context, offset, length int64) (out []disk.Extent, err error) {
	err = w.s.do(func(k *nbd.Client) (err error) {
		out, err = k.Whole().Extents(ctx, offset, length)
		return err
	})
	return out, err
}

const (
	// longTrip is how long what is said takes there and an answer back from where on one stream does not fill a line: through SSH 2 MiB are
	// under way at most (golang.org/x/crypto/ssh, channelWindowSize).
	longTrip = 5 * time.Millisecond
	// openingTrips is how many trips the opening of an export takes.
	openingTrips = 5
	// share is what one stream is asked for at once, in bytes.
	share = 256 << 10
)

// wide is a disk that is read over several streams at once.
type wide struct {
	*steady
	streams []*steady
	next    atomic.Uint64
}

// widen opens more streams of a disk whose opening took so long, if its host is far.
func (c *capture) widen(ctx context.Context, s *steady, took time.Duration) (disk.Disk, error) {
	if took < openingTrips*longTrip || c.h.Streams() == 1 {
		return s, nil
	}
	w := &wide{steady: s, streams: []*steady{s}}
	for n := 1; n < c.h.Streams(); n++ {
		more, err := c.connect(ctx, s.target, s.bitmap, n)
		if err != nil {
			return nil, err
		}
		c.open = append(c.open, more)
		w.streams = append(w.streams, more)
	}
	return w, nil
}

// ReadAt implements [io.ReaderAt].
func (w *wide) ReadAt(p []byte, off int64) (int, error) {
	if left := w.Size() - off; off < 0 || left < int64(len(p)) {
		return w.steady.ReadAt(p, off) // which knows what to say of the disk's end
	}
	var group errgroup.Group
	got := make([]int, (len(p)+share-1)/share)
	for i := range got {
		part := p[i*share : min(len(p), (i+1)*share)]
		stream := w.streams[w.next.Add(1)%uint64(len(w.streams))]
		group.Go(func() (err error) {
			got[i], err = stream.ReadAt(part, off+int64(i*share))
			return err
		})
	}
	err := group.Wait()
	n := 0
	for i := range got {
		n += got[i]
		if got[i] < share { // what comes after what is missing does not count
			break
		}
	}
	return n, err
}

// close ends the connection, also one that is being made: then its context has ended.
func (s *steady) close() {
	s.end()
	s.now().Close()
}
