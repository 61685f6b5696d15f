package snapshots

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/inplace"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	record "keenlodge/internal/records/inplace"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/wire"
)

// set are the snapshots of one machine under one policy in one region, oldest first, with what becomes of them.
type set struct {
	of     []record.Snapshot
	images []rotation.Image
	plan   rotation.Plan
}

// plan plans every set of a policy by a rule: whichever machine it is of, also one that the policy selects no more.
func plan(all []record.Snapshot, rule rotation.Rule, now time.Time) (sets []set) {
	at := map[string]int{}
	for _, x := range all {
		if x.State != inplace.Kept && x.State != inplace.Making {
			continue
		}
		key := x.MachineID + " " + x.Region
		i, ok := at[key]
		if !ok {
			i = len(sets)
			at[key], sets = i, append(sets, set{})
		}
		sets[i].of = append(sets[i].of, x)
	}
	slices.SortFunc(sets, func(a, b set) int {
		return cmp.Or(strings.Compare(a.of[0].Label, b.of[0].Label), strings.Compare(a.of[0].MachineID, b.of[0].MachineID), strings.Compare(a.of[0].Region, b.of[0].Region))
	})
	for i := range sets {
		k := &sets[i]
		slices.SortFunc(k.of, func(a, b record.Snapshot) int { return cmp.Or(a.Taken.Compare(b.Taken), strings.Compare(a.ID, b.ID)) })
		for _, x := range k.of {
			k.images = append(k.images, x.Known().Rotated())
		}
		k.plan = rotation.Make(rule, now, k.images)
	}
	return sets
}

// letGo tells which snapshots the rules of their policies let go.
func (ss *Snapshots) letGo(s site.Site, all []record.Snapshot, now time.Time) map[string]bool {
	byPolicy := map[string][]record.Snapshot{}
	for _, x := range all {
		byPolicy[x.Policy] = append(byPolicy[x.Policy], x)
	}
	out := map[string]bool{}
	for name, of := range byPolicy {
		spec, ok := s.Policies[name]
		if !ok {
			continue
		}
		for _, k := range plan(of, spec.RotationRule(), now) {
			for _, id := range k.plan.Drops() {
				out[id] = true
			}
		}
	}
	return out
}

// Rotate removes what the rule of a run's policy lets go, of every machine of which the policy has snapshots. It warns where the guard holds it back, and
// where something can't be removed; that is tried again later.
func (ss *Snapshots) Rotate(ctx context.Context, s site.Site, r *runs.Run, policy site.Policy) error {
	all, err := ss.rec.Snapshots.List(ctx, record.Filter{Policy: r.Policy})
	if err != nil {
		return err
	}
	var notices []string
	why := map[string]string{}
	for _, k := range plan(all, policy.RotationRule(), time.Now().In(s.Location())) {
		if k.plan.Guard != "" {
			notice := fmt.Sprintf("rotation of snapshots of %s is held back: %s", k.of[0].Label, k.plan.Guard)
			notices = append(notices, notice)
			happened := records.Happened{Event: event.Event{Name: event.RotationHeld, Run: r.ID, Policy: r.Policy, Machine: k.of[0].Label, Text: notice}}
			if err := ss.rec.Queue(ctx, happened); err != nil {
				return err
			}
			r.Warn(ctx, k.of[0].Label, "%s Nothing was removed; correct the rule or the clock, or let it happen: keenlodge rotation confirm %s", notice, r.Policy)
			continue
		}
		for _, d := range k.plan.Decisions {
			if d.Verdict == rotation.Drop {
				why[d.ID] = d.Why
			}
		}
	}
	if err := ss.rec.SetNotice(ctx, r.Policy, strings.Join(notices, "; ")); err != nil || len(why) == 0 {
		return err
	}
	going, err := ss.rec.Snapshots.Leave(ctx, why)
	if err != nil {
		return err
	}
	leaving := slices.DeleteFunc(all, func(x record.Snapshot) bool { return !slices.Contains(going, x.ID) })
	if err := ss.remove(ctx, s, leaving, func(x record.Snapshot) { r.Log(ctx, x.Label, "removed snapshot %s: %s", x.ID, why[x.ID]) }); err != nil {
		r.Warn(ctx, "", "not every snapshot that may go could be removed, which is tried again: %v", err)
	}
	return nil
}

