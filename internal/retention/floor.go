package retention

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
)

// relieve plans further drops where the store is below its floor, or would be when the next images of these sets come: otherwise
// those would be refused. What is gone already but still in its grace leaves first. sweep says that a sweep has to end that grace, once the
// drops are recorded.
func (rt *Retention) relieve(ctx context.Context, s site.Site, r *runs.Run, name string, st store.Store, plans []rotation.Set, now time.Time) (sweep bool, err error) {
	var next int64
	for _, p := range plans {
		next += nextSize(p.Images)
	}
	need, err := stores.Lacks(ctx, s.Stores[name], st, next)
	if err != nil || need == 0 {
		return false, err
	}
	show := func(n int64) string { return humanize.IBytes(uint64(max(0, n))) }
	why := fmt.Sprintf("store %s must keep %s free and lacks %s for that and for the next images", name, FloorWords(s.Stores[name]), show(need))
	r.Log(ctx, "", "%s; the grace of what is dropped ends early", why)
	for _, p := range plans {
		for i, d := range p.Plan.Decisions {
			if d.Verdict == rotation.Drop && !p.Images[i].Elsewhere {
				need -= p.Images[i].Bytes
			}
		}
	}
	gone, err := rt.rec.Leaving(ctx, name, 0)
	if err != nil {
		return false, err
	}
	for _, m := range gone {
		need -= m.Stored
	}
	missing := rotation.Relieve(plans, need, why, now)
	if missing > 0 {
		text := fmt.Sprintf("the floor of store %s can't be reached by rotation: about %s are still missing, and all that is left must stay (pins, locks, proven and newest images, and what they lean on)", name, show(missing))
		r.Warn(ctx, "", "%s", text)
		if err := rt.rec.Queue(ctx, records.Happened{Event: event.Event{Name: event.FloorMissed, Run: r.ID, Policy: r.Policy, Store: name, Text: text}}); err != nil {
			return false, err
		}
	}
	return true, nil
}

// FloorWords is what a store must keep free, in words; "" for nothing.
func FloorWords(spec site.Store) string {
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
