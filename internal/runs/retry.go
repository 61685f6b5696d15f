package runs

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"syscall"
	"time"

	"keenlodge/internal/source"
	"keenlodge/internal/store/medium"
)

// Retries says how often something is tried again after what may pass by itself, and how long to wait before each try, from 1.
type Retries struct {
	Again int
	Wait  func(try int) time.Duration
}

// Retry carries work out, and again after what may pass by itself. undo clears what a try left behind; where it can't, there is no
// other try. machine may be empty.
func (r *Run) Retry(ctx context.Context, retries Retries, machine string, undo func() error, work func(try int) error) error {
	for try := 1; ; try++ {
		err := work(try)
		if err == nil || try > retries.Again || !IsTransient(err) || ctx.Err() != nil {
			return err
		}
		if undone := undo(); undone != nil {
			return errors.Join(err, undone)
		}
		wait := retries.Wait(try)
		r.Caution(ctx, machine, "try %d of %d failed: %v; that may pass by itself, so it is tried again after %s", try, retries.Again+1, err, wait)
		if slept := sleep(ctx, wait); slept != nil {
			return errors.Join(slept, err)
		}
	}
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

// IsTransient reports whether an error may be gone at the next try: cut lines, hosts that do not answer or are busy. What was refused,
// is not there or has no room will be so again.
func IsTransient(err error) bool {
	for _, never := range []error{medium.ErrRefused, medium.ErrNoRight, medium.ErrNoPlace, medium.ErrFull, source.ErrNoMachine, os.ErrPermission, context.Canceled} {
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
