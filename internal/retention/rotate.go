// Package retention decides what leaves stores, and takes it out: rotation by the policies' rules, the floor of a store, the folding of
// chains, the grace of what was dropped, and sweeps. The rules themselves are in core/rotation.
package retention

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/wire"
)

// Retention takes images out of stores.
type Retention struct {
	rec    *records.Records
	log    *slog.Logger
	stores *stores.Stores
	runs   *runs.Engine
}

// New makes a Retention and registers sweeps and folds with the engine.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores, e *runs.Engine) *Retention {
	rt := &Retention{rec, log, ss, e}
	e.Register(run.Sweep, sweeps{rt: rt})
	e.Register(run.Fold, folds{rt: rt})
	return rt
}

// Set is the images of one machine under one policy in one store, those of a copy rule apart, oldest first; those that cover only some disks are a set of their own,
// and those made by hand may be.
type Set struct {
	// Machine is what it is called, MachineID its identity.
	Machine, MachineID, Store string
	Scope                     image.Scope
	Separate                  bool
	// Of is the policy whose images it holds copies of, "" for a policy's own.
	Of     string
	Images []records.Image
}

func (s Set) String() string {
	text := s.Machine
	if s.Scope == image.SomeDisks {
		text += " (some disks)"
	}
	if s.Separate {
		text += " (by hand)"
	}
	if s.Of != "" {
		text += " (copies of " + s.Of + ")"
	}
	return text
}

// Sets lists a policy's, or a copy rule's, sets in its store and in those that it names as former ones, of the machines with these identities, or of all.
// Those that it had in yet another store are its no more: nothing rotates them.
func (rt *Retention) Sets(ctx context.Context, s site.Site, name string, spec site.Policy, machineIDs []string) ([]Set, error) {
	_, copies := s.Copies[name]
	images, err := rt.rec.SetImages(ctx, name, copies, spec.InStores(), machineIDs)
	if err != nil {
		return nil, err
	}
	var out []Set
	at := map[key]int{}
	for _, m := range images {
		out = gather(out, at, m)
	}
	for i := range out {
		out[i].Store = spec.Store
	}
	return out, nil
}

// gather puts an image into its set of a policy in a store; at finds the sets.
func gather(sets []Set, at map[key]int, m records.Image) []Set {
	k := key{m.MachineID, m.Policy, m.Scope, m.SeparateSet}
	i, ok := at[k]
	if !ok {
		i = len(sets)
		at[k] = i
		sets = append(sets, Set{Machine: m.Machine, MachineID: m.MachineID, Store: m.Store, Scope: m.Scope, Separate: m.SeparateSet})
		if m.CopiedBy != "" {
			sets[i].Of = m.Policy
		}
	}
	sets[i].Images = append(sets[i].Images, m)
	return sets
}

// key tells one set of a policy, or of a copy rule, in a store from another.
type key struct {
	machine, policy string
	scope           image.Scope
	apart           bool
}

// SetOf is the set to which an image belongs, oldest first, without what is gone. images are the others, newest first.
func SetOf(rec records.Image, images []records.Image) Set {
	out := Set{Machine: rec.Machine, MachineID: rec.MachineID, Store: rec.Store, Scope: rec.Scope, Separate: rec.SeparateSet}
	for _, m := range slices.Backward(images) {
		if m.Gone == nil {
			out.Images = append(out.Images, m)
		}
	}
	return out
}

// Planned is the set as the planner sees it.
func (s Set) Planned() []rotation.Image {
	out := make([]rotation.Image, len(s.Images))
	for i, m := range s.Images {
		out[i] = Planned(m)
		out[i].Elsewhere = m.Store != s.Store
	}
	return out
}

// Planned is an image as the planner sees it. One whose newest proof failed counts as not proven.
func Planned(m records.Image) rotation.Image {
	out := rotation.Image{ID: m.ID, Taken: m.Taken, Capture: m.Capture, Base: m.Base, State: m.State, Pinned: m.Pinned, Bytes: m.Stored, Unusual: m.Unusual > 0}
	if !m.Failed {
		out.Proven = m.Proven
	}
	if m.Locked != nil {
		out.Locked = *m.Locked
	}
	return out
}

