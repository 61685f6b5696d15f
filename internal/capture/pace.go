package capture

import (
	"context"
	"sync"
	"time"

	"keenlodge/internal/core/site"
	"keenlodge/internal/core/when"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
	"keenlodge/internal/throttle"
)

// readPace is how fast disks of a source may be read: as it allows, and as an open store does, which is written as it is read. nil is no
// limit.
func (c *Captures) readPace(s site.Site, from, into string, st store.Store) throttle.Wait {
	host, shelf := site.PaceOf(s.Hypervisors[from].Bandwidth), site.PaceOf(s.Stores[into].Bandwidth)
	open := st.Header().Layout == site.Open
	limit := func(name string, pace when.Pace) throttle.Wait {
		if !pace.Limits() {
			return nil
		}
		return func(ctx context.Context, n int) error { return c.throttle.Wait(ctx, name, pace, s.Location(), n) }
	}
	read := limit("hypervisor "+from, host)
	if !open {
		return read
	}
	return throttle.Both(read, limit("store "+into, shelf))
}

// yield holds a capture back while a restore needs its store, its source or its machine.
func (c *Captures) yield(ctx context.Context, t *runs.Task, into string) throttle.Wait {
	var mu sync.Mutex
	waiting := 0 // readers
	told := func(forWhat string, waited time.Duration) {
		mu.Lock()
		defer mu.Unlock()
		if forWhat != "" {
			if waiting++; waiting == 1 {
				t.Log(ctx, "paused: %s goes before it", forWhat)
			}
			return
		}
		if waiting--; waiting == 0 {
			t.Log(ctx, "it goes on, after a pause of %s", waited.Round(time.Second))
		}
	}
	return c.throttle.Yield(told, throttle.Store(into), throttle.Source(t.Hypervisor), throttle.Machine(t.MachineID))
}
