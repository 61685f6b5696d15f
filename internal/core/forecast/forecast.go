// Package forecast plays the future of policies: when they run, which images will exist, what rotation drops, and the space that they
// take. It does no I/O and knows no clock: what is known today and the moment go in, days come out.
package forecast

import (
	"cmp"
	"runtime"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/when"
)

// Range is a number with how far it may be off, such as bytes.
type Range struct {
	Low    int64 `json:"low"`
	Likely int64 `json:"likely"`
	High   int64 `json:"high"`
}

func (r Range) plus(o Range) Range { return Range{r.Low + o.Low, r.Likely + o.Likely, r.High + o.High} }

func (r Range) minus(o Range) Range {
	return Range{r.Low - o.Low, r.Likely - o.Likely, r.High - o.High}
}

// Exactly is a number that is known.
func Exactly(n int64) Range { return Range{n, n, n} }

// Policy is what is known of a policy.
type Policy struct {
	Name, Store string
	Starts      []Start
	// Hours must all be open for a run to start; otherwise it waits.
	Hours   []when.Windows
	Cycle   cycle.Rule
	Capture image.Capture // of images between full ones
	Rule    rotation.Rule
	Fold    bool
	// Locked is how long nothing can delete an image that was made.
	Locked time.Duration
	// PausedUntil keeps it from running; the zero time for no pause. Paused says that no end of it is known.
	PausedUntil time.Time
	Paused      bool
	Sets        []Set
}

// Start is a schedule, with the capture that it asks for or "".
type Start struct {
	When    when.Schedule
	Capture image.Capture
}

// Set is a machine's images under a policy, oldest first, and what its images are like.
type Set struct {
	Machine, Hypervisor string
	Images              []rotation.Image
	// Made are the images that were made, oldest first, those too that are gone: the cycle counts on from them.
	Made []cycle.Image
	// Full and Between are what images of a kind add to the store, in bytes, Took how long they take.
	Full, Between Range
	Took          time.Duration
}

// Store is what is known of a store.
type Store struct {
	Name string
	// Leans says that images lean on each other there, as in the open layout.
	Leans bool
	// Free and Floor are bytes; Free is negative where the medium does not tell.
	Free, Floor int64
	// Grace is how long the space of dropped images stays taken.
	Grace time.Duration
	// Tasks is how many machines it takes at once.
	Tasks int
}

// Request is what a forecast is made of.
type Request struct {
	Now      time.Time // carries the zone in which days begin
	Days     int
	Policies []Policy
	Stores   []Store
	// HypervisorTasks is how many machines a hypervisor lets be captured at once, by name.
	HypervisorTasks map[string]int
}

// Forecast is the future, as far as today's experience goes.
type Forecast struct {
	Policies []PolicyDays `json:"policies"`
	Stores   []StoreDays  `json:"stores"`
	Crowds   []Contention `json:"crowds"`
}

// PolicyDays is a policy's future. Days[0] is today.
type PolicyDays struct {
	Policy string `json:"policy"`
	Days   []Day  `json:"days"`
}

// Day is what a policy does on a day, and has at its end.
type Day struct {
	Date    string       `json:"date"`
	Runs    []PlannedRun `json:"runs"`
	Images  int          `json:"images"`
	Dropped int          `json:"dropped"`
	// Held says that the guard holds a rotation back, until a person confirms it.
	Held bool `json:"held"`
	// Taken is the space of the policy's images in bytes, of those too whose grace is not over.
	Taken Range `json:"taken"`
}

// PlannedRun is a run that will be.
type PlannedRun struct {
	At time.Time `json:"at"`
	// Waited is how long it waits for its window, in nanoseconds.
	Waited time.Duration `json:"waited,omitempty"`
	// Ends is when it is likely to be over.
	Ends time.Time `json:"ends"`
	// Full and Between are how many machines get images of a kind; Adds is bytes.
	Full    int   `json:"full"`
	Between int   `json:"between"`
	Adds    Range `json:"adds"`
}

// StoreDays is a store's future: Free is bytes at each day's end. Hit is the first day on which it is below the floor by the likely
// course, HitEarly by the worst; both are empty for none.
type StoreDays struct {
	Store    string  `json:"store"`
	Free     []Range `json:"free"`
	Floor    int64   `json:"floor"`
	Hit      string  `json:"hit"`
	HitEarly string  `json:"hit_early"`
}

// Contention is a time at which more machines want to be captured than a hypervisor or store allows: some of them wait.
type Contention struct {
	On       string    `json:"on"` // such as "hypervisor quay-1"
	From     time.Time `json:"from"`
	Until    time.Time `json:"until"`
	Machines int       `json:"machines"`
	Allowed  int       `json:"allowed"`
	Policies []string  `json:"policies"`
}

