package libvirt

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/nbd"
	"keenlodge/internal/reach"
)

// patience is how long a capture waits for a line that was cut: the job stays open on the host meanwhile, and what the guest writes needs room
// there.
const patience = 10 * time.Minute

// connect opens a stream of a disk for the first time; nth is of the streams of its disk.
func (c *capture) connect(ctx context.Context, target, bitmap string, nth int) (*nbd.Steady, error) {
	return nbd.Steadily(ctx, nbd.Redial{What: "disk " + target, Whose: "the hypervisor", Tell: c.tell, Patience: c.patience,
		Dial: func(ctx context.Context) (*nbd.Client, error) {
			conn, secure, err := c.h.Export(ctx, c.server, nth)
			if err != nil {
				return nil, fmt.Errorf("disk %s: %w", target, err)
			}
			return nbd.Over(ctx, conn, secure, target, bitmap)
		},
		Over: func(ctx context.Context, failed error) error {
			if errors.Is(failed, reach.ErrUnreachable) {
				return nil
			}
			text, asked := c.h.job(ctx, c.domain)
			if asked == nil && !strings.Contains(text, marked+c.mark) {
				return errors.New("the hypervisor has ended the backup job (was the guest shut down?)")
			}
			return nil
		}})
}

// whole is a disk without the word of the bitmap.
type whole struct {
	disk.Disk
	s *nbd.Steady
}

// Extents implements [disk.Disk].
func (w whole) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	return w.s.Whole().Extents(ctx, offset, length)
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
	*nbd.Steady
	streams []*nbd.Steady
	next    atomic.Uint64
}

// widen opens more streams of a disk whose opening took so long, if its host is far.
func (c *capture) widen(ctx context.Context, s *nbd.Steady, target, bitmap string, took time.Duration) (disk.Disk, error) {
	if took < openingTrips*longTrip || c.h.Streams() == 1 {
		return s, nil
	}
	w := &wide{Steady: s, streams: []*nbd.Steady{s}}
	for n := 1; n < c.h.Streams(); n++ {
		more, err := c.connect(ctx, target, bitmap, n)
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
		return w.Steady.ReadAt(p, off) // which knows what to say of the disk's end
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