// Preview returns what the next rotation of a policy would do to today's images, without what the floor of a store may ask for; rule, if
// not empty, replaces the policy's own. It returns the sets of so many machines after a cursor, and the cursor of the next ones.
func (rt *Retention) Preview(ctx context.Context, policy, rule, after string, limit int) (out []wire.SetPreview, next string, err error) {
	s, spec, err := rt.policy(ctx, policy)
	if err != nil {
		return nil, "", err
	}
	if rule == "" {
		rule = spec.Rotation
	}
	label, id, err := listing.After(after)
	if err != nil {
		return nil, "", err
	}
	_, copies := s.Copies[policy]
	machines, err := rt.rec.SetMachines(ctx, policy, copies, spec.InStores(), label, id, limit)
	if err != nil {
		return nil, "", err
	}
	if limit > 0 && len(machines) == limit {
		next = listing.Before(machines[limit-1].Label, machines[limit-1].ID)
	}
	at := map[string]int{}
	ids := []string{}
	for i, m := range machines {
		ids, at[m.ID] = append(ids, m.ID), i
	}
	sets, plans, err := rt.plan(ctx, s, policy, spec, rule, ids)
	if err != nil {
		return nil, "", err
	}
	out = []wire.SetPreview{}
	for k, set := range sets {
		out = append(out, preview(set, plans[k], rule))
	}
	slices.SortStableFunc(out, func(a, b wire.SetPreview) int { return at[a.MachineID] - at[b.MachineID] })
	return out, next, nil
}

// preview is a planned set as people see it.
func preview(set Set, p rotation.Set, rule string) wire.SetPreview {
	out := wire.SetPreview{Machine: set.Machine, MachineID: set.MachineID, Store: set.Store, Scope: set.Scope, SeparateSet: set.Separate, Rule: rule, Guard: p.Plan.Guard, Gives: p.Plan.Gives(p.Images), Images: []wire.PreviewedFate{}}
	for i, d := range p.Plan.Decisions {
		m := set.Images[i]
		out.Images = append(out.Images, wire.PreviewedFate{ID: d.ID, Taken: m.Taken, Capture: m.Capture, Base: m.Base, Verdict: d.Verdict, Why: d.Why, Stored: m.Stored, Store: m.Store})
	}
	return out
}

// policy finds a policy of the site, or a copy rule, which rotates as one.
func (rt *Retention) policy(ctx context.Context, name string) (site.Site, site.Policy, error) {
	s, err := rt.rec.Site(ctx)
	if err != nil {
		return s, site.Policy{}, err
	}
	spec, err := s.Planned(name)
	return s, spec, err
}

// Confirm lets a rotation happen that the guard holds back. drops are the images that a person has seen to go: if they are not
// what goes now, nothing does.
func (rt *Retention) Confirm(ctx context.Context, policy string, drops []string) ([]string, error) {
	s, spec, err := rt.policy(ctx, policy)
	if err != nil {
		return nil, err
	}
	_, plans, err := rt.plan(ctx, s, policy, spec, spec.Rotation, nil)
	if err != nil {
		return nil, err
	}
	var going []records.Drop
	ids := []string{}
	for _, p := range plans {
		for _, d := range p.Plan.Decisions {
			if d.Verdict == rotation.Drop {
				going, ids = append(going, records.Drop{ID: d.ID, Why: d.Why + " (confirmed by hand)"}), append(ids, d.ID)
			}
		}
	}
	slices.Sort(ids)
	seen := slices.Sorted(slices.Values(drops))
	if !slices.Equal(ids, slices.Compact(seen)) {
		return nil, fmt.Errorf("%w: what goes has changed since it was looked at: it is %d images now, %d were confirmed; look again: keenlodge rotation preview %s", fault.ErrConflict, len(ids), len(seen), policy)
	}
	if err := rt.rec.DropImages(ctx, going); err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrConflict, err)
	}
	if err := rt.rec.SetNotice(ctx, policy, ""); err != nil {
		return nil, err
	}
	return ids, nil
}