// Preview returns what the next rotation of a policy would do, machine by machine; rule, if not empty, replaces the policy's own.
func (ss *Snapshots) Preview(ctx context.Context, s site.Site, name, rule string) ([]wire.SetPreview, error) {
	spec, err := s.Policy(name)
	if err != nil {
		return nil, err
	}
	parsed, err := rotation.Parse(cmp.Or(rule, spec.Rotation))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	all, err := ss.rec.Snapshots.List(ctx, record.Filter{Policy: name})
	if err != nil {
		return nil, err
	}
	out := []wire.SetPreview{}
	for _, k := range plan(all, parsed, time.Now().In(s.Location())) {
		v := wire.SetPreview{Machine: k.of[0].Label, MachineID: k.of[0].MachineID, Store: k.of[0].Region, Scope: image.InPlace, Rule: parsed.String(), Guard: k.plan.Guard, Gives: k.plan.Gives(k.images), Images: []wire.PreviewedFate{}}
		for i, d := range k.plan.Decisions {
			v.Images = append(v.Images, wire.PreviewedFate{ID: d.ID, Taken: k.of[i].Taken, Capture: image.Full, Verdict: d.Verdict, Why: d.Why, Stored: k.images[i].Bytes})
		}
		out = append(out, v)
	}
	return out, nil
}

// Confirm lets a rotation happen that the guard holds back. drops are the snapshots that a person has seen to go: if they are not what goes now,
// nothing does.
func (ss *Snapshots) Confirm(ctx context.Context, s site.Site, name string, drops []string) ([]string, error) {
	sets, err := ss.Preview(ctx, s, name, "")
	if err != nil {
		return nil, err
	}
	why, ids := map[string]string{}, []string{}
	for _, k := range sets {
		for _, m := range k.Images {
			if m.Verdict == rotation.Drop {
				why[m.ID], ids = m.Why+" (confirmed by hand)", append(ids, m.ID)
			}
		}
	}
	slices.Sort(ids)
	if seen := slices.Compact(slices.Sorted(slices.Values(drops))); !slices.Equal(ids, seen) {
		return nil, fmt.Errorf("%w: what goes has changed since it was looked at: it is %d snapshots now, %d were confirmed; look again: keenlodge rotation preview %s", fault.ErrConflict, len(ids), len(seen), name)
	}
	going, err := ss.rec.Snapshots.Leave(ctx, why)
	if err != nil {
		return nil, err
	}
	return going, ss.rec.SetNotice(ctx, name, "") // they are removed within a minute
}

// lookEvery is how often sources are asked for their snapshots.
const lookEvery = time.Hour

// Upkeep removes what is to go and could not before, and settles what a process that died had begun; now and then it looks what is there.
func (ss *Snapshots) Upkeep(ctx context.Context) error {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return err
	}
	if err := ss.endPassing(ctx); err != nil {
		return err
	}
	pending, err := ss.rec.Snapshots.List(ctx, record.Filter{States: []inplace.State{inplace.Making, inplace.Leaving}})
	if err != nil {
		return err
	}
	var leaving []record.Snapshot
	var errs []error
	for _, x := range pending {
		if _, ok := s.Hypervisors[x.Hypervisor]; !ok {
			continue // it is told of, as one whose source is no part of the site
		}
		if x.State == inplace.Making {
			r, err := ss.rec.Run(ctx, x.Run)
			if err == nil && !r.Over() {
				continue
			}
			if err != nil && !errors.Is(err, fault.ErrNotFound) {
				errs = append(errs, err)
				continue
			}
			// Whoever took it died: nobody knows what it is worth.
			if err := ss.rec.Snapshots.Abandon(ctx, x.ID, "its taking was not brought to an end"); err != nil {
				errs = append(errs, err)
				continue
			}
		}
		leaving = append(leaving, x)
	}
	if err := ss.remove(ctx, s, leaving, func(x record.Snapshot) {
		ss.log.Info("a snapshot is removed that was left", "snapshot", x.ID, "machine", x.Label)
	}); err != nil {
		ss.log.Warn("snapshots that are to go could not all be removed; trying again", "error", err) // the summary tells of those that stay
	}
	ss.mu.Lock()
	due := time.Since(ss.looked) >= lookEvery
	if due {
		ss.looked = time.Now()
	}
	ss.mu.Unlock()
	if due {
		errs = append(errs, ss.Look(ctx, s))
	}
	return errors.Join(errs...)
}

