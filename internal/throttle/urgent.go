package throttle

import (
	"context"
	"slices"
	"sync"
	"time"
)

// urgent is work that goes before captures: a restore, for whose sake they stand aside.
type urgent struct {
	mu   sync.Mutex
	work []*pressing
	over chan struct{} // closed, and made anew, whenever some has ended
}

// Store, Source and Machine name what captures and restores may need at once.
func Store(name string) string  { return "store " + name }
func Source(name string) string { return "source " + name }
func Machine(id string) string  { return "machine " + id }

type pressing struct {
	what string
	on   []string
}

// Urgent says that something goes before captures that use one of some things, such as "store quay-shelf", until end is called.
func (t *Throttle) Urgent(what string, on ...string) (end func()) {
	u := &t.urgent
	p := &pressing{what, on}
	u.mu.Lock()
	u.work = append(u.work, p)
	u.mu.Unlock()
	var once sync.Once
	return func() {
		once.Do(func() {
			u.mu.Lock()
			defer u.mu.Unlock()
			u.work = slices.DeleteFunc(u.work, func(o *pressing) bool { return o == p })
			if u.over != nil {
				close(u.over)
				u.over = nil
			}
		})
	}
}

// before is what goes before a user of some things, nil for nothing, and what is closed when that may have changed.
func (u *urgent) before(on []string) (*pressing, <-chan struct{}) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for _, p := range u.work {
		if slices.ContainsFunc(p.on, func(o string) bool { return slices.Contains(on, o) }) {
			if u.over == nil {
				u.over = make(chan struct{})
			}
			return p, u.over
		}
	}
	return nil, nil
}

// Yield lets bytes pass while nothing urgent needs one of some things, and holds them back while something does. told is called when it begins to
// wait, with what for, and when it goes on, with "" and for how long it waited.
func (t *Throttle) Yield(told func(forWhat string, waited time.Duration), on ...string) Wait {
	return func(ctx context.Context, _ int) error {
		p, over := t.urgent.before(on)
		if p == nil {
			return nil
		}
		begun := time.Now()
		told(p.what, 0)
		for ; p != nil; p, over = t.urgent.before(on) {
			select {
			case <-over:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		told("", time.Since(begun))
		return nil
	}
}
