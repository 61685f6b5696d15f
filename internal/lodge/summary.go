package lodge

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"time"

	"keenlodge/internal/core/image"
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
		st.policies[name] = covering{covers: []string{}, freshness: planning.FreshnessLimit(s, name, now)}
	}
	sum := wire.Standing{Machines: 0, Late: wire.Some{Names: []string{}}, Failed: wire.Some{Names: []string{}}, Unproven: wire.Some{Names: []string{}}, Open: wire.Some{Names: []string{}}, Unusual: wire.Some{Names: []string{}}, Notices: []wire.Notice{}}
	odd, err := l.rec.UnusualMachines(ctx)
	if err != nil {
		return st, err
	}
	heard, err := l.rec.Sources(ctx)
	if err != nil {
		return st, err
	}
	for _, h := range heard {
		if _, known := s.Hypervisors[h.Name]; known && (in.All || in.SeenSources[h.Name]) && h.Error != "" {
			last := "never yet"
			if h.Heard != nil {
				last = "last " + h.Heard.In(s.Location()).Format("Mon 2 Jan 15:04")
			}
			sum.Note(h.Name, "it did not answer when it was asked for its guests (it did "+last+"): "+h.Error, namesShown)
		}
	}
	if err := l.noteLeftBehind(ctx, s, &sum, in, now); err != nil {
		return st, err
	}
	for _, m := range machines {
		if !in.All && !in.SeenMachines[m.ID] {
			continue
		}
		if slices.Contains(odd, m.ID) {
			sum.Unusual.Add(m.Label, namesShown)
		}
		if m.Retired != nil {
			sum.Retired++
			continue
		}
		text := m.Notice
		if m.AlsoOn != "" {
			text = "hypervisors " + m.Hypervisor + " and " + m.AlsoOn + " both have a machine of this UUID: a copied definition, or it is on its way. It is captured once, where it runs; give a copy a UUID of its own"
		}
		sum.Note(m.Label, text, namesShown)
		covered, promised := false, time.Duration(0)
		for i, name := range names {
			if m.Hypervisor == "" || !matchers[i].Selects(m.Hypervisor, m.Name, m.Tags) {
				continue
			}
			c := st.policies[name]
			if m.Live() {
				if c.covered++; len(c.covers) < coversShown {
					c.covers = append(c.covers, m.Label)
				}
				st.policies[name] = c
			}
			if s.Policies[name].Covers() == image.InPlace {
				continue // what it keeps is no copy
			}
			covered = true
			promised = planning.Sooner(promised, c.freshness)
		}
		if m.Live() {
			sum.Machines++
		}
		switch {
		case !covered && m.Live():
			sum.Open.Add(m.Label, namesShown)
		case covered && (m.Live() || m.NewestTaken != nil):
			sum.Covered++
			if planning.IsLate(m.NewestTaken, promised, now) {
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

// leftLong is for how long what a run left outside is tried to be removed before the summary tells of it.
const leftLong = 24 * time.Hour

// noteLeftBehind tells of what runs left on sources, such as a snapshot that can't be removed, and that is there a day later still; and of snapshots in
// place that are too old.
func (l *Lodge) noteLeftBehind(ctx context.Context, s site.Site, sum *wire.Standing, in right.Within, now time.Time) error {
	told, err := l.Snapshots.Headlines(ctx, s, now)
	if err != nil {
		return err
	}
	for _, t := range told {
		if in.All || in.SeenMachines[t.MachineID] {
			sum.Note(t.Machine, t.Text, namesShown)
		}
	}
	left, err := l.rec.Unclean(ctx)
	for _, t := range left {
		if t.Ended != nil && now.Sub(*t.Ended) >= leftLong && (in.All || in.SeenMachines[t.MachineID]) {
			sum.Note(t.Machine, fmt.Sprintf("what run %s left on %s can't be removed since %s; it is tried again and again: keenlodge run show %[1]s", t.Run, t.Hypervisor, t.Ended.In(s.Location()).Format("Mon 2 Jan 15:04")), namesShown)
		}
	}
	return err
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
	if out.Owed, err = l.Promises.Sum(ctx, in, namesShown); err != nil {
		return out, err
	}
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
			out.Note(p.Name, p.Notice, namesShown)
		}
		if p.Holds(now) {
			out.Paused++
			continue // what is paused does not run next
		}
		if p.NextDue != nil && (out.Next == nil || p.NextDue.Before(out.Next.At)) {
			out.Next = planning.NextRun(s, p)
		}
	}
	return out, nil
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
			v.FreshnessLimit = planning.Sooner(v.FreshnessLimit, stand.policies[p.Name].freshness)
			if m.Live() && p.NextDue != nil && !p.Holds(now) && (v.Next == nil || p.NextDue.Before(v.Next.At)) {
				v.Next = planning.NextRun(s, p)
			}
		}
		v.Late = len(m.CoveredBy) > 0 && planning.IsLate(m.NewestTaken, v.FreshnessLimit, now)
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
