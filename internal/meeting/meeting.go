// Package meeting has machines that are frozen wait for each other, so that what is taken of them is of one moment: from when the last of them stands still
// until the first goes on.
package meeting

import (
	"context"
	"sync"
	"time"
)

// Patience is how long one that stands still waits for the others: a freeze is ended after eight seconds.
const Patience = 3 * time.Second

// Meeting is one of some machines.
type Meeting struct {
	mu       sync.Mutex
	awaited  map[string]bool
	full     chan struct{} // closed when nobody is awaited any more
	patience time.Duration
	came     []string
	first    time.Time
	apart    time.Duration
	late     bool // somebody went on without the others
}

// Of is a meeting of machines, by their identities.
func Of(machines []string) *Meeting {
	m := &Meeting{awaited: map[string]bool{}, full: make(chan struct{}), patience: Patience}
	for _, id := range machines {
		m.awaited[id] = true
	}
	return m
}

// Arrive says that a machine stands still, and waits until all do, or for as long as it may; together is whether they do. One that is not of the
// meeting waits for nobody.
func (m *Meeting) Arrive(ctx context.Context, machine string) (together bool) {
	m.mu.Lock()
	if !m.awaited[machine] {
		m.mu.Unlock()
		return false
	}
	now := time.Now()
	if len(m.came) == 0 {
		m.first = now
	}
	m.came, m.apart = append(m.came, machine), now.Sub(m.first)
	m.leave(machine)
	m.mu.Unlock()
	t := time.NewTimer(m.patience)
	defer t.Stop()
	select {
	case <-m.full:
		return true
	case <-t.C:
	case <-ctx.Done():
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.late = true
	return false
}

// Leave says that a machine does not come, or came and went: nobody waits for it any more.
func (m *Meeting) Leave(machine string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.leave(machine)
}

func (m *Meeting) leave(machine string) {
	if !m.awaited[machine] {
		return
	}
	if delete(m.awaited, machine); len(m.awaited) == 0 {
		close(m.full)
	}
}

// Came tells who stood still, how long after the first the last of them, and whether all waited for each other.
func (m *Meeting) Came() (machines []string, apart time.Duration, together bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.came, m.apart, !m.late && len(m.came) > 1
}
