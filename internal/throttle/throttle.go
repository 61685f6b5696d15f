// Package throttle keeps bytes to the bandwidth that the site allows: of disks that are read, and of media that are written to. Limits
// are counted in one process.
package throttle

import (
	"context"
	"io"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/when"
	"keenlodge/internal/store/medium"
)

// burst bounds how many bytes may pass at once.
const burst = 4 << 20

// Wait lets n bytes pass when it is their turn. A nil Wait is no limit.
type Wait func(ctx context.Context, n int) error

// Throttle has this process's limits, by what they hold for.
type Throttle struct {
	mu    sync.Mutex
	known map[string]*rate.Limiter

	urgent urgent
}

// Wait lets n bytes pass as fast as a pace allows at this hour of a zone. name says what is limited, such as "store quay-shelf".
func (t *Throttle) Wait(ctx context.Context, name string, pace when.Pace, zone *time.Location, n int) error {
	bytes := pace.At(time.Now().In(zone))
	if bytes == 0 {
		return nil
	}
	t.mu.Lock()
	if t.known == nil {
		t.known = map[string]*rate.Limiter{}
	}
	limiter := t.known[name]
	if limiter == nil {
		limiter = rate.NewLimiter(rate.Limit(bytes), int(min(bytes, burst)))
		t.known[name] = limiter
	}
	limiter.SetLimit(rate.Limit(bytes))
	limiter.SetBurst(int(min(bytes, burst)))
	t.mu.Unlock()
	return pass(ctx, limiter, n)
}

// Steady lets so many bytes pass in a second; 0 is no limit.
func Steady(bytes int64) Wait {
	if bytes <= 0 {
		return nil
	}
	limit := rate.NewLimiter(rate.Limit(bytes), int(min(bytes, 1<<30)))
	return func(ctx context.Context, n int) error { return pass(ctx, limit, n) }
}

// pass lets n bytes through a limiter, in as many parts as it takes.
func pass(ctx context.Context, limiter *rate.Limiter, n int) error {
	for n > 0 {
		part := min(n, limiter.Burst())
		if err := limiter.WaitN(ctx, part); err != nil {
			return err
		}
		n -= part
	}
	return nil
}

// Disk is a disk that is read no faster than wait allows. ctx ends the waiting: reading a disk has no context of its own.
func Disk(ctx context.Context, d disk.Disk, wait Wait) disk.Disk {
	if wait == nil || d == nil {
		return d
	}
	return pacedDisk{d, ctx, wait}
}

type pacedDisk struct {
	disk.Disk
	ctx  context.Context
	wait Wait
}

func (d pacedDisk) ReadAt(p []byte, off int64) (int, error) {
	if err := d.wait(d.ctx, len(p)); err != nil {
		return 0, err
	}
	return d.Disk.ReadAt(p, off)
}

// Reader is what is read, at a pace; with a nil wait it is the same.
func Reader(ctx context.Context, r io.Reader, wait Wait) io.Reader {
	if wait == nil {
		return r
	}
	return pacedReader{ctx, r, wait}
}

type pacedReader struct {
	ctx  context.Context
	from io.Reader
	wait Wait
}

func (r pacedReader) Read(p []byte) (int, error) {
	n, err := r.from.Read(p)
	if n > 0 {
		if waited := r.wait(r.ctx, n); waited != nil {
			return n, waited
		}
	}
	return n, err
}

// Medium is a medium that is written to no faster than wait allows.
func Medium(m medium.Medium, wait Wait) medium.Medium {
	if l, ok := m.(medium.Locker); ok {
		return pacedLocker{l, wait}
	}
	return pacedMedium{m, wait}
}

type pacedLocker struct {
	medium.Locker
	wait Wait
}

func (m pacedLocker) Put(ctx context.Context, name string, content []byte) error {
	return pacedMedium{m.Locker, m.wait}.Put(ctx, name, content)
}

func (m pacedLocker) PutUntil(ctx context.Context, name string, content []byte, until time.Time) error {
	if err := m.wait(ctx, len(content)); err != nil {
		return err
	}
	return m.Locker.PutUntil(ctx, name, content, until)
}

type pacedMedium struct {
	medium.Medium
	wait Wait
}

func (m pacedMedium) Put(ctx context.Context, name string, content []byte) error {
	if err := m.wait(ctx, len(content)); err != nil {
		return err
	}
	return m.Medium.Put(ctx, name, content)
}
