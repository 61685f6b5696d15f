package stores

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

// ErrNoRoom marks a run that was refused because its store would get too full.
var ErrNoRoom = errors.New("there is no room for it")

// Estimate is how much a machine's next image is likely to add to its store, in bytes: what the largest of its last five added,
// of the same capture, and a quarter more; for a first image what is to be read of its disks, as far as that is known.
func (ss *Stores) Estimate(ctx context.Context, m records.Image, holds int64) (bytes int64, from string, err error) {
	images, err := ss.rec.Images(ctx, records.ImageFilter{Policy: m.Policy, MachineID: m.MachineID, Store: m.Store})
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

// Reservation is room that a task under way is expected to take, so that two tasks don't both count on the same.
type Reservation struct {
	ss    *Stores
	store string
	bytes int64
}

// Reserve begins a reservation of room in a store. End it always.
func (ss *Stores) Reserve(store string) *Reservation { return &Reservation{ss: ss, store: store} }

// Check refuses, with figures, what would take the store below its floor. holds is what the machine's disks hold; before that is
// known it is 0, and a machine without a history passes.
func (p *Reservation) Check(ctx context.Context, s site.Site, st store.Store, m records.Image, holds int64) error {
	need, from, err := p.ss.Estimate(ctx, m, holds)
	if err != nil {
		return err
	}
	room, err := st.Medium().Room(ctx)
	if err != nil {
		return err
	}
	p.ss.mu.Lock()
	p.ss.reserved[p.store] += need - p.bytes
	p.bytes = need
	others := p.ss.reserved[p.store] - need
	p.ss.mu.Unlock()
	return CheckCapacity(p.store, s.Stores[p.store], room, need, others, from)
}

// End gives back what was reserved.
func (p *Reservation) End() {
	p.ss.mu.Lock()
	defer p.ss.mu.Unlock()
	p.ss.reserved[p.store] -= p.bytes
	p.bytes = 0
}

// CheckCapacity compares an estimate, and what others beside it are expected to take, with the room and the floor, in bytes and inodes.
func CheckCapacity(name string, spec site.Store, room medium.Room, need, others int64, from string) error {
	show := func(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
	beside := ""
	if others > 0 {
		beside = fmt.Sprintf(", %s are promised to others", show(others))
	}
	if room.FreeBytes >= 0 && room.FreeBytes-need-others < spec.FloorBytes() {
		return fmt.Errorf("%w: about %s would be added (%s); store %s has %s free%s, and %s must stay free; drop images and sweep, or lower the floor",
			ErrNoRoom, show(need), from, name, show(room.FreeBytes), beside, show(spec.FloorBytes()))
	}
	inodes := (need+others)/PackBytes + 8
	if room.FreeInodes >= 0 && room.TotalInodes > 0 && room.FreeInodes-inodes < spec.FloorInodes {
		return fmt.Errorf("%w: about %d inodes would be taken; store %s has %d free, and %d must stay free; drop images and sweep, or lower the floor",
			ErrNoRoom, inodes, name, room.FreeInodes, spec.FloorInodes)
	}
	return nil
}

// PackBytes is about what a file in a pooled store holds.
const PackBytes = 24 << 20

// Lacks is how many bytes must go until a store has its floor and so many bytes more. A lack of inodes is told as the bytes of as many
// packs. A store without a floor lacks nothing.
func Lacks(ctx context.Context, spec site.Store, st store.Store, more int64) (bytes int64, err error) {
	if spec.FloorBytes() == 0 && spec.FloorInodes == 0 {
		return 0, nil
	}
	room, err := st.Medium().Room(ctx)
	if err != nil {
		return 0, err
	}
	if room.FreeBytes >= 0 {
		bytes = max(0, spec.FloorBytes()+more-room.FreeBytes)
	}
	if room.FreeInodes >= 0 && room.TotalInodes > 0 {
		bytes = max(bytes, (spec.FloorInodes-room.FreeInodes)*PackBytes)
	}
	return bytes, nil
}
