package lodge

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"

	"keenlodge/internal/store"

	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
)

// set is the images of one machine under one policy in one store, oldest first; those that cover only some disks are a set of their own,
// and those made by hand may be.
type set struct {
	machine, store string
	scope          image.Scope
	apart          bool
	images         []records.Image
}

func (s set) String() string {
	text := s.machine
	if s.scope == "disks" {
		text += " (some disks)"
	}
	if s.apart {
		text += " (by hand)"
	}
	return text
}

// sets lists a policy's sets in a store. Those that it had in another store before are its no more: nothing rotates them.
func (l *Lodge) sets(ctx context.Context, policy, store string) ([]set, error) {
	images, err := l.rec.Images(ctx, records.ImageFilter{Policy: policy, Store: store})
	if err != nil {
		return nil, err
	}
	var out []set
	at := map[key]int{}
	for _, m := range slices.Backward(images) { // they come newest first
		k := key{m.Machine, m.Scope, m.Apart}
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, set{machine: m.Machine, store: m.Store, scope: m.Scope, apart: m.Apart})
		}
		out[i].images = append(out[i].images, m)
	}
	return out, nil
}

// key tells one set of a policy in a store from another.
type key struct {
	machine string
	scope   image.Scope
	apart   bool
}

// planned is the set as the planner sees it.
func (s set) planned() []rotation.Image {
	out := make([]rotation.Image, len(s.images))
	for i, m := range s.images {
		out[i] = rotation.Image{ID: m.ID, Taken: m.Taken, Capture: m.Capture, Base: m.Base, State: m.State, Pinned: m.Pinned, Bytes: m.Stored}
		if !m.Failed {
			out[i].Proven = m.Proven
		}
	}
	return out
}

// Preview is what the next rotation of a set would do.
type Preview struct {
	Machine string          `json:"machine"`
	Store   string          `json:"store"`
	Scope   image.Scope     `json:"scope" doc:"machine, or disks where images cover only some; they are a set of their own"`
	Apart   bool            `json:"apart" doc:"images made by hand, a set of their own"`
	Rule    string          `json:"rule"`
	Guard   string          `json:"guard" doc:"why an unattended rotation would drop nothing, or empty"`
	Gives   int64           `json:"gives" doc:"bytes that the images to drop took when they were stored; in a pooled store others may need some of them still"`
	Images  []PreviewedFate `json:"images"`
}

// PreviewedFate is an image's verdict in a preview.
type PreviewedFate struct {
	ID      string           `json:"id"`
	Taken   time.Time        `json:"taken"`
	Capture image.Capture    `json:"capture"`
	Base    string           `json:"base"`
	Verdict rotation.Verdict `json:"verdict"`
	Why     string           `json:"why"`
	Stored  int64            `json:"stored"`
}

// PreviewRotation tells what the next rotation of a policy would do to today's images, without what the floor of a store may ask
// for; rule, if not empty, replaces the policy's own.
func (l *Lodge) PreviewRotation(ctx context.Context, policy, rule string) ([]Preview, error) {
	s, spec, err := l.policy(ctx, policy)
	if err != nil {
		return nil, err
	}
	if rule == "" {
		rule = spec.Rotation
	}
	sets, plans, err := l.plan(ctx, s, policy, spec, rule)
	if err != nil {
		return nil, err
	}
	out := []Preview{}
	for k, set := range sets {
		plan := plans[k].Plan
		p := Preview{set.machine, set.store, set.scope, set.apart, rule, plan.Guard, plan.Gives(plans[k].Images), []PreviewedFate{}}
		for i, d := range plan.Decisions {
			m := set.images[i]
			p.Images = append(p.Images, PreviewedFate{d.ID, m.Taken, m.Capture, m.Base, d.Verdict, d.Why, m.Stored})
		}
		out = append(out, p)
	}
	return out, nil
}

// policy finds a policy of the site.
func (l *Lodge) policy(ctx context.Context, name string) (site.Site, site.Policy, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return s, site.Policy{}, err
	}
	spec, ok := s.Policies[name]
	if !ok {
		return s, spec, notFound("policy", name, keys(s.Policies))
	}
	return s, spec, nil
}

