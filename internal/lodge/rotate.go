package lodge

import (
	"context"
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
)

// set is the images of one machine under one policy in one store, oldest first.
type set struct {
	machine, store string
	images         []records.Image
}

// sets lists a policy's sets.
func (l *Lodge) sets(ctx context.Context, policy string) ([]set, error) {
	images, err := l.rec.Images(ctx, records.ImageFilter{Policy: policy})
	if err != nil {
		return nil, err
	}
	var out []set
	for _, m := range slices.Backward(images) { // they come newest first
		i := slices.IndexFunc(out, func(s set) bool { return s.machine == m.Machine && s.store == m.Store })
		if i < 0 {
			i, out = len(out), append(out, set{machine: m.Machine, store: m.Store})
		}
		out[i].images = append(out[i].images, m)
	}
	return out, nil
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
	Guard   string          `json:"guard"`
	Images  []PreviewedFate `json:"images"`
}

// PreviewedFate is an image's verdict in a preview.
type PreviewedFate struct {
	ID      string           `json:"id"`
	Taken   time.Time        `json:"taken"`
	Verdict rotation.Verdict `json:"verdict"`
	Why     string           `json:"why"`
	Stored  int64            `json:"stored"`
}

// PreviewRotation tells what the next rotation of a policy would do to today's images; rule, if not empty, replaces the
// policy's own.
func (l *Lodge) PreviewRotation(ctx context.Context, policy, rule string) ([]Preview, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	spec, ok := s.Policies[policy]
	if !ok {
		return nil, notFound("policy", policy, keys(s.Policies))
	}
	if rule == "" {
		rule = spec.Rotation
	}
	parsed, err := rotation.Parse(rule)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	sets, err := l.sets(ctx, policy)
	if err != nil {
		return nil, err
	}
	out := []Preview{}
	for _, set := range sets {
		plan := rotation.Make(parsed, time.Now().In(s.Location()), set.planned())
		p := Preview{set.machine, set.store, plan.Guard, []PreviewedFate{}}
		for i, d := range plan.Decisions {
			p.Images = append(p.Images, PreviewedFate{d.ID, set.images[i].Taken, d.Verdict, d.Why, set.images[i].Stored})
		}
		out = append(out, p)
	}
	return out, nil
}

// rotateSet drops what the policy's rule lets go from a machine's set. The notice, if not empty, says why the guard held
// it back.
func (l *Lodge) rotateSet(ctx context.Context, s site.Site, run records.Run, policy site.Policy, st *store.Store, machine string) (notice string, err error) {
	rule, err := rotation.Parse(policy.Rotation)
	if err != nil {
		return "", err
	}
	sets, err := l.sets(ctx, run.Policy)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(sets, func(s set) bool { return s.machine == machine && s.store == policy.Store })
	if i < 0 {
		return "", nil
	}
	plan := rotation.Make(rule, time.Now().In(s.Location()), sets[i].planned())
	if plan.Guard != "" {
		notice = fmt.Sprintf("rotation of %s is held back: %s", machine, plan.Guard)
		l.say(ctx, run.ID, machine, "warning: "+notice+" Nothing was dropped; correct the rule, or the clock")
	}
	if plan.Guard == "" {
		for _, d := range plan.Decisions {
			if d.Verdict != rotation.Drop {
				continue
			}
			if err := l.rec.DropImage(ctx, d.ID, d.Why); err != nil {
				return "", err
			}
			l.say(ctx, run.ID, machine, fmt.Sprintf("dropped image %s: %s", d.ID, d.Why))
		}
	}
	// The records come first: a kill in between leaves a manifest that nobody lists, and the next rotation removes it.
	leaving, err := l.rec.Leaving(ctx, machine, run.Policy)
	if err != nil {
		return "", err
	}
	for _, id := range leaving {
		if err := st.DropImage(ctx, id); err != nil {
			return "", err
		}
		if err := l.rec.Left(ctx, id); err != nil {
			return "", err
		}
	}
	return notice, nil
}
