package lodge

import (
	"context"
	"reflect"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/inventory"
	"keenlodge/internal/planning"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

const (
	// standingAge is how long what a summary is made of is remembered.
	standingAge = 3 * time.Second
	// namesShown bounds how many machines a summary names of each sort.
	namesShown = 20
)

// standing is how the machines stand with the policies: what a summary, and the list of policies, is made of.
type standing struct {
	at       time.Time
	site     *site.Site
	policies map[string]covering
	summary  wire.Standing
}

// covering is what a policy covers.
type covering struct {
	covers    []string
	covered   int
	freshness time.Duration
}

// standings remembers the last standing, so that a page that asks for it often costs one look at all machines in a while.
type standings struct {
	mu   sync.Mutex
	last standing
}

// coverage is how the machines within a reach stand; of all, some seconds old at the most.
func (l *Lodge) coverage(ctx context.Context, s site.Site, in right.Within) (standing, error) {
	if !in.All {
		return l.stand(ctx, s, in)
	}
	l.standings.mu.Lock()
	defer l.standings.mu.Unlock() // who asks meanwhile waits for the same answer
	if last := l.standings.last; time.Since(last.at) < standingAge && reflect.DeepEqual(last.site.Policies, s.Policies) {
		return last, nil
	}
	st, err := l.stand(ctx, s, in)
	if err == nil {
		l.standings.last = st
	}
	return st, err
}

// sooner is the shorter of two promises; 0 is none.
func sooner(a, b time.Duration) time.Duration {
	if a == 0 || b > 0 && b < a {
		return b
	}
	return a
}

// isLate reports whether the newest image of a machine that is covered is older than what is promised, or missing.
func isLate(newest *time.Time, promised time.Duration, now time.Time) bool {
	return newest == nil || promised > 0 && now.Sub(*newest) > promised
}

// stand looks at every machine within a reach once.
func (l *Lodge) stand(ctx context.Context, s site.Site, in right.Within) (standing, error) {
	now := time.Now()
	st := standing{at: now, site: &s, policies: map[string]covering{}}
	machines, err := l.rec.MachineStandings(ctx)
	if err != nil {
		return st, err
	}
	names, matchers := s.Matchers()
	for _, name := range names {
		freshness := planning.FreshnessLimit(s, name, now)
		if owed := s.Policies[name].Owes().Age; owed > 0 { // what is promised in words holds before what the schedules imply
			freshness = owed
		}
		st.policies[name] = covering{covers: []string{}, freshness: freshness}
	}
	sum := wire.Standing{Machines: 0, Late: wire.Some{Names: []string{}}, Failed: wire.Some{Names: []string{}}, Unproven: wire.Some{Names: []string{}}, Open: wire.Some{Names: []string{}}, Notices: []wire.Notice{}}
	heard, err := l.rec.Sources(ctx)
	if err != nil {
		return st, err
	}
	for _, h := range heard {
		if _, known := s.Hypervisors[h.Name]; known && (in.All || in.SeenSources[h.Name]) && h.Error != "" && len(sum.Notices) < namesShown {
			last := "never yet"
			if h.Heard != nil {
				last = "last " + h.Heard.In(s.Location()).Format("Mon 2 Jan 15:04")
			}
			sum.Notices = append(sum.Notices, wire.Notice{On: h.Name, Text: "it did not answer when it was asked for its guests (it did " + last + "): " + h.Error})
		}
	}
	for _, m := range machines {
		if !in.All && !in.SeenMachines[m.ID] {
			continue
		}
		if m.Retired != nil {
			sum.Retired++
			continue
		}
		if m.Notice != "" || m.AlsoOn != "" {
			text := m.Notice
			if m.AlsoOn != "" {
				text = "hypervisors " + m.Hypervisor + " and " + m.AlsoOn + " both have a machine of this UUID: a copied definition, or it is on its way. It is captured once, where it runs; give a copy a UUID of its own"
			}
			if len(sum.Notices) < namesShown {
				sum.Notices = append(sum.Notices, wire.Notice{On: m.Label, Text: text})
			}
		}
		covered, promised := false, time.Duration(0)
		for i, name := range names {
			if !matchers[i].Selects(m.Hypervisor, m.Name, m.Tags) {
				continue
			}
			c := st.policies[name]
			if m.Live() {
				if c.covered++; len(c.covers) < coversShown {
					c.covers = append(c.covers, m.Label)
				}
				st.policies[name] = c
			}
			covered = true
			promised = sooner(promised, c.freshness)
		}
		if m.Live() {
			sum.Machines++
		}
		switch {
		case !covered && m.Live():
			sum.Open.Add(m.Label, namesShown)
		case covered && (m.Live() || m.NewestTaken != nil):
			sum.Covered++
			if isLate(m.NewestTaken, promised, now) {
				sum.Late.Add(m.Label, namesShown)
			}
			switch {
			case m.NewestFailed:
				sum.Failed.Add(m.Label, namesShown)
			case m.NewestProven != "":
				sum.Proven++
			case m.NewestTaken != nil:
				sum.Unproven.Add(m.Label, namesShown)
			}
		}
	}
	st.summary = sum
	return st, nil
}

// Summary is how the lodge stands, as far as it is within a reach.
func (l *Lodge) Summary(ctx context.Context, in right.Within) (wire.Standing, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return wire.Standing{}, err
	}
	st, err := l.coverage(ctx, s, in)
	if err != nil {
		return wire.Standing{}, err
	}
	out := st.summary
	out.Notices = slices.Clone(out.Notices)
	policies, err := l.rec.PolicyStandings(ctx)
	if err != nil {
		return out, err
	}
	now := time.Now()
	owed, err := l.Promises.Sum(ctx, func(id string) bool { return in.All || in.SeenMachines[id] })
	if err != nil {
		return out, err
	}
	out.Owed = wire.Owed{Machines: owed.Machines, Kept: owed.Kept, Overdue: wire.SomeOf(owed.Overdue, namesShown), Failed: wire.SomeOf(owed.Failed, namesShown), Impossible: wire.SomeOf(owed.Impossible, namesShown)}
	if in.All {
		told, err := l.doorman.Notices(ctx, now)
		if err != nil {
			return out, err
		}
		out.Notices = append(out.Notices, told[:min(len(told), namesShown)]...)
	}
	for _, p := range policies {
		if !in.All && !in.SeenPolicies[p.Name] {
			continue
		}
		if p.Notice != "" {
			out.Held++
			if len(out.Notices) < namesShown {
				out.Notices = append(out.Notices, wire.Notice{On: p.Name, Text: p.Notice})
			}
		}
		if p.Holds(now) {
			out.Paused++
			continue // what is paused does not run next
		}
		if p.NextDue != nil && (out.Next == nil || p.NextDue.Before(out.Next.At)) {
			out.Next = nextRun(s, p)
		}
	}
	return out, nil
}

