package lodge

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"syscall"
	"time"

	"golang.org/x/time/rate"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/when"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
	"keenlodge/internal/store/medium"
)

// askAgain is how often a task that waits for its turn asks for it.
const askAgain = 300 * time.Millisecond

// turn waits until a task may begin: first for its place in the spreading of starts, then for the limits of tasks at once. The
// task is recorded as running then.
func (l *Lodge) turn(ctx context.Context, s site.Site, t *records.Task, notBefore time.Time) error {
	if wait := time.Until(notBefore); wait > 0 {
		if err := l.waitTask(ctx, t, "its start is spread to "+notBefore.In(s.Location()).Format("15:04:05")); err != nil {
			return err
		}
		if err := sleep(ctx, wait); err != nil {
			return err
		}
	}
	limits := records.Limits{Lodge: s.Tasks(), Hypervisor: s.Hypervisors[t.Hypervisor].Tasks(), Store: s.Stores[t.Store].Tasks()}
	for {
		full, err := l.rec.ClaimTask(ctx, *t, limits)
		if err != nil || full == "" {
			t.Why = ""
			return err
		}
		if err := l.waitTask(ctx, t, full); err != nil {
			return err
		}
		if err := sleep(ctx, askAgain); err != nil {
			return err
		}
	}
}

// waitTask notes what a task waits for.
func (l *Lodge) waitTask(ctx context.Context, t *records.Task, why string) error {
	if t.Why == why {
		return nil
	}
	t.Why = why
	return l.rec.SaveTask(ctx, *t)
}

// sleep waits, or returns why ctx ended.
func sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-timer.C:
		return nil
	}
}

// spread gives each task its start: those of one hypervisor evenly over the time, from begin on.
func spread(tasks []records.Task, begin time.Time, over time.Duration) []time.Time {
	of, nth := map[string]int{}, map[string]int{}
	for _, t := range tasks {
		of[t.Hypervisor]++
	}
	out := make([]time.Time, len(tasks))
	for i, t := range tasks {
		out[i] = begin.Add(over * time.Duration(nth[t.Hypervisor]) / time.Duration(of[t.Hypervisor]))
		nth[t.Hypervisor]++
	}
	return out
}

// retried carries work out, and again after what may pass by itself, as often and after such waits as the policy says. undo clears
// what a try left behind; where it can't, there is no other try.
func (l *Lodge) retried(ctx context.Context, policy site.Policy, run, machine string, undo func() error, work func(try int) error) error {
	for try := 1; ; try++ {
		err := work(try)
		if err == nil || try > policy.Retries || !passing(err) || ctx.Err() != nil {
			return err
		}
		if undone := undo(); undone != nil {
			return errors.Join(err, undone)
		}
		wait := policy.Wait(try)
		l.say(ctx, run, machine, fmt.Sprintf("warning: try %d of %d failed: %v; that may pass by itself, so it is tried again after %s", try, policy.Retries+1, err, wait))
		if slept := sleep(ctx, wait); slept != nil {
			return errors.Join(slept, err)
		}
	}
}

// passing reports whether an error may be gone at the next try: cut lines, hosts that do not answer or are busy. What was refused, is
// not there or has no room will be so again.
func passing(err error) bool {
	for _, never := range []error{medium.ErrRefused, medium.ErrNoRight, medium.ErrNoPlace, medium.ErrFull, errNoRoom, source.ErrNoMachine, os.ErrPermission, context.Canceled, errUnhealthy} {
		if errors.Is(err, never) {
			return false
		}
	}
	for _, may := range []error{medium.ErrUnreachable, source.ErrUnreachable, source.ErrBusy, context.DeadlineExceeded, os.ErrDeadlineExceeded, io.ErrUnexpectedEOF, net.ErrClosed,
		syscall.ECONNREFUSED, syscall.ECONNRESET, syscall.EPIPE, syscall.ETIMEDOUT, syscall.EHOSTUNREACH, syscall.ENETUNREACH} {
		if errors.Is(err, may) {
			return true
		}
	}
	return errors.As(err, new(*net.OpError)) || errors.As(err, new(*net.DNSError))
}

// paces are this process's limits of bytes in a second, by what they hold for.
type paces struct {
	mu    sync.Mutex
	known map[string]*rate.Limiter
}

// wait lets n bytes pass as fast as a pace allows at this hour.
func (p *paces) wait(ctx context.Context, what string, pace when.Pace, zone *time.Location, n int) error {
	bytes := pace.At(time.Now().In(zone))
	if bytes == 0 {
		return nil
	}
	p.mu.Lock()
	if p.known == nil {
		p.known = map[string]*rate.Limiter{}
	}
	limiter := p.known[what]
	if limiter == nil {
		limiter = rate.NewLimiter(rate.Limit(bytes), int(min(bytes, 4<<20)))
		p.known[what] = limiter
	}
	limiter.SetLimit(rate.Limit(bytes))
	limiter.SetBurst(int(min(bytes, 4<<20)))
	p.mu.Unlock()
	return pass(ctx, limiter, n)
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

// pacedDisk is a disk that is read no faster than its hypervisor's bandwidth, and an open store's, allow.
type pacedDisk struct {
	disk.Disk
	ctx  context.Context
	wait func(ctx context.Context, n int) error
}

func (d pacedDisk) ReadAt(p []byte, off int64) (int, error) {
	if err := d.wait(d.ctx, len(p)); err != nil {
		return 0, err
	}
	return d.Disk.ReadAt(p, off)
}

// pacedMedium is a medium that is written to no faster than its store's bandwidth allows.
type pacedMedium struct {
	medium.Medium
	wait func(ctx context.Context, n int) error
}

func (m pacedMedium) Put(ctx context.Context, name string, content []byte) error {
	if err := m.wait(ctx, len(content)); err != nil {
		return err
	}
	return m.Medium.Put(ctx, name, content)
}
