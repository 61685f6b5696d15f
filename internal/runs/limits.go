package runs

import (
	"context"
	"math"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/records"
)

const (
	// claimEvery is how often the tasks that wait for their turn ask for it, all of a process in one transaction.
	claimEvery = 300 * time.Millisecond
	// claimJoin is how long the first of several that come at once waits for the others.
	claimJoin = 10 * time.Millisecond
	// claimFreed is how long the first room that comes waits for more: tasks that begin together share a look at their store.
	claimFreed = 100 * time.Millisecond
	// claimFirst is how many of those that wait ask for the room that a task's end makes.
	claimFirst = 32
)

// line is the tasks of this process that wait for their turn, in the order in which they came.
type line struct {
	mu      sync.Mutex
	waiting []*claim
	joined  chan struct{} // holds one, when a task joined
	freed   chan struct{} // holds one, when a task ended, so that there may be room
}

// claim is a task that waits.
type claim struct {
	records.Claim
	turn chan error // gets one
}

// Turn waits until a task may begin: first for its place in the spreading of starts, then for the limits of tasks at once. The task is
// recorded as running then.
func (e *Engine) Turn(ctx context.Context, t *records.Task, limits records.Limits, notBefore time.Time) error {
	if wait := time.Until(notBefore); wait > 0 {
		t.Why = "its start is spread to " + notBefore.Format("15:04:05")
		if err := e.rec.SaveTask(ctx, *t); err != nil {
			return err
		}
		if err := sleep(ctx, wait); err != nil {
			return err
		}
	}
	c := &claim{records.Claim{Task: *t, Limits: limits}, make(chan error, 1)}
	e.line.join(c)
	select {
	case err := <-c.turn:
		t.Why = ""
		return err
	case <-ctx.Done():
		e.line.leave(c)
		return context.Cause(ctx)
	}
}

func (l *line) join(c *claim) {
	l.mu.Lock()
	l.waiting = append(l.waiting, c)
	l.mu.Unlock()
	signal(l.joined)
}

// signal leaves word in a channel that holds one.
func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

func (l *line) leave(c *claim) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if i := slices.Index(l.waiting, c); i >= 0 {
		l.waiting = slices.Delete(l.waiting, i, i+1)
	}
}

// serveLine claims turns until ctx ends; tasks that wait then end by their own contexts. Where there is room by a task's end only the first
// ask for it: asking for thousands at each of thousands of ends would cost more than their work.
func (e *Engine) serveLine(ctx context.Context) error {
	all := time.NewTimer(0)
	defer all.Stop()
	for {
		most := claimFirst
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-all.C:
			most = math.MaxInt
			all.Reset(claimEvery)
		case <-e.line.joined:
			if err := sleep(ctx, claimJoin); err != nil {
				return err
			}
			most = math.MaxInt
		case <-e.line.freed:
			if err := sleep(ctx, claimFreed); err != nil {
				return err
			}
		}
		e.line.mu.Lock()
		waiting := slices.Clone(e.line.waiting[:min(most, len(e.line.waiting))])
		e.line.mu.Unlock()
		if len(waiting) > 0 {
			e.claim(ctx, waiting)
		}
	}
}

// claim asks for the turns of the tasks that wait, and tells those that have one.
func (e *Engine) claim(ctx context.Context, waiting []*claim) {
	claims := make([]records.Claim, len(waiting))
	for i, c := range waiting {
		claims[i] = c.Claim
	}
	full, err := e.rec.ClaimTasks(ctx, claims)
	for i, c := range waiting {
		if err != nil {
			c.turn <- err
		} else if full[i] == "" {
			c.turn <- nil
		} else {
			c.Task.Why = full[i]
			continue
		}
		e.line.leave(c)
	}
}

// Spread gives each task its start: those of one hypervisor evenly over the time, from begin on.
func Spread(tasks []records.Task, begin time.Time, over time.Duration) []time.Time {
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
