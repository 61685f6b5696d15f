package rotation

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/core/image"
)

// Image is what the planner knows of an image.
type Image struct {
	ID      string        `json:"id"`
	Taken   time.Time     `json:"taken"`
	Capture image.Capture `json:"capture"`
	// Base is the image that this one leans on, or "".
	Base   string      `json:"base"`
	State  image.State `json:"state"`
	Pinned bool        `json:"pinned"`
	// Proven is the best level of a passed proof, or "".
	Proven image.Level `json:"proven"`
	Bytes  int64       `json:"bytes"`
	// Unusual says that something in it may mean that data was lost, and that nobody has looked.
	Unusual bool `json:"unusual,omitempty"`
	// Locked is until when nothing can delete it, the zero time for no lock.
	Locked time.Time `json:"locked,omitzero"`
	// Elsewhere says that it lies in another store than new ones: its going makes no room where that is needed.
	Elsewhere bool `json:"elsewhere,omitempty"`
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
	// Unusual is the image for which nothing is dropped until a person has looked, or "".
	Unusual string `json:"unusual,omitempty"`

	fixed []bool // by image: kept by more than a clause
}

// HoldUnusual keeps all images where one of them is unusual: those from before may be the last good ones.
func (p *Plan) HoldUnusual(images []Image) {
	at := slices.IndexFunc(images, func(m Image) bool { return m.Unusual })
	if at < 0 {
		return
	}
	p.Unusual = images[at].ID
	for i := range p.Decisions {
		p.fixed[i] = true
		if d := &p.Decisions[i]; d.Verdict == Drop {
			d.Verdict, d.Why = Held, fmt.Sprintf("image %s is unusual, and nobody has looked (else: %s)", p.Unusual, d.Why)
		}
	}
	p.Guard = ""
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
	j := new(judgement)
	j.judge(rule, now, images)
	plan := Plan{Decisions: make([]Decision, len(images)), fixed: j.fixed}
	for i, m := range images {
		d := Decision{m.ID, Drop, "no clause of the rule keeps it"}
		switch {
		case j.why[i].kind == locked:
			d.Verdict, d.Why = Held, j.why[i].words(rule, now, m)
		case j.why[i].kind != none:
			d.Verdict, d.Why = Keep, j.why[i].words(rule, now, m)
		case j.held[i] != 0:
			d.Verdict, d.Why = Held, fmt.Sprintf("the rule lets it go, but image %s, which stays, leans on it", images[j.held[i]-1].ID)
		case m.State == image.Broken:
			d.Why = "it is " + string(m.State) + ", and a newer usable image exists"
		}
		plan.Decisions[i] = d
	}
	plan.guard(now, images)
	return plan
}

// Going tells, image by image, whether [Make] would drop it, and whether the guard would stop that for its number: with no reasons it is
// many times as fast, for those who play years.
func Going(rule Rule, now time.Time, images []Image) (going []bool, guarded bool) {
	j := judgements.Get().(*judgement)
	defer judgements.Put(j)
	j.judge(rule, now, images)
	going = make([]bool, len(images))
	for i := range images {
		going[i] = j.why[i].kind == none && j.held[i] == 0
	}
	usable, together := standing(images, func(i int) bool { return going[i] })
	return going, usable.tooMany() || together.tooMany()
}

// loss is how many of the images that stand by themselves go, of how many.
type loss struct{ gone, of int }

// tooMany is when nobody can have meant it.
func (l loss) tooMany() bool { return l.gone >= 3 && 2*l.gone > l.of }

func (l *loss) count(goes bool) {
	if l.of++; goes {
		l.gone++
	}
}

// standing counts the images that lean on nothing: the usable ones, and these together with broken ones, which a repair could still mend.
func standing(images []Image, goes func(i int) bool) (usable, together loss) {
	for i := range images {
		switch m := &images[i]; {
		case m.Base != "":
		case m.State == image.Usable:
			usable.count(goes(i))
			together.count(goes(i))
		case m.State == image.Broken:
			together.count(goes(i))
		}
	}
	return usable, together
}

// reasonKind says what sort of reason keeps an image.
type reasonKind uint8

const (
	none      reasonKind = iota
	numbered             // by a clause that counts: number n
	aged                 // by a clause of time
	tiered               // by a clause of tiers: the newest of its period
	first                // by the clause "first"
	asked                // by a clause "last proven"
	pinned               // from here on, more than a clause keeps it
	beingMade            // it is being written
	newest               // it is the newest usable image
	proven               // it is the newest image with a proof
	locked               // the rule lets it go, and nothing can delete it yet
	unclear              // it is doubtful, or in a state of which nothing is known
	notYet               // it is not usable, and there is no newer one that is
)