// plan plans a policy's sets in its store by a rule.
func (rt *Retention) plan(ctx context.Context, s site.Site, policy string, spec site.Policy, rule string, machineIDs []string) (sets []Set, plans []rotation.Set, err error) {
	parsed, err := rotation.Parse(rule)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	if sets, err = rt.Sets(ctx, s, policy, spec, machineIDs); err != nil {
		return nil, nil, err
	}
	now := time.Now().In(s.Location())
	for _, set := range sets {
		images := set.Planned()
		plan := rotation.Make(parsed, now, images)
		if spec.Hold == site.HoldUnusual {
			plan.HoldUnusual(images)
		}
		plans = append(plans, rotation.Set{Images: images, Plan: plan})
	}
	return sets, plans, nil
}

// Rotate drops what the policy's rule, and the store's floor, let go from the sets of these machines, named by their identities. It warns where the guard holds it
// back, or the floor can't be reached.
func (rt *Retention) Rotate(ctx context.Context, s site.Site, r *runs.Run, policy site.Policy, st store.Store, machines []string) error {
	if machines == nil {
		machines = []string{} // none, and not all
	}
	sets, plans, err := rt.plan(ctx, s, r.Policy, policy, policy.Rotation, machines)
	if err != nil {
		return err
	}
	sweep, err := rt.relieve(ctx, s, r, policy.Store, st, plans, time.Now().In(s.Location()))
	if err != nil {
		return err
	}
	var notices []string
	for i, set := range sets {
		plan := plans[i].Plan
		if plan.Unusual != "" {
			notice := fmt.Sprintf("rotation of %s is held back: image %s is unusual, and those from before may be the last good ones.", set, plan.Unusual)
			notices = append(notices, strings.TrimSuffix(notice, "."))
			if err := rt.tellHeld(ctx, r, set, policy.Store, notice); err != nil {
				return err
			}
			r.Warn(ctx, set.Machine, "%s Look at it (keenlodge image show %s), and then say so: keenlodge image seen %[2]s", notice, plan.Unusual)
			continue
		}
		if plan.Guard != "" {
			notice := fmt.Sprintf("rotation of %s is held back: %s", set, plan.Guard)
			notices = append(notices, notice)
			if err := rt.tellHeld(ctx, r, set, policy.Store, notice); err != nil {
				return err
			}
			r.Warn(ctx, set.Machine, "%s Nothing was dropped; correct the rule or the clock, or let it happen: keenlodge rotation confirm %s", notice, r.Policy)
			continue
		}
		if err := rt.drop(ctx, r, set, plan); err != nil {
			return err
		}
		if policy.Fold {
			if err := rt.foldHeld(ctx, r, set, plan, st, s.Stores[policy.Store].Compress); err != nil {
				return err
			}
		}
	}
	if err := rt.rec.SetNotice(ctx, r.Policy, strings.Join(notices, "; ")); err != nil {
		return err
	}
	if sweep {
		if err := rt.SweepSoon(ctx, SweepRequest{Store: policy.Store, Now: true}); err != nil {
			return err
		}
	}
	if s.Stores[policy.Store].GraceTime() == 0 {
		_, err = rt.expire(ctx, policy.Store, st, 0, r)
	}
	return err
}

// tellHeld tells that the rotation of a set is held back.
func (rt *Retention) tellHeld(ctx context.Context, r *runs.Run, set Set, store, notice string) error {
	return rt.rec.Queue(ctx, records.Happened{Event: event.Event{Name: event.RotationHeld, Run: r.ID, Policy: r.Policy, Machine: set.Machine, Store: store, Text: notice}})
}

