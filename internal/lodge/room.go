package lodge

import (
	"context"
	"errors"
	"fmt"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// errNoRoom marks a run that was refused because its store would get too full.
var errNoRoom = errors.New("there is no room for it")

// estimate is how much a machine's next image is likely to add to its store, in bytes: what the largest of its last five added,
// of the same capture, and a quarter more; for a first image what is to be read of its disks, as far as that is known.
func (l *Lodge) estimate(ctx context.Context, m records.Image, holds int64) (bytes int64, from string, err error) {
	images, err := l.rec.Images(ctx, records.ImageFilter{Policy: m.Policy, Machine: m.Machine, Store: m.Store})
	if err != nil {
		return 0, "", err
	}
	var most int64
	n := 0
	for _, o := range images {
		if o.State == "usable" && o.Capture == m.Capture && o.Scope == m.Scope && n < 5 {
			most, n = max(most, o.Stored), n+1
		}
	}
	// The very first image is not repeated by the next ones.
	if n > 1 {
		return most + most/4, fmt.Sprintf("the largest of its last %d images added %s", n, humanize.IBytes(uint64(most))), nil
	}
	return holds, fmt.Sprintf("%s are to be read", humanize.IBytes(uint64(holds))), nil
}

// promise is room that a task under way is expected to take, so that two tasks don't both count on the same.
type promise struct {
	l     *Lodge
	store string
	bytes int64
}

func (l *Lodge) promise(store string) *promise { return &promise{l: l, store: store} }

// check refuses, with figures, what would take the store below its floor. holds is what the machine's disks hold; before that is
// known it is 0, and a machine without a history passes.
func (p *promise) check(ctx context.Context, s site.Site, st store.Store, m records.Image, holds int64) error {
	need, from, err := p.l.estimate(ctx, m, holds)
	if err != nil {
		return err
	}
	room, err := st.Medium().Room(ctx)
	if err != nil {
		return err
	}
	p.l.mu.Lock()
	p.l.promised[p.store] += need - p.bytes
	p.bytes = need
	others := p.l.promised[p.store] - need
	p.l.mu.Unlock()
	return fits(p.store, s.Stores[p.store], room, need, others, from)
}

func (p *promise) end() {
	p.l.mu.Lock()
	defer p.l.mu.Unlock()
	p.l.promised[p.store] -= p.bytes
	p.bytes = 0
}

// fits compares an estimate, and what others beside it are expected to take, with the room and the floor, in bytes and inodes.
func fits(name string, spec site.Store, room medium.Room, need, others int64, from string) error {
	show := func(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
	beside := ""
	if others > 0 {
		beside = fmt.Sprintf(", %s are promised to others", show(others))
	}
	if room.FreeBytes >= 0 && room.FreeBytes-need-others < spec.FloorBytes() {
		return fmt.Errorf("%w: about %s would be added (%s); store %s has %s free%s, and %s must stay free; drop images and sweep, or lower the floor",
			errNoRoom, show(need), from, name, show(room.FreeBytes), beside, show(spec.FloorBytes()))
	}
	inodes := (need+others)/packBytes + 8
	if room.FreeInodes >= 0 && room.TotalInodes > 0 && room.FreeInodes-inodes < spec.FloorInodes {
		return fmt.Errorf("%w: about %d inodes would be taken; store %s has %d free, and %d must stay free; drop images and sweep, or lower the floor",
			errNoRoom, inodes, name, room.FreeInodes, spec.FloorInodes)
	}
	return nil
}

// packBytes is about what a file in a pooled store holds.
const packBytes = 24 << 20