// reason is why an image stays. Its words cost more than all the rest, so they are made only when somebody reads them.
type reason struct {
	kind   reasonKind
	clause uint8
	n      int32
}

func (r reason) words(rule Rule, now time.Time, m Image) string {
	c := clause{}
	if int(r.clause) < len(rule.clauses) {
		c = rule.clauses[r.clause]
	}
	switch r.kind {
	case numbered:
		return fmt.Sprintf("clause %q: number %d of %d", c.text, r.n, c.n)
	case aged:
		return fmt.Sprintf("clause %q: taken since %s", c.text, since(now, c.n, c.unit).Format("2006-01-02 15:04"))
	case tiered:
		return fmt.Sprintf("clause %q: the newest of %s", c.text, period(m.Taken.In(now.Location()), c.unit))
	case first:
		return `clause "first": the earliest usable image`
	case asked:
		return fmt.Sprintf("clause %q: the newest with a proof by %s", c.text, m.Proven)
	case pinned:
		return "it is pinned"
	case beingMade:
		return "it is being written"
	case newest:
		return "it is the newest usable image"
	case proven:
		return "it is the newest image proven by " + string(m.Proven)
	case locked:
		return "the rule lets it go, but it is locked until " + m.Locked.In(now.Location()).Format("2006-01-02 15:04")
	case unclear:
		if m.State == image.Doubtful {
			return "it is doubtful: a repair may mend it, or a second reading tell that it is broken"
		}
		return fmt.Sprintf("its state %q is none that this program knows", m.State)
	}
	return "it is " + string(m.State) + ", and there is no newer usable image yet"
}

// judgement is the outcome before it is put into words, by image.
type judgement struct {
	why   []reason // the first one found
	fixed []bool   // kept by more than a clause
	held  []int32  // 1 + the image that leans on it and stays, or 0

	order, candidates []int32 // newest first
	clocks            []localClock
}

// judgements are used again by [Going], which is called a million times for a year of many policies.
var judgements = sync.Pool{New: func() any { return new(judgement) }}

// fresh gives a slice of n zeros, in an old one's place if that is large enough.
func fresh[T any](old []T, n int) []T {
	if cap(old) < n {
		return make([]T, n, 2*n)
	}
	old = old[:n]
	clear(old)
	return old
}

func (j *judgement) keep(i int, r reason) {
	if j.why[i].kind == none {
		j.why[i] = r
	}
	j.fixed[i] = j.fixed[i] || r.kind >= pinned
}

func (j *judgement) judge(rule Rule, now time.Time, images []Image) {
	n := len(images)
	j.why, j.fixed, j.held, j.order = fresh(j.why, n), fresh(j.fixed, n), fresh(j.held, n), fresh(j.order, n)
	newestFirst(images, j.order)
	latest, shown := -1, -1
	candidates := j.candidates[:0]
	for _, i := range j.order {
		m := &images[i]
		switch {
		case m.State == "writing":
			j.keep(int(i), reason{kind: beingMade})
			continue
		case m.Pinned:
			j.keep(int(i), reason{kind: pinned})
		case m.State == image.Usable:
			candidates = append(candidates, i)
		case m.State != image.Broken:
			j.keep(int(i), reason{kind: unclear})
		}
		if m.State == "usable" {
			if latest < 0 {
				latest = int(i)
			}
			if shown < 0 && m.Proven.AtLeast(image.ByMount) {
				shown = int(i)
			}
		}
	}
	j.candidates = candidates
	for _, c := range rule.clauses {
		if c.unit == "first" && len(candidates) > 0 {
			last := len(candidates) - 1
			j.keep(int(candidates[last]), reason{kind: first})
			candidates = candidates[:last]
			break
		}
	}
	j.clocks = rule.clocks(j.clocks[:0], now, images, candidates)
	for k, c := range rule.clauses {
		c.apply(uint8(k), now, images, candidates, j)
	}
	if latest >= 0 {
		j.keep(latest, reason{kind: newest})
	}
	if shown >= 0 {
		j.keep(shown, reason{kind: proven})
	}
	for i := range images {
		m := &images[i]
		if m.State == image.Broken && (latest < 0 || !images[latest].Taken.After(m.Taken)) {
			j.keep(i, reason{kind: notYet})
		}
	}
	for i := range images {
		if images[i].Locked.After(now) {
			j.keep(i, reason{kind: locked})
		}
	}
	j.hold(images)
}