// endPassing has those go that were to be kept for a while only.
func (ss *Snapshots) endPassing(ctx context.Context) error {
	passing, err := ss.rec.Snapshots.List(ctx, record.Filter{States: []inplace.State{inplace.Kept}, Passing: true})
	if err != nil {
		return err
	}
	why, of := map[string]string{}, map[string]int{}
	for _, x := range passing { // the newest first
		if of[x.MachineID]++; x.Known().Over(time.Now()) {
			why[x.ID] = "it was to be kept for a while only, and that is over"
		} else if of[x.MachineID] > inplace.MostPassing {
			why[x.ID] = "it was to be kept for a while only, and newer ones were taken"
		}
	}
	_, err = ss.rec.Snapshots.Leave(ctx, why)
	return err
}

// Look asks every source that has snapshots of ours what is there: how large they are, which are gone, and which no record knows.
func (ss *Snapshots) Look(ctx context.Context, s site.Site) error {
	all, err := ss.rec.Snapshots.List(ctx, record.Filter{})
	if err != nil {
		return err
	}
	var errs []error
	for _, of := range bySource(all) {
		if _, ok := s.Hypervisors[of[0].Hypervisor]; ok {
			errs = append(errs, ss.lookAt(ctx, s, of[0].Hypervisor, of))
		}
	}
	return errors.Join(append(errs, ss.lookForUnused(ctx, s))...)
}

// lookForUnused asks every source that can tell what restores made there and nobody uses.
func (ss *Snapshots) lookForUnused(ctx context.Context, s site.Site) error {
	var errs []error
	for name := range s.Hypervisors {
		h, err := ss.inventory.Connect(ctx, s, name)
		if err != nil {
			continue // who does not answer is told of elsewhere
		}
		if teller, ok := h.(source.UnusedTeller); ok {
			found, err := teller.Unused(ctx)
			if err != nil {
				errs = append(errs, fmt.Errorf("ask %s what nobody uses: %w", name, err))
			} else {
				ss.mu.Lock()
				ss.unused[name], ss.told = found, nil
				ss.mu.Unlock()
			}
		}
		h.Close()
	}
	return errors.Join(errs...)
}

// lookAt looks at one source; of are the snapshots that are recorded there.
func (ss *Snapshots) lookAt(ctx context.Context, s site.Site, name string, of []record.Snapshot) error {
	h, keeps, err := ss.open(ctx, s, name)
	if err != nil {
		return err
	}
	defer h.Close()
	begun := time.Now()
	found, err := keeps.Snapshots(ctx, "")
	if err != nil {
		return fmt.Errorf("look at the snapshots of %s: %w", name, err)
	}
	// What was recorded meanwhile is no stranger.
	now, err := ss.rec.Snapshots.List(ctx, record.Filter{Hypervisor: name, Gone: true})
	if err != nil {
		return err
	}
	known := map[string]record.Snapshot{}
	for _, x := range now {
		known[x.ID] = x
	}
	there := map[string]bool{}
	var strangers []source.Snapshot
	for _, f := range found {
		x, ok := known[f.ID]
		switch {
		case f.ID == "":
		case !ok || x.State == inplace.Gone:
			strangers = append(strangers, f)
		case x.Ref == "" || x.Ref == f.Ref:
			there[f.ID] = true
			if f.Bytes == x.Bytes {
				break
			}
			if err := ss.rec.Snapshots.Grew(ctx, f.ID, f.Bytes); err != nil {
				return err
			}
		}
	}
	ss.mu.Lock()
	ss.unknown[name], ss.told = strangers, nil
	ss.mu.Unlock()
	for _, x := range of {
		// A list may lack what was just made.
		if x.State == inplace.Kept && !there[x.ID] && begun.Sub(x.Taken) > newest {
			if err := ss.rec.Snapshots.Went(ctx, x.ID, "it is not on "+name+" any more: somebody else removed it, or its machine"); err != nil {
				return err
			}
		}
	}
	return nil
}

// newest is how old a snapshot must be for a list without it to be believed.
const newest = 10 * time.Minute