// drop records what goes, and logs it.
func (rt *Retention) drop(ctx context.Context, r *runs.Run, set Set, plan rotation.Plan) error {
	var drops []records.Drop
	for _, d := range plan.Decisions {
		if d.Verdict == rotation.Drop {
			drops = append(drops, records.Drop{ID: d.ID, Why: d.Why})
		}
	}
	if err := rt.rec.DropImages(ctx, drops); err != nil {
		return err
	}
	for _, d := range drops {
		r.Log(ctx, set.Machine, "dropped image %s: %s", d.ID, d.Why)
	}
	return nil
}

// Difference lists what changed rules of a site would drop from today's images, a line for each set.
func (rt *Retention) Difference(ctx context.Context, now, next site.Site) ([]string, error) {
	told := []string{}
	for _, name := range slices.Sorted(maps.Keys(next.Policies)) {
		lines, err := rt.difference(ctx, now, next, "policy", name)
		if err != nil {
			return nil, err
		}
		told = append(told, lines...)
	}
	for _, name := range slices.Sorted(maps.Keys(next.Copies)) {
		lines, err := rt.difference(ctx, now, next, "copy rule", name)
		if err != nil {
			return nil, err
		}
		told = append(told, lines...)
	}
	return told, nil
}

// leftBehind tells of images that a policy, or a copy rule, leaves in a store that it had, and that nothing rotates there.
func (rt *Retention) leftBehind(ctx context.Context, now site.Site, kind, name string, was, is site.Policy) (told []string, err error) {
	for _, store := range was.InStores() {
		if slices.Contains(is.InStores(), store) || now.Copies[name].ToSet != "" {
			continue
		}
		_, copies := now.Copies[name]
		images, err := rt.rec.SetImages(ctx, name, copies, []string{store}, nil)
		if err != nil {
			return nil, err
		}
		if len(images) == 0 {
			continue
		}
		line := fmt.Sprintf("%s %s keeps its images in %s from now on; %d stay in %s, where nothing rotates them", kind, name, is.Store, len(images), store)
		if !copies {
			line += fmt.Sprintf(": to have them count in its rotation, and go by it, write formerly: [%s]", store)
		}
		told = append(told, line)
	}
	return told, nil
}

// difference is Difference of one policy or copy rule.
func (rt *Retention) difference(ctx context.Context, now, next site.Site, kind, name string) (told []string, err error) {
	is, err := next.Planned(name)
	was, fresh := now.Planned(name)
	if err != nil || fresh != nil {
		return nil, err
	}
	if told, err = rt.leftBehind(ctx, now, kind, name, was, is); err != nil || was.Rotation == is.Rotation {
		return told, err
	}
	sets, err := rt.Sets(ctx, next, name, is, nil)
	if err != nil {
		return nil, err
	}
	rule, err := rotation.Parse(is.Rotation)
	if err != nil {
		return nil, err
	}
	old, err := rotation.Parse(was.Rotation)
	if err != nil {
		return nil, err
	}
	moment := time.Now().In(next.Location())
	for _, set := range sets {
		images := set.Planned()
		plan, before := rotation.Make(rule, moment, images), rotation.Make(old, moment, images)
		line := fmt.Sprintf("%s %s, machine %s: %q drops %d of %d images (%s), %q would drop %d", kind, name, set, is.Rotation, len(plan.Drops()), len(set.Images),
			humanize.IBytes(uint64(plan.Gives(images))), was.Rotation, len(before.Drops()))
		if plan.Guard != "" {
			line += "; the guard would hold that back: " + plan.Guard
		}
		told = append(told, line)
	}
	return told, nil
}

// RotateProven rotates the set of an image that has passed its trial, where its policy has the set wait for that.
func (rt *Retention) RotateProven(ctx context.Context, r *runs.Run, m records.Image) error {
	s, err := rt.rec.Site(ctx)
	if err != nil {
		return err
	}
	policy, ok := s.Policies[m.Policy]
	if !ok || policy.Prove != image.ByBoot || policy.Store != m.Store {
		return nil
	}
	st, err := rt.stores.Named(ctx, m.Store)
	if err != nil {
		return err
	}
	return rt.Rotate(ctx, s, r, policy, st, []string{m.MachineID})
}
