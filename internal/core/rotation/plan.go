package rotation

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Image is what the planner knows of an image.
type Image struct {
	ID      string    `json:"id"`
	Taken   time.Time `json:"taken"`
	Capture string    `json:"capture"`
	// Base is the image that this one leans on, or "".
	Base   string `json:"base"`
	State  string `json:"state"` // usable, broken, writing
	Pinned bool   `json:"pinned"`
	Proven string `json:"proven"` // "", read, mount, boot, restore: the best passed proof
	Bytes  int64  `json:"bytes"`
}

// Verdict is what becomes of an image.
type Verdict string

const (
	// Keep: a clause, a pin or a standing rule keeps it.
	Keep Verdict = "keep"
	// Held: the rule lets it go, a staying image leans on it.
	Held Verdict = "held"
	// Drop: nothing keeps it.
	Drop Verdict = "drop"
)

// Decision is the verdict on one image, with its reason in plain words.
type Decision struct {
	ID      string  `json:"id"`
	Verdict Verdict `json:"verdict"`
	Why     string  `json:"why"`
}

// Plan is the outcome. Decisions are in the order of the images given.
type Plan struct {
	Decisions []Decision `json:"decisions"`
	// Guard says in words why an unattended rotation must drop nothing; it is empty otherwise.
	Guard string `json:"guard"`

	fixed []bool // by image: kept by more than a clause
}

// Gives is how many bytes the images that the plan drops take.
func (p Plan) Gives(images []Image) (bytes int64) {
	for i, d := range p.Decisions {
		if d.Verdict == Drop {
			bytes += images[i].Bytes
		}
	}
	return bytes
}

// Drops lists the images to drop.
func (p Plan) Drops() []string {
	var ids []string
	for _, d := range p.Decisions {
		if d.Verdict == Drop {
			ids = append(ids, d.ID)
		}
	}
	return ids
}

// Make plans the rotation of one set at a moment. now carries the zone. The rules and their order are those of
// docs/guide/rotation.md.
func Make(rule Rule, now time.Time, images []Image) Plan {
	zone := now.Location()
	order := make([]int, len(images)) // newest first
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		if c := images[b].Taken.Compare(images[a].Taken); c != 0 {
			return c
		}
		return cmp.Compare(images[b].ID, images[a].ID)
	})
	why := make([]string, len(images)) // a reason to keep; the first one found is told
	fixed := make([]bool, len(images)) // kept by more than a clause
	keep := func(i int, reason string) {
		if why[i] == "" {
			why[i] = reason
		}
	}
	fix := func(i int, reason string) {
		keep(i, reason)
		fixed[i] = true
	}

	newest, proven := -1, -1
	var candidates []int
	for _, i := range order {
		switch m := images[i]; {
		case m.State == "writing":
			fix(i, "it is being written")
			continue
		case m.Pinned:
			fix(i, "it is pinned")
		case m.State == "usable":
			candidates = append(candidates, i)
		}
		if images[i].State == "usable" {
			if newest < 0 {
				newest = i
			}
			if p := images[i].Proven; proven < 0 && (p == "mount" || p == "boot" || p == "restore") {
				proven = i
			}
		}
	}
	for _, c := range rule.clauses {
		if c.unit == "first" && len(candidates) > 0 {
			last := len(candidates) - 1
			keep(candidates[last], `clause "first": the earliest usable image`)
			candidates = candidates[:last]
			break
		}
	}
	for _, c := range rule.clauses {
		c.apply(now, images, candidates, keep)
	}
	if newest >= 0 {
		fix(newest, "it is the newest usable image")
	}
	if proven >= 0 {
		fix(proven, fmt.Sprintf("it is the newest image proven by %s", images[proven].Proven))
	}
	for i, m := range images {
		if m.State != "usable" && m.State != "writing" && (newest < 0 || !images[newest].Taken.After(m.Taken)) {
			fix(i, "it is "+m.State+", and there is no newer usable image yet")
		}
	}
	return decide(now.In(zone), images, order, why, fixed)
}

// apply tells which candidates the clause keeps.
func (c clause) apply(now time.Time, images []Image, candidates []int, keep func(int, string)) {
	switch {
	case c.unit == "newest":
		for n, i := range candidates[:min(c.n, len(candidates))] {
			keep(i, fmt.Sprintf("clause %q: number %d of %d", c.text, n+1, c.n))
		}
	case slices.Contains(ages, c.unit):
		edge := since(now, c.n, c.unit)
		for _, i := range candidates {
			if !images[i].Taken.Before(edge) {
				keep(i, fmt.Sprintf("clause %q: taken since %s", c.text, edge.Format("2006-01-02 15:04")))
			}
		}
	case slices.Contains(tiers, c.unit):
		n, last := 0, ""
		for _, i := range candidates {
			p := period(images[i].Taken.In(now.Location()), c.unit)
			if p == last {
				continue
			}
			if n, last = n+1, p; n > c.n {
				return
			}
			keep(i, fmt.Sprintf("clause %q: the newest of %s", c.text, p))
		}
	}
}

// decide holds what staying images lean on, words the rest, and looks whether the guard must stop it.
func decide(now time.Time, images []Image, order []int, why []string, fixed []bool) Plan {
	byID := make(map[string]int, len(images))
	for i, m := range images {
		byID[m.ID] = i
	}
	held := make([]string, len(images))
	for _, i := range order {
		if why[i] == "" {
			continue
		}
		for at, above := i, images[i].ID; images[at].Base != ""; {
			base, ok := byID[images[at].Base]
			if !ok || held[base] != "" || base == i {
				break
			}
			held[base] = fmt.Sprintf("image %s, which stays, leans on it", above)
			at, above = base, images[base].ID
		}
	}
	plan := Plan{Decisions: make([]Decision, len(images)), fixed: fixed}
	for i, m := range images {
		d := Decision{m.ID, Drop, "no clause of the rule keeps it"}
		switch {
		case why[i] != "":
			d.Verdict, d.Why = Keep, why[i]
		case held[i] != "":
			d.Verdict, d.Why = Held, "the rule lets it go, but "+held[i]
		case m.State != "usable":
			d.Why = "it is " + m.State + ", and a newer usable image exists"
		}
		plan.Decisions[i] = d
	}
	plan.guard(now, images)
	return plan
}

// guard looks whether the plan is one that nobody can have meant.
func (p *Plan) guard(now time.Time, images []Image) {
	whole, gone := 0, 0
	usable := false
	var latest time.Time
	for i, m := range images {
		if m.Taken.After(latest) {
			latest = m.Taken
		}
		if m.State != "usable" {
			continue
		}
		if usable = true; m.Base == "" {
			whole++
			if p.Decisions[i].Verdict == Drop {
				gone++
			}
		}
	}
	switch {
	case usable && now.Before(latest):
		p.Guard = fmt.Sprintf("the moment %s is earlier than the newest image (%s): is the clock right?",
			now.Format(time.RFC3339), latest.In(now.Location()).Format(time.RFC3339))
	case gone >= 3 && 2*gone > whole:
		p.Guard = fmt.Sprintf("it would drop %d of %d usable images that stand by themselves: is the rule right?", gone, whole)
	}
}
