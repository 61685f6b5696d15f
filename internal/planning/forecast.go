package planning

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/forecast"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/when"
	"keenlodge/internal/records"
	"keenlodge/internal/records/inplace"
	"keenlodge/internal/retention"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/wire"
)

// mostDays bounds how far a forecast looks.
const mostDays = 400

// Forecast plays the next days of policies and copy rules; none named means all. Those of the same stores that are not named are played, too, for
// they take their room, but not told.
func (pl *Planning) Forecast(ctx context.Context, only []string, days int) (wire.Forecast, error) {
	out := wire.Forecast{Guessed: []string{}, Unreached: []string{}}
	if days < 1 || days > mostDays {
		return out, fmt.Errorf("%w: %d days can't be told; from 1 to %d can", fault.ErrInvalid, days, mostDays)
	}
	s, err := pl.rec.Site(ctx)
	if err != nil {
		return out, err
	}
	for _, name := range only {
		if _, err := s.Planned(name); err != nil {
			return out, err
		}
	}
	now := time.Now().In(s.Location())
	out.From, out.Zone = now.Format(time.DateOnly), s.Zone
	r := forecast.Request{Now: now, Days: days, HypervisorTasks: map[string]int{}}
	for name, h := range s.Hypervisors {
		r.HypervisorTasks[name] = h.Tasks()
	}
	known, err := pl.experience(ctx, s)
	if err != nil {
		return out, err
	}
	told := func(name string) bool { return len(only) == 0 || slices.Contains(only, name) }
	used := map[string]bool{}
	for _, name := range names(s) {
		p, guessed, err := known.policy(s, name)
		if err != nil {
			return out, err
		}
		r.Policies = append(r.Policies, p)
		if told(name) {
			if p.Store != "" {
				used[p.Store] = true
			}
			out.Guessed = append(out.Guessed, guessed...)
		}
	}
	for _, name := range sortedKeys(used) {
		spec := s.Stores[name]
		st := forecast.Store{Name: name, Leans: spec.Layout == site.Open, Free: -1, Floor: spec.FloorBytes(), Grace: spec.GraceTime(), Tasks: spec.Tasks()}
		if room, err := pl.room(ctx, s, name); err == nil {
			st.Free = room.FreeBytes
		} else if ctx.Err() != nil {
			return out, context.Cause(ctx)
		} else {
			out.Unreached = append(out.Unreached, fmt.Sprintf("the room of store %s is not known now: %v", name, err))
		}
		r.Stores = append(r.Stores, st)
	}
	out.Forecast = forecast.Make(r)
	out.Policies = slices.DeleteFunc(out.Policies, func(p forecast.PolicyDays) bool { return !told(p.Policy) })
	out.Crowds = slices.DeleteFunc(out.Crowds, func(c forecast.Contention) bool { return !slices.ContainsFunc(c.Policies, told) })
	return out, nil
}

// room is what is left in a store.
func (pl *Planning) room(ctx context.Context, s site.Site, name string) (medium.Room, error) {
	opened, err := pl.stores.Open(ctx, s, name)
	if err != nil {
		return medium.Room{}, err
	}
	return opened.Medium().Room(ctx)
}

// experience is what a lodge knows of its machines and images.
type experience struct {
	machines []records.Machine
	sets     map[setKey]*seenSet
	pauses   map[string]records.Pause
}

// setKey tells one set of a policy, or of a copy rule, from another.
type setKey struct{ owner, store, machineID string }

// seenSet is what is known of a set, from its images, newest first.
type seenSet struct {
	there []rotation.Image // newest first
	made  []cycle.Image    // newest first
	sizes forecast.Seen
	took  []int64
}

const (
	// countedBack is how far back the images are looked at that are gone: a cycle counts on from them.
	countedBack = 60 * 24 * time.Hour
	// tookSeen is from how many images it is told how long the next takes.
	tookSeen = 21
)

func (pl *Planning) experience(ctx context.Context, s site.Site) (experience, error) {
	e := experience{sets: map[setKey]*seenSet{}}
	var err error
	if e.machines, err = pl.rec.Machines(ctx); err != nil {
		return e, err
	}
	if e.pauses, err = pl.Pauses(ctx); err != nil {
		return e, err
	}
	counting := []string{}
	for _, name := range sortedKeys(s.Policies) {
		if s.Policies[name].Builds() {
			counting = append(counting, name)
		}
	}
	var last *seenSet
	var at setKey
	err = pl.rec.Experience(ctx, counting, time.Now().Add(-countedBack), func(m records.Image) {
		if m.SeparateSet || m.State == image.Writing {
			return
		}
		if k := (setKey{cmp.Or(m.CopiedBy, m.Policy), m.Store, m.MachineID}); last == nil || k != at {
			at = k
			if last = e.sets[k]; last == nil {
				last = &seenSet{}
				e.sets[k] = last
			}
		}
		last.see(m)
	})
	if err != nil {
		return e, err
	}
	inPlace := slices.ContainsFunc(sortedKeys(s.Policies), func(name string) bool { return s.Policies[name].Covers() == image.InPlace })
	if !inPlace {
		return e, nil
	}
	kept, err := pl.rec.Snapshots.List(ctx, inplace.Filter{})
	for _, x := range kept {
		k := setKey{x.Policy, "", x.MachineID}
		if e.sets[k] == nil {
			e.sets[k] = &seenSet{}
		}
		m := x.Known().Rotated()
		m.Bytes = 0
		e.sets[k].there = append(e.sets[k].there, m)
	}
	return e, err
}

