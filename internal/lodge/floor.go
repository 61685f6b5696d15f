package lodge

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/store"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
)

// relieve plans further drops where the store is below its floor, or would be when the next images of these sets come: otherwise
// those would be refused. What is gone already but still in its grace leaves first.
func (l *Lodge) relieve(ctx context.Context, s site.Site, run records.Run, name string, st store.Store, plans []rotation.Set, now time.Time) (short bool, err error) {
	var next int64
	for _, p := range plans {
		next += nextSize(p.Images)
	}
	need, err := l.lacks(ctx, s.Stores[name], st, next)
	if err != nil || need == 0 {
		return false, err
	}
	show := func(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
	why := fmt.Sprintf("store %s must keep %s free and lacks %s for that and for the next images", name, floorWords(s.Stores[name]), show(need))
	l.say(ctx, run.ID, "", why+"; the grace of what is dropped ends early")
	for _, p := range plans {
		need -= p.Plan.Gives(p.Images)
	}
	gone, err := l.rec.Leaving(ctx, name, 0)
	if err != nil {
		return false, err
	}
	for _, m := range gone {
		need -= m.Stored
	}
	missing := rotation.Relieve(plans, need, why, now)
	if err := l.SweepSoon(ctx, SweepRequest{Store: name, Now: true}); err != nil {
		return false, err
	}
	if missing > 0 {
		l.say(ctx, run.ID, "", fmt.Sprintf("warning: the floor of store %s can't be reached by rotation: about %s are still missing, and all that is left must stay (pins, proven and newest images, and what they lean on)", name, show(missing)))
	}
	return missing > 0, nil
}

func floorWords(spec site.Store) string {
	words := spec.Floor
	if spec.FloorInodes > 0 {
		words = strings.TrimPrefix(fmt.Sprintf("%s and %d inodes", words, spec.FloorInodes), " and ")
	}
	return words
}

// nextSize is what a set's next image is likely to take: as much as the larger of its last two, and a quarter more.
func nextSize(images []rotation.Image) (bytes int64) {
	n := 0
	for _, m := range slices.Backward(images) {
		if m.State == "usable" && n < 2 {
			bytes, n = max(bytes, m.Bytes), n+1
		}
	}
	return bytes + bytes/4
}

// lacks is how many bytes must go until a store has its floor and so many bytes more. A lack of inodes is told as the bytes of as
// many packs. A store without a floor lacks nothing.
func (l *Lodge) lacks(ctx context.Context, spec site.Store, st store.Store, more int64) (bytes int64, err error) {
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
		bytes = max(bytes, (spec.FloorInodes-room.FreeInodes)*packBytes)
	}
	return bytes, nil
}
