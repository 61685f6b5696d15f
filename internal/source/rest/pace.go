package rest

import (
	"context"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

const (
	// paceWindow is over how long it is looked how many calls were answered.
	paceWindow = 2 * time.Second
	// slower and faster are what the pace becomes after a window in which a call was refused for coming too soon, and after one in which none was.
	slower, faster = 0.9, 1.1
	// slowest is the least, in calls a second.
	slowest = 0.5
)

// pace has all callers of a system together keep to what it answers, once it has asked to slow down: whoever only waits and asks again has half of his calls
// refused, and each of them counts. The zero pace holds nobody.
type pace struct {
	mu       sync.Mutex
	limit    *rate.Limiter // nil until it was asked to slow down
	begun    time.Time     // of the window
	answered int
	refused  bool
}

// wait waits for a call's turn.
func (p *pace) wait(ctx context.Context) error {
	p.mu.Lock()
	limit := p.limit
	p.mu.Unlock()
	if limit == nil {
		return nil
	}
	return limit.Wait(ctx)
}

// told learns of an answer: refused says that it asked to slow down.
func (p *pace) told(refused bool, now time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.begun.IsZero() {
		p.begun = now
	}
	if p.refused = p.refused || refused; !refused {
		p.answered++
	}
	took := now.Sub(p.begun)
	if took < paceWindow {
		return
	}
	switch {
	case p.refused:
		to := rate.Limit(max(slowest, slower*float64(p.answered)/took.Seconds()))
		if p.limit == nil {
			p.limit = rate.NewLimiter(to, 1)
		}
		p.limit.SetLimit(to)
	case p.limit != nil:
		p.limit.SetLimit(faster * p.limit.Limit())
	}
	p.begun, p.answered, p.refused = now, 0, false
}
