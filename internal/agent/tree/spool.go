package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
)

// kept is how much of a stream is kept that was handed out already: more than can be under way when a line is cut. As much may wait to be read.
const kept = 10 << 20

// errOver marks a spool that nobody reads any more.
var errOver = errors.New("the capture has ended")

// spool is a stream of bytes between who walks and who reads over a line that may be cut: what was handed out last can be read again.
type spool struct {
	mu    sync.Mutex
	wake  *sync.Cond
	ring  []byte
	begin int64 // the first byte that is there
	end   int64 // after the last
	read  int64 // after the last that was handed out
	done  bool
	err   error // why it ended before its end
}

func newSpool() *spool {
	s := &spool{ring: make([]byte, 2*kept)}
	s.wake = sync.NewCond(&s.mu)
	return s
}

// Write waits for room.
func (s *spool) Write(p []byte) (n int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(p) > 0 {
		room := s.begin + int64(len(s.ring)) - s.end
		if free := max(0, s.read-kept-s.begin); room == 0 && free > 0 {
			s.begin += free
			continue
		}
		if s.done {
			return n, errOver
		}
		if room == 0 {
			s.wake.Wait()
			continue
		}
		at := int(s.end % int64(len(s.ring)))
		k := copy(s.ring[at:min(len(s.ring), at+int(room))], p)
		p, n, s.end = p[k:], n+k, s.end+int64(k)
		s.wake.Broadcast()
	}
	return n, nil
}

// close ends the stream, with an error if it ends too early. The first one counts.
func (s *spool) close(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.done {
		s.done, s.err = true, err
	}
	s.wake.Broadcast()
}

// from makes sure that the stream can be read from a byte on.
func (s *spool) from(at int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.err != nil:
		return s.err
	case at < s.begin || at > s.end:
		return fmt.Errorf("the archive can't be read again from byte %d on: bytes %d to %d are there", at, s.begin, s.end)
	}
	return nil
}

// send writes the stream from a byte on to whoever reads it, until its end.
func (s *spool) send(ctx context.Context, conn net.Conn, at int64) error {
	stop := context.AfterFunc(ctx, func() { s.mu.Lock(); s.wake.Broadcast(); s.mu.Unlock() })
	defer stop()
	buffer := make([]byte, 256<<10)
	for {
		n, err := s.next(ctx, buffer, at)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if _, err := conn.Write(buffer[:n]); err != nil {
			return err
		}
		at += int64(n)
	}
}

// next gives what comes at a byte, and waits for it.
func (s *spool) next(ctx context.Context, p []byte, at int64) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for at == s.end && !s.done && ctx.Err() == nil {
		s.wake.Wait()
	}
	switch {
	case ctx.Err() != nil:
		return 0, context.Cause(ctx)
	case s.err != nil:
		return 0, s.err
	case at < s.begin: // another reader was faster
		return 0, errOver
	case at == s.end:
		return 0, io.EOF
	}
	from := int(at % int64(len(s.ring)))
	n := copy(p, s.ring[from:min(len(s.ring), from+int(s.end-at))])
	s.read = max(s.read, at+int64(n))
	s.wake.Broadcast()
	return n, nil
}