// Make plays the future. It is the same for the same request, on as many processors as there are.
func Make(r Request) Forecast {
	stores := map[string]Store{}
	for _, s := range r.Stores {
		stores[s.Name] = s
	}
	days := dates(r.Now, r.Days)
	moments := starts(r)
	out := Forecast{Policies: make([]PolicyDays, len(r.Policies)), Stores: []StoreDays{}, Crowds: []Contention{}}
	var all sync.WaitGroup
	work := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			for i := range work {
				out.Policies[i] = play(&r.Policies[i], stores[r.Policies[i].Store], moments[i], days, r.Now)
			}
		})
	}
	for i := range r.Policies {
		work <- i
	}
	close(work)
	all.Wait()
	for _, s := range r.Stores {
		out.Stores = append(out.Stores, sum(s, r.Policies, out.Policies, days))
	}
	out.Crowds = crowds(r, out.Policies)
	return out
}

// dates are the moments at which the days end, today's first.
func dates(now time.Time, n int) (ends []time.Time) {
	y, m, d := now.Date()
	for i := range n {
		ends = append(ends, time.Date(y, m, d+i+1, 0, 0, 0, 0, now.Location()))
	}
	return ends
}

// moment is when a run begins, and the capture that its schedule asks for.
type moment struct {
	at      time.Time
	waited  time.Duration
	capture image.Capture
}

// starts finds when each policy's runs begin. Those that come after another's are found from its runs' ends.
func starts(r Request) [][]moment {
	until := r.Now.AddDate(0, 0, r.Days)
	out := make([][]moment, len(r.Policies))
	at := map[string]int{}
	var all sync.WaitGroup
	work := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		all.Go(func() {
			for i := range work {
				out[i] = r.Policies[i].moments(r.Now, until)
			}
		})
	}
	for i, p := range r.Policies {
		at[p.Name] = i
		work <- i
	}
	close(work)
	all.Wait()
	settled := make([]bool, len(r.Policies)) // set at first, so that a loop, which the site refuses, ends
	var settle func(k int)
	settle = func(k int) {
		if settled[k] {
			return
		}
		settled[k] = true
		p := &r.Policies[k]
		for _, s := range p.Starts {
			after, _ := s.When.After()
			i, ok := at[after]
			if !ok {
				continue
			}
			settle(i)
			for _, m := range out[i] {
				if begin := m.at.Add(r.Policies[i].took()); begin.Before(until) && !p.paused(begin) {
					out[k] = append(out[k], moment{at: begin, capture: s.Capture})
				}
			}
		}
		slices.SortStableFunc(out[k], func(a, b moment) int { return a.at.Compare(b.at) })
	}
	for k := range r.Policies {
		settle(k)
	}
	return out
}

func (p *Policy) paused(at time.Time) bool { return p.Paused || at.Before(p.PausedUntil) }

// took is how long a run is likely to take: its machines one after the other, which is the most.
func (p *Policy) took() (d time.Duration) {
	for _, s := range p.Sets {
		d += s.Took
	}
	return d
}

// moments lists a policy's own, the strongest capture where several meet. A run that waits for its window swallows those that come
// while it does.
func (p *Policy) moments(now, until time.Time) (out []moment) {
	next := make([]time.Time, len(p.Starts))
	for i, s := range p.Starts {
		next[i] = s.When.Next(now)
	}
	busy := now
	for {
		var first time.Time
		for _, at := range next {
			if !at.IsZero() && (first.IsZero() || at.Before(first)) {
				first = at
			}
		}
		if first.IsZero() || !first.Before(until) {
			return out
		}
		capture, strength := image.Capture(""), -1
		for i, at := range next {
			if !at.Equal(first) {
				continue
			}
			if s := cycle.Strength(p.Starts[i].Capture); s > strength {
				capture, strength = p.Starts[i].Capture, s
			}
			next[i] = p.Starts[i].When.Next(at)
		}
		if first.Before(busy) || p.paused(first) {
			continue
		}
		opens := first
		if len(p.Hours) > 0 {
			var ok bool
			if opens, ok = p.Hours[0].Opens(first, p.Hours[1:]...); !ok {
				continue
			}
		}
		if opens.Before(until) {
			out = append(out, moment{opens, opens.Sub(first), capture})
		}
		busy = opens
	}
}

// kept is an image on its way through the days.
type kept struct {
	bytes Range
	gone  time.Time // when its space is free
}

// playing is a set under way.
type playing struct {
	*Set
	images []rotation.Image
	bytes  []Range
	made   []cycle.Image // since the last full one
	n      int
}

