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
	j := judge(rule, now, images)
	plan := Plan{Decisions: make([]Decision, len(images)), fixed: j.fixed}
	for i, m := range images {
		d := Decision{m.ID, Drop, "no clause of the rule keeps it"}
		switch {
		case j.why[i].kind != none:
			d.Verdict, d.Why = Keep, j.why[i].words(now.Location())
		case j.held[i] != "":
			d.Verdict, d.Why = Held, fmt.Sprintf("the rule lets it go, but image %s, which stays, leans on it", j.held[i])
		case m.State != "usable":
			d.Why = "it is " + m.State + ", and a newer usable image exists"
		}
		plan.Decisions[i] = d
	}
	plan.guard(now, images)
	return plan
}

// Going tells, image by image, whether [Make] would drop it, with no reasons and no guard: many times as fast, for those who play years.
func Going(rule Rule, now time.Time, images []Image) []bool {
	j := judge(rule, now, images)
	out := make([]bool, len(images))
	for i := range images {
		out[i] = j.why[i].kind == none && j.held[i] == ""
	}
	return out
}

// reasonKind says what sort of reason keeps an image.
type reasonKind uint8

const (
	none reasonKind = iota
	plain
	numbered // by a clause that counts: number n
	aged     // by a clause of time: since at
	tiered   // by a clause of tiers: the newest of at's period
)

// reason is why an image stays. Its words cost more than all the rest, so they are made only when somebody reads them.
type reason struct {
	kind   reasonKind
	text   string
	clause *clause
	n      int
	at     time.Time
}

func (r reason) words(zone *time.Location) string {
	switch r.kind {
	case numbered:
		return fmt.Sprintf("clause %q: number %d of %d", r.clause.text, r.n, r.clause.n)
	case aged:
		return fmt.Sprintf("clause %q: taken since %s", r.clause.text, r.at.Format("2006-01-02 15:04"))
	case tiered:
		return fmt.Sprintf("clause %q: the newest of %s", r.clause.text, period(r.at.In(zone), r.clause.unit))
	}
	return r.text
}

// judgement is the outcome before it is put into words.
type judgement struct {
	why   []reason
	fixed []bool   // kept by more than a clause
	held  []string // the image that leans on it and stays, or ""
}

// keep notes a reason; the first one found is told.
func (j *judgement) keep(i int, r reason) {
	if j.why[i].kind == none {
		j.why[i] = r
	}
}

func (j *judgement) fix(i int, text string) {
	j.keep(i, reason{kind: plain, text: text})
	j.fixed[i] = true
}

func judge(rule Rule, now time.Time, images []Image) judgement {
	order := newestFirst(images)
	j := judgement{make([]reason, len(images)), make([]bool, len(images)), make([]string, len(images))}
	newest, proven := -1, -1
	candidates := make([]int, 0, len(images))
	for _, i := range order {
		switch m := &images[i]; {
		case m.State == "writing":
			j.fix(i, "it is being written")
			continue
		case m.Pinned:
			j.fix(i, "it is pinned")
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
			j.keep(candidates[last], reason{kind: plain, text: `clause "first": the earliest usable image`})
			candidates = candidates[:last]
			break
		}
	}
	for k := range rule.clauses {
		rule.clauses[k].apply(now, images, candidates, &j)
	}
	if newest >= 0 {
		j.fix(newest, "it is the newest usable image")
	}
	if proven >= 0 {
		j.fix(proven, "it is the newest image proven by "+images[proven].Proven)
	}
	for i := range images {
		m := &images[i]
		if m.State != "usable" && m.State != "writing" && (newest < 0 || !images[newest].Taken.After(m.Taken)) {
			j.fix(i, "it is "+m.State+", and there is no newer usable image yet")
		}
	}
	j.hold(images, order)
	return j
}

// newestFirst orders images. They mostly come oldest first.
func newestFirst(images []Image) []int {
	order := make([]int, len(images))
	for i := range order {
		order[i] = len(images) - 1 - i
	}
	compare := func(a, b int) int {
		if c := images[b].Taken.Compare(images[a].Taken); c != 0 {
			return c
		}
		return cmp.Compare(images[b].ID, images[a].ID)
	}
	if !slices.IsSortedFunc(order, compare) {
		slices.SortFunc(order, compare)
	}
	return order
}

// apply tells which candidates the clause keeps.
func (c *clause) apply(now time.Time, images []Image, candidates []int, j *judgement) {
	switch {
	case c.unit == "newest":
		for n, i := range candidates[:min(c.n, len(candidates))] {
			j.keep(i, reason{kind: numbered, clause: c, n: n + 1})
		}
	case slices.Contains(ages, c.unit):
		edge := since(now, c.n, c.unit)
		for _, i := range candidates {
			if !images[i].Taken.Before(edge) {
				j.keep(i, reason{kind: aged, clause: c, at: edge})
			}
		}
	case slices.Contains(tiers, c.unit):
		n, last := 0, int64(-1)
		for _, i := range candidates {
			p := periodNumber(images[i].Taken.In(now.Location()), c.unit)
			if p == last {
				continue
			}
			if n, last = n+1, p; n > c.n {
				return
			}
			j.keep(i, reason{kind: tiered, clause: c, at: images[i].Taken})
		}
	}
}

// hold finds what staying images lean on.
func (j *judgement) hold(images []Image, order []int) {
	if !slices.ContainsFunc(images, func(m Image) bool { return m.Base != "" }) {
		return
	}
	byID := make(map[string]int, len(images))
	for i, m := range images {
		byID[m.ID] = i
	}
	for _, i := range order {
		if j.why[i].kind == none {
			continue
		}
		for at, above := i, images[i].ID; images[at].Base != ""; {
			base, ok := byID[images[at].Base]
			if !ok || j.held[base] != "" || base == i {
				break
			}
			j.held[base] = above
			at, above = base, images[base].ID
		}
	}
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
