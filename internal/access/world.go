package access

import (
	"context"
	"reflect"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/right"
)

// worlds remembers what the lodge has, and what roles reach in it.
type worlds struct {
	mu    sync.Mutex
	at    time.Time
	world right.World
	reach map[string]right.Within // by the grants, as phrases
}

const (
	// worldAge is how long what the lodge has is remembered, mostReaches bounds what is remembered of it.
	worldAge    = 3 * time.Second
	mostReaches = 1000
)

// Reach is what narrowed grants reach, some seconds old at the most.
func (a *Access) Reach(ctx context.Context, grants []right.Grant) (right.Within, error) {
	w := &a.worlds
	w.mu.Lock()
	defer w.mu.Unlock() // who asks meanwhile waits for the same answer
	s, err := a.rec.Site(ctx)
	if err != nil {
		return right.Within{}, err
	}
	if time.Since(w.at) >= worldAge || !reflect.DeepEqual(w.world.Site, s) {
		machines, err := a.rec.Machines(ctx)
		if err != nil {
			return right.Within{}, err
		}
		w.world = right.World{Site: s, Machines: make([]right.Machine, len(machines))}
		for i, m := range machines {
			w.world.Machines[i] = right.Machine{ID: m.ID, Source: m.Hypervisor, Name: m.Name, Tags: m.Tags}
		}
		w.at, w.reach = time.Now(), map[string]right.Within{}
	}
	key := strings.Join(right.Phrases(grants), "\n")
	if len(w.reach) >= mostReaches {
		w.reach = map[string]right.Within{}
	}
	in, ok := w.reach[key]
	if !ok {
		in = right.Reach(grants, w.world)
		w.reach[key] = in
	}
	return in, nil
}