// ConfirmRotation lets a rotation happen that the guard holds back. drops are the images that a person has seen to go: if they are not
// what goes now, nothing does.
func (l *Lodge) ConfirmRotation(ctx context.Context, policy string, drops []string) ([]string, error) {
	s, spec, err := l.policy(ctx, policy)
	if err != nil {
		return nil, err
	}
	_, plans, err := l.plan(ctx, s, policy, spec, spec.Rotation)
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
		return nil, fmt.Errorf("%w: what goes has changed since it was looked at: it is %d images now, %d were confirmed; look again: keenlodge rotation preview %s", ErrConflict, len(ids), len(seen), policy)
	}
	if err := l.rec.DropImages(ctx, going); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrConflict, err)
	}
	if err := l.rec.SetNotice(ctx, policy, ""); err != nil {
		return nil, err
	}
	return ids, nil
}

// plan plans a policy's sets in its store by a rule.
func (l *Lodge) plan(ctx context.Context, s site.Site, policy string, spec site.Policy, rule string) (sets []set, plans []rotation.Set, err error) {
	parsed, err := rotation.Parse(rule)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	if sets, err = l.sets(ctx, policy, spec.Store); err != nil {
		return nil, nil, err
	}
	now := time.Now().In(s.Location())
	for _, set := range sets {
		images := set.planned()
		plans = append(plans, rotation.Set{Images: images, Plan: rotation.Make(parsed, now, images)})
	}
	return sets, plans, nil
}

// rotate drops what the policy's rule, and the store's floor, let go from the sets of these machines. state is "warned" where the
// guard held it back, or the floor can't be reached.
func (l *Lodge) rotate(ctx context.Context, s site.Site, run records.Run, policy site.Policy, st store.Store, machines []string) (state run.State, err error) {
	all, planned, err := l.plan(ctx, s, run.Policy, policy, policy.Rotation)
	if err != nil {
		return "failed", err
	}
	var sets []set
	var plans []rotation.Set
	for i, set := range all {
		if slices.Contains(machines, set.machine) {
			sets, plans = append(sets, set), append(plans, planned[i])
		}
	}
	state = "done"
	short, err := l.relieve(ctx, s, run, policy.Store, st, plans, time.Now().In(s.Location()))
	if err != nil {
		return "failed", err
	}
	if short {
		state = "warned"
	}
	var notices []string
	for i, set := range sets {
		plan := plans[i].Plan
		if plan.Guard != "" {
			state = "warned"
			notices = append(notices, fmt.Sprintf("rotation of %s is held back: %s", set, plan.Guard))
			l.say(ctx, run.ID, set.machine, fmt.Sprintf("warning: %s Nothing was dropped; correct the rule or the clock, or let it happen: keenlodge rotation confirm %s", notices[len(notices)-1], run.Policy))
			continue
		}
		if err := l.drop(ctx, run, set, plan); err != nil {
			return "failed", err
		}
		if policy.Fold {
			if err := l.foldHeld(ctx, run, set, plan, st, s.Stores[policy.Store].Compress); err != nil {
				return "failed", err
			}
		}
	}
	if err := l.rec.SetNotice(ctx, run.Policy, strings.Join(notices, "; ")); err != nil {
		return "failed", err
	}
	if s.Stores[policy.Store].GraceTime() == 0 {
		_, err = l.letGo(ctx, policy.Store, st, 0, func(text string) { l.say(ctx, run.ID, "", text) })
	}
	return state, err
}

// drop records what goes, and tells it.
func (l *Lodge) drop(ctx context.Context, run records.Run, set set, plan rotation.Plan) error {
	var drops []records.Drop
	for _, d := range plan.Decisions {
		if d.Verdict == rotation.Drop {
			drops = append(drops, records.Drop{ID: d.ID, Why: d.Why})
		}
	}
	if err := l.rec.DropImages(ctx, drops); err != nil {
		return err
	}
	for _, d := range drops {
		l.say(ctx, run.ID, set.machine, fmt.Sprintf("dropped image %s: %s", d.ID, d.Why))
	}
	return nil
}