// play goes through a policy's days.
func play(p *Policy, store Store, runs []moment, ends []time.Time, now time.Time) PolicyDays {
	out := PolicyDays{Policy: p.Name, Days: make([]Day, len(ends))}
	sets := make([]playing, len(p.Sets))
	for i := range p.Sets {
		sets[i] = begin(&p.Sets[i])
	}
	var leaving []kept
	took := p.took()
	for d, end := range ends {
		day := &out.Days[d]
		day.Date, day.Runs = end.AddDate(0, 0, -1).Format(time.DateOnly), []PlannedRun{}
		for len(runs) > 0 && runs[0].at.Before(end) {
			m := runs[0]
			runs = runs[1:]
			run := PlannedRun{At: m.at, Waited: m.waited, Ends: m.at.Add(took)}
			for i := range sets {
				full, adds := sets[i].add(p, store, m)
				if run.Adds = run.Adds.plus(adds); full {
					run.Full++
				} else {
					run.Between++
				}
				dropped, held := sets[i].rotate(p, m.at)
				day.Held = day.Held || held
				for _, bytes := range dropped {
					day.Dropped++
					leaving = append(leaving, kept{bytes, m.at.Add(store.Grace)})
				}
			}
			day.Runs = append(day.Runs, run)
		}
		leaving = slices.DeleteFunc(leaving, func(k kept) bool { return !k.gone.After(end) })
		for _, k := range leaving {
			day.Taken = day.Taken.plus(k.bytes)
		}
		for i := range sets {
			day.Images += len(sets[i].images)
			for _, b := range sets[i].bytes {
				day.Taken = day.Taken.plus(b)
			}
		}
	}
	return out
}

func begin(s *Set) playing {
	p := playing{Set: s, images: slices.Clone(s.Images)}
	for _, m := range s.Images {
		p.bytes = append(p.bytes, Exactly(m.Bytes))
	}
	for _, m := range s.Made {
		p.note(m.Taken, m.Full)
	}
	return p
}

// note remembers what the cycle looks at.
func (p *playing) note(at time.Time, full bool) {
	if full {
		p.made = p.made[:0]
	}
	if full || len(p.made) > 0 {
		p.made = append(p.made, cycle.Image{Taken: at, Full: full})
	}
}

// add makes an image and tells whether it is full and what it adds.
func (p *playing) add(policy *Policy, store Store, m moment) (full bool, adds Range) {
	kind := policy.Capture
	if m.capture == "incremental" || m.capture == "differential" {
		kind = m.capture
	}
	full = m.capture == "full" || m.capture == "" && policy.Cycle.Due(p.made, m.at) != ""
	base := -1
	for i := len(p.images) - 1; i >= 0 && !full; i-- {
		if p.images[i].State == "usable" && (kind == "incremental" || p.images[i].Capture == "full") {
			base = i
			break
		}
	}
	p.n++
	image := rotation.Image{ID: "coming-" + digits(p.n), Taken: m.at, Capture: "full", State: "usable"}
	if policy.Locked > 0 {
		image.Locked = m.at.Add(policy.Locked)
	}
	full, adds = base < 0, p.Full
	if !full {
		image.Capture, adds = kind, p.Between
		if store.Leans {
			image.Base = p.images[base].ID
		}
	}
	image.Bytes = adds.Likely
	p.images, p.bytes = append(p.images, image), append(p.bytes, adds)
	p.note(m.at, full)
	return full, adds
}

// digits writes a number quickly.
func digits(n int) string {
	var b [12]byte
	i := len(b)
	for ; n > 0 || i == len(b); n /= 10 {
		i--
		b[i] = byte('0' + n%10)
	}
	return string(b[i:])
}

// rotate drops what the rule lets go, after folding where the policy does, and returns its bytes; or the guard holds it back.
func (p *playing) rotate(policy *Policy, now time.Time) (dropped []Range, held bool) {
	if policy.Fold {
		plan := rotation.Make(policy.Rule, now, p.images)
		for {
			base, into, ok := plan.Fold(p.images)
			if !ok {
				break
			}
			plan.Folded(p.images, base, into)
		}
	}
	going, guarded := rotation.Going(policy.Rule, now, p.images)
	if guarded || !slices.Contains(going, true) {
		return nil, guarded
	}
	keep := 0
	for i, gone := range going {
		if gone {
			dropped = append(dropped, p.bytes[i])
			continue
		}
		p.images[keep], p.bytes[keep] = p.images[i], p.bytes[i]
		keep++
	}
	clear(p.images[keep:])
	p.images, p.bytes = p.images[:keep], p.bytes[:keep]
	return dropped, false
}