// see takes an image into account. A copy adds what changed since the one before, whatever its image was, so that all count as such, and none is full again.
func (k *seenSet) see(m records.Image) {
	copied := m.CopiedBy != ""
	k.made = append(k.made, cycle.Image{Taken: m.Taken, Full: copied || m.Capture == image.Full})
	if m.State != image.Usable {
		return
	}
	if m.Capture == image.Full && !copied {
		k.sizes.Full = append(k.sizes.Full, m.Stored)
	} else {
		k.sizes.Between = append(k.sizes.Between, m.Stored)
	}
	if len(k.took) < tookSeen {
		k.took = append(k.took, m.Took)
	}
	if m.Gone == nil {
		k.there = append(k.there, retention.Planned(m))
	}
}

// policy is a policy, or a copy rule, as the forecast sees it. guessed are its machines of which there is too little experience. Of a copy rule each run is
// taken to copy one image of each machine.
func (e experience) policy(s site.Site, name string) (out forecast.Policy, guessed []string, err error) {
	spec, err := s.Planned(name)
	if err != nil {
		return out, nil, err
	}
	rule, isCopy := s.Copies[name]
	if isCopy { // the first copy of a machine brings all of it, the others what changed
		spec.Cycle = "full once"
	}
	out = forecast.Policy{Name: name, Store: spec.Store, Cycle: spec.CycleRule(), Capture: spec.Between(), Rule: spec.RotationRule(), Fold: spec.Fold, Locked: s.LockOf(name)}
	if p := e.pauses[name]; p.Since != nil {
		if out.Paused = p.Until == nil; p.Until != nil {
			out.PausedUntil = *p.Until
		}
	}
	for i, parsed := range spec.Parsed(s.Location()) {
		out.Starts = append(out.Starts, forecast.Start{When: parsed, Capture: spec.Schedules[i].Capture})
	}
	for _, policy := range sortedKeys(s.Policies) {
		if isCopy && rule.Soon && s.Policies[policy].Store == rule.From && rule.CopiesOf(policy) {
			after, err := when.Parse("after "+policy, s.Location())
			if err != nil {
				return out, nil, err
			}
			out.Starts = append(out.Starts, forecast.Start{When: after})
		}
	}
	var hosts []string
	selects := spec.Matcher()
	for _, m := range e.machines {
		if !m.Live() || !selects.Selects(m.Hypervisor, m.Name, m.Tags) {
			continue
		}
		var source *seenSet
		if isCopy {
			if source = e.source(s, rule, m.ID); source == nil {
				continue // nothing of it is where copies come from
			}
		}
		set, guess := e.set(name, spec.Store, m, source)
		if spec.Covers() == image.InPlace { // in no store, and none of its bytes
			set, guess = forecast.Set{Machine: m.Label, Hypervisor: m.Hypervisor, Images: set.Images}, false
		}
		if out.Sets = append(out.Sets, set); guess {
			guessed = append(guessed, name+" of "+m.Label)
		}
		if !slices.Contains(hosts, m.Hypervisor) {
			hosts = append(hosts, m.Hypervisor)
		}
	}
	out.Hours = s.Hours(name, hosts...)
	return out, guessed, nil
}

// source is what is known of the images of a machine that a rule copies, nil for none.
func (e experience) source(s site.Site, rule site.Copy, machineID string) *seenSet {
	for _, owner := range names(s) {
		if k := e.sets[setKey{owner, rule.From, machineID}]; k != nil && len(k.there) > 0 {
			return k
		}
	}
	return nil
}

// set is what is known of a machine's images under a policy; of copies of which there are none yet, that each is as large as what it is a copy of, in source.
func (e experience) set(owner, store string, m records.Machine, source *seenSet) (forecast.Set, bool) {
	k := e.sets[setKey{owner, store, m.ID}]
	if k == nil {
		k = &seenSet{}
	}
	if source != nil { // what changes from one to the next is known there
		k.sizes.Full, k.sizes.Between = source.sizes.Full, append(slices.Clone(k.sizes.Between), source.sizes.Between...)
		if len(k.took) == 0 {
			k.took = source.took
		}
	}
	newestFirst := func(a, b time.Time) int { return b.Compare(a) } // copies of several policies' images come one after the other
	slices.SortStableFunc(k.there, func(a, b rotation.Image) int { return newestFirst(a.Taken, b.Taken) })
	slices.SortStableFunc(k.made, func(a, b cycle.Image) int { return newestFirst(a.Taken, b.Taken) })
	for _, d := range m.Disks {
		k.sizes.Disks += d.Size
	}
	out := forecast.Set{Machine: m.Label, Hypervisor: m.Hypervisor, Images: k.there, Made: k.made}
	slices.Reverse(out.Images)
	slices.Reverse(out.Made)
	var guessed bool
	out.Full, out.Between, guessed = k.sizes.Sizes()
	if len(k.took) > 0 {
		slices.Sort(k.took)
		out.Took = time.Duration(k.took[len(k.took)/2])
	}
	return out, guessed
}
