package access

import (
	"context"
	"sync"
	"time"
)

const (
	// freeTries is how many wrong keys an address may show before it is slowed down, until it has shown none for a minute.
	freeTries = 5
	// longestWait is how long an answer to a wrong key is held up at the most.
	longestWait = 2 * time.Second
	// mostWaiting is how many answers are held up at the same time; more are refused at once.
	mostWaiting = 256
	// mostAddresses bounds how many addresses are told apart.
	mostAddresses = 4096
)

// Strangers counts wrong keys by the addresses that they come from, and slows down those of which there come many.
type Strangers struct {
	mu      sync.Mutex
	tries   map[string]*Tries
	waiting int
}

// Tries are the wrong keys that an address showed.
type Tries struct {
	Address string
	// Since is when the first of them came, Count how many came since. All is how many came since the address has been known.
	Since      time.Time
	Count, All int
}

func newStrangers() *Strangers { return &Strangers{tries: map[string]*Tries{}} }

// Wrong notes a wrong key and holds its answer up, the longer the more there came from its address since that has been known. It reports
// whether the answer is to be that there are too many, and whether it is the first of its address.
func (s *Strangers) Wrong(ctx context.Context, address string, now time.Time) (tooMany bool, first bool) {
	s.mu.Lock()
	t := s.tries[address]
	if t == nil {
		if len(s.tries) >= mostAddresses {
			address = "elsewhere"
			t = s.tries[address]
		}
		if t == nil {
			t = &Tries{Address: address, Since: now}
			s.tries[address] = t
			first = true
		}
	}
	t.Count++
	t.All++
	wait := min(longestWait, time.Duration(t.All-freeTries)*100*time.Millisecond)
	tooMany = wait > 0 && s.waiting >= mostWaiting
	if wait <= 0 || tooMany {
		s.mu.Unlock()
		return tooMany, first
	}
	s.waiting++
	s.mu.Unlock()
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	}
	s.mu.Lock()
	s.waiting--
	s.mu.Unlock()
	return false, first
}

// Take returns what was tried since it was last asked for, and forgets those that have stopped to try.
func (s *Strangers) Take(now time.Time) (out []Tries) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for address, t := range s.tries {
		if t.Count == 0 {
			delete(s.tries, address)
			continue
		}
		out = append(out, *t)
		t.Count, t.Since = 0, now
	}
	return out
}
