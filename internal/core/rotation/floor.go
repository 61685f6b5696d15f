package rotation

import (
	"fmt"
	"slices"
	"time"
)

// Set is a set with its plan.
type Set struct {
	Images []Image
	Plan   Plan
}

// Relieve lets further images go, for a store that is short of room: of all sets the oldest first, until they give need bytes,
// and never one that a pin, the standing rules or a staying image keeps. A chain is shortened from its end, for only what
// nothing leans on can go. The guards are looked at again. It returns how many bytes are still missing. why begins the reason,
// such as "the store must keep 20 GiB free".
func Relieve(sets []Set, need int64, why string, now time.Time) (missing int64) {
	type at struct{ set, image int }
	var order []at
	leans := make([]map[string]int, len(sets)) // how many staying images lean on one
	for s := range sets {
		leans[s] = map[string]int{}
		for i, m := range sets[s].Images {
			order = append(order, at{s, i})
			if m.Base != "" && sets[s].Plan.Decisions[i].Verdict != Drop {
				leans[s][m.Base]++
			}
		}
	}
	slices.SortStableFunc(order, func(a, b at) int {
		return sets[a.set].Images[a.image].Taken.Compare(sets[b.set].Images[b.image].Taken)
	})
	can := func(a at) bool {
		set := &sets[a.set]
		return !set.Images[a.image].Elsewhere && set.Plan.Decisions[a.image].Verdict != Drop && !set.Plan.fixed[a.image] && leans[a.set][set.Images[a.image].ID] == 0
	}
	where := map[at]int{}
	for n, a := range order {
		where[a] = n
	}
	for n := 0; need > 0 && n < len(order); n++ {
		a := order[n]
		if !can(a) {
			continue
		}
		set := &sets[a.set]
		m := set.Images[a.image]
		set.Plan.Decisions[a.image] = Decision{m.ID, Drop, fmt.Sprintf("%s, and of what may go it is the oldest on which nothing leans", why)}
		need -= m.Bytes
		if leans[a.set][m.Base]--; leans[a.set][m.Base] == 0 { // its base, which is older, may go now
			if i := slices.IndexFunc(set.Images, func(b Image) bool { return b.ID == m.Base }); i >= 0 {
				n = min(n, where[at{a.set, i}]-1)
			}
		}
	}
	for s := range sets {
		sets[s].Plan.Guard = ""
		sets[s].Plan.guard(now, sets[s].Images)
	}
	return max(0, need)
}