func nextRun(s site.Site, p records.PolicyStanding) *wire.NextRun {
	next := &wire.NextRun{Policy: p.Name, At: *p.NextDue, Says: []string{}, Rotation: s.Policies[p.Name].Rotation}
	for _, parsed := range s.Policies[p.Name].Parsed(s.Location()) {
		next.Says = append(next.Says, parsed.Words())
	}
	return next
}

// LaneView is a machine over time.
type LaneView struct {
	inventory.View
	Images         []records.Image
	Late           bool
	FreshnessLimit time.Duration
	Next           *wire.NextRun
}

// imagesShown bounds the images of a lane.
const imagesShown = 60

// Lanes lists machines over time, with the cursor of the next page.
func (l *Lodge) Lanes(ctx context.Context, f records.MachineFilter, in right.Within) ([]LaneView, string, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, "", err
	}
	machines, next, err := l.Inventory.Views(ctx, f)
	if err != nil {
		return nil, "", err
	}
	standings, err := l.rec.PolicyStandings(ctx)
	if err != nil {
		return nil, "", err
	}
	stand, err := l.coverage(ctx, s, right.Everything) // what is promised does not depend on who looks
	if err != nil {
		return nil, "", err
	}
	now := time.Now()
	ids := make([]string, len(machines))
	out := make([]LaneView, len(machines))
	at := map[string]int{}
	for i, m := range machines {
		ids[i], at[m.ID] = m.ID, i
		v := LaneView{View: m, Images: []records.Image{}}
		for _, p := range standings {
			if !slices.Contains(m.CoveredBy, p.Name) || !in.All && !in.SeenPolicies[p.Name] {
				continue
			}
			v.FreshnessLimit = sooner(v.FreshnessLimit, stand.policies[p.Name].freshness)
			if m.Live() && p.NextDue != nil && !p.Holds(now) && (v.Next == nil || p.NextDue.Before(v.Next.At)) {
				v.Next = nextRun(s, p)
			}
		}
		v.Late = len(m.CoveredBy) > 0 && isLate(m.NewestTaken, v.FreshnessLimit, now)
		out[i] = v
	}
	images, err := l.rec.ImagesOfMachines(ctx, ids, imagesShown)
	for _, m := range images {
		if in.Image(m.MachineID, m.Policy) {
			out[at[m.MachineID]].Images = append(out[at[m.MachineID]].Images, m)
		}
	}
	return out, next, err
}