// sum adds up what a store's policies take on each day.
func sum(s Store, policies []Policy, played []PolicyDays, ends []time.Time) StoreDays {
	out := StoreDays{Store: s.Name, Free: make([]Range, 0, len(ends)), Floor: s.Floor}
	if s.Free < 0 {
		return out
	}
	var today Range
	for _, p := range policies {
		if p.Store == s.Name {
			for _, set := range p.Sets {
				for _, m := range set.Images {
					today = today.plus(Exactly(m.Bytes))
				}
			}
		}
	}
	for d, end := range ends {
		more := Range{}.minus(today)
		for i, p := range policies {
			if p.Store == s.Name {
				more = more.plus(played[i].Days[d].Taken)
			}
		}
		free := Range{s.Free - more.High, s.Free - more.Likely, s.Free - more.Low}
		out.Free = append(out.Free, free)
		date := end.AddDate(0, 0, -1).Format(time.DateOnly)
		if out.Hit == "" && free.Likely < s.Floor {
			out.Hit = date
		}
		if out.HitEarly == "" && free.Low < s.Floor {
			out.HitEarly = date
		}
	}
	return out
}

// mostCrowds bounds how many crowds are told.
const mostCrowds = 50

// edge is the begin or end of a run's time on a hypervisor or store. A year of 1,000 policies has more than a million of them, so
// they are small.
type edge struct {
	at       int64 // nanoseconds since 1970
	machines int32
	policy   int32
}

// crowds finds when more machines are at work on a hypervisor, or write into a store, than it allows at once.
func crowds(r Request, played []PolicyDays) []Contention {
	allowed := map[string]int{}
	edges := map[string][]edge{}
	for name, n := range r.HypervisorTasks {
		allowed["hypervisor "+name] = n
	}
	for _, s := range r.Stores {
		allowed["store "+s.Name] = s.Tasks
	}
	for i, p := range r.Policies {
		on := map[string]int{}
		if p.Store != "" { // snapshots in place lie in none
			on["store "+p.Store] = len(p.Sets)
		}
		for _, s := range p.Sets {
			on["hypervisor "+s.Hypervisor]++
		}
		for _, day := range played[i].Days {
			for _, run := range day.Runs {
				for name, n := range on {
					if allowed[name] > 0 {
						edges[name] = append(edges[name], edge{run.At.UnixNano(), int32(n), int32(i)}, edge{run.Ends.UnixNano(), -int32(n), int32(i)})
					}
				}
			}
		}
	}
	out := []Contention{}
	var mu sync.Mutex
	var all sync.WaitGroup
	for name, list := range edges {
		all.Go(func() {
			found := crowded(name, allowed[name], list, r)
			mu.Lock()
			defer mu.Unlock()
			out = append(out, found...)
		})
	}
	all.Wait()
	slices.SortFunc(out, func(a, b Contention) int { return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.On, b.On)) })
	return out[:min(len(out), mostCrowds)]
}

// crowded goes through the edges of one place. Only where several policies meet is it a crowd: one alone spreads its machines itself.
func crowded(on string, allowed int, list []edge, r Request) (out []Contention) {
	slices.SortFunc(list, func(a, b edge) int { return cmp.Compare(a.at, b.at) })
	at := make([]int32, len(r.Policies)) // machines at work, by policy
	in := make([]bool, len(r.Policies))  // the present crowd
	machines, policies, open := 0, 0, false
	for len(list) > 0 { // all that begins and ends in one moment
		now, n := list[0].at, 0
		for ; n < len(list) && list[n].at == now; n++ {
			e := list[n]
			before := at[e.policy]
			machines, at[e.policy] = machines+int(e.machines), before+e.machines
			if before == 0 {
				policies++
			} else if at[e.policy] == 0 {
				policies--
			}
		}
		crowd := machines > allowed && policies > 1
		switch {
		case crowd && !open:
			out = append(out, Contention{On: on, From: time.Unix(0, now).In(r.Now.Location()), Machines: machines, Allowed: allowed})
			for i, n := range at {
				in[i] = n > 0
			}
		case crowd:
			c := &out[len(out)-1]
			c.Machines = max(c.Machines, machines)
			for _, e := range list[:n] {
				in[e.policy] = in[e.policy] || at[e.policy] > 0
			}
		case open:
			c := &out[len(out)-1]
			c.Until = time.Unix(0, now).In(r.Now.Location())
			for i, was := range in {
				if was {
					c.Policies = append(c.Policies, r.Policies[i].Name)
				}
			}
			slices.Sort(c.Policies)
		}
		if open = crowd; !open && len(out) == mostCrowds {
			return out
		}
		list = list[n:]
	}
	return out
}