// newestFirst orders images. They mostly come oldest first.
func newestFirst(images []Image, order []int32) {
	for i := range order {
		order[i] = int32(len(images) - 1 - i)
	}
	compare := func(a, b int32) int {
		if c := images[b].Taken.Compare(images[a].Taken); c != 0 {
			return c
		}
		return cmp.Compare(images[b].ID, images[a].ID)
	}
	if !slices.IsSortedFunc(order, compare) {
		slices.SortFunc(order, compare)
	}
}

// clocks are the candidates' local clocks, where a clause asks for them: looking a zone up is what tiers cost most.
func (r Rule) clocks(out []localClock, now time.Time, images []Image, candidates []int32) []localClock {
	if !slices.ContainsFunc(r.clauses, func(c clause) bool { return slices.Contains(tiers, c.unit) }) {
		return out
	}
	for _, i := range candidates {
		out = append(out, clockOf(images[i].Taken.In(now.Location())))
	}
	return out
}

// apply tells which candidates the clause, the k-th of the rule, keeps.
func (c clause) apply(k uint8, now time.Time, images []Image, candidates []int32, j *judgement) {
	switch {
	case c.unit == "newest":
		for n, i := range candidates[:min(c.n, len(candidates))] {
			j.keep(int(i), reason{numbered, k, int32(n + 1)})
		}
	case c.unit == "last proven":
		for _, i := range candidates {
			if images[i].Proven.AtLeast(c.level) {
				j.keep(int(i), reason{kind: asked, clause: k})
				break
			}
		}
	case slices.Contains(ages, c.unit):
		edge := since(now, c.n, c.unit)
		for _, i := range candidates {
			if !images[i].Taken.Before(edge) {
				j.keep(int(i), reason{kind: aged, clause: k})
			}
		}
	case slices.Contains(tiers, c.unit):
		n, last := 0, int64(math.MinInt64)
		for at, i := range candidates {
			p := periodNumber(j.clocks[at], c.unit)
			if p == last {
				continue
			}
			if n, last = n+1, p; n > c.n {
				return
			}
			j.keep(int(i), reason{kind: tiered, clause: k})
		}
	}
}

// few is how many images are searched one by one, rather than by a table.
const few = 64

// hold finds what staying images lean on.
func (j *judgement) hold(images []Image) {
	lean := false
	for i := range images {
		lean = lean || images[i].Base != ""
	}
	if !lean {
		return
	}
	var byID map[string]int
	if len(images) > few {
		byID = make(map[string]int, len(images))
		for i, m := range images {
			byID[m.ID] = i
		}
	}
	find := func(id string, near int) (int, bool) {
		if byID != nil {
			i, ok := byID[id]
			return i, ok
		}
		for i := near - 1; i >= 0; i-- { // mostly it is the one before
			if images[i].ID == id {
				return i, true
			}
		}
		i := slices.IndexFunc(images, func(m Image) bool { return m.ID == id })
		return i, i >= 0
	}
	for _, i := range j.order {
		if j.why[i].kind == none {
			continue
		}
		for at := int(i); images[at].Base != ""; {
			base, ok := find(images[at].Base, at)
			if !ok || j.held[base] != 0 || base == int(i) {
				break
			}
			j.held[base] = int32(at) + 1
			at = base
		}
	}
}

// guard looks whether the plan is one that nobody can have meant.
func (p *Plan) guard(now time.Time, images []Image) {
	usable := false
	var latest time.Time
	for _, m := range images {
		if m.Taken.After(latest) {
			latest = m.Taken
		}
		usable = usable || m.State == "usable"
	}
	alone, together := standing(images, func(i int) bool { return p.Decisions[i].Verdict == Drop })
	switch {
	case usable && now.Before(latest):
		p.Guard = fmt.Sprintf("the moment %s is earlier than the newest image (%s): is the clock right?",
			now.Format(time.RFC3339), latest.In(now.Location()).Format(time.RFC3339))
	case alone.tooMany():
		p.Guard = fmt.Sprintf("it would drop %d of %d usable images that stand by themselves: is the rule right?", alone.gone, alone.of)
	case together.tooMany():
		p.Guard = fmt.Sprintf("it would drop %d of %d images that stand by themselves, broken ones among them: is what read them in order, and can they be repaired?", together.gone, together.of)
	}
}
