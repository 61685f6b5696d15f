package lodge

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/store"
)

// Applied is what applying a site changed, or would change.
type Applied struct {
	Changes []site.Change `json:"changes"`
	// Warnings tell what could not be looked at, such as a hypervisor that does not answer.
	Warnings []string `json:"warnings"`
	// Rotation shows, for a policy whose rule changes, what the new rule would drop from today's images.
	Rotation []string `json:"rotation"`
}

// Apply makes next the site, unless only try. All is checked against the world before anything is changed: stores open,
// named machines exist. A hypervisor that does not answer is a warning.
func (l *Lodge) Apply(ctx context.Context, next site.Site, try bool) (Applied, error) {
	out := Applied{Warnings: []string{}, Rotation: []string{}}
	if err := next.Check(); err != nil {
		return out, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	now, err := l.rec.Site(ctx)
	if err != nil {
		return out, err
	}
	if out.Changes, err = now.Compare(next); err != nil {
		return out, err
	}
	answers := l.askAll(ctx, next)
	var known []string
	for _, a := range answers {
		if a.err != nil {
			out.Warnings = append(out.Warnings, a.err.Error())
		}
		for _, g := range a.guests {
			known = append(known, g.Name)
		}
	}
	if len(out.Warnings) == 0 {
		if err := checkSelection(next, known); err != nil {
			return out, err
		}
	}
	ids := map[string]string{}
	for name, spec := range next.Stores {
		id := ""
		if was, had := now.Stores[name]; had && was.Medium == spec.Medium && was.Place() == spec.Place() {
			if id, err = l.rec.StoreID(ctx, name); err != nil {
				return out, err
			}
		}
		s, err := l.openStore(ctx, name, spec, id)
		if errors.Is(err, store.ErrNoStore) && id == "" {
			if try {
				continue // an empty place becomes a store only when it is meant
			}
			if err = l.makeStore(ctx, name, spec, nil); err == nil {
				s, err = l.openStore(ctx, name, spec, "")
			}
		}
		if err != nil {
			return out, fmt.Errorf("%w: store %s: %w", ErrInvalid, name, err)
		}
		ids[name] = s.Header().ID
	}
	if out.Rotation, err = l.rotationDifference(ctx, now, next); err != nil {
		return out, err
	}
	if try || len(out.Changes) == 0 {
		return out, nil
	}
	moment := time.Now()
	err = l.rec.SaveSite(ctx, next, func(p site.Policy) time.Time { return p.Next(moment, next.Location()) }, ids)
	if err != nil {
		return out, err
	}
	if err := l.keyWebhooks(ctx, next); err != nil {
		return out, err
	}
	_, err = l.recordAnswers(ctx, answers)
	return out, err
}

// checkSelection finds machines that a policy names and nobody has.
func checkSelection(s site.Site, known []string) error {
	have := map[string]bool{}
	for _, name := range known {
		have[name] = true
	}
	for _, policy := range keys(s.Policies) {
		for _, name := range s.Policies[policy].Exact() {
			if !have[name] {
				return fmt.Errorf("%w: policy %s: no hypervisor has a machine called %q%s", ErrInvalid, policy, name, suggest.Hint(name, known))
			}
		}
	}
	return nil
}

// rotationDifference tells what changed rules would drop.
func (l *Lodge) rotationDifference(ctx context.Context, now, next site.Site) ([]string, error) {
	told := []string{}
	for _, name := range keys(next.Policies) {
		was, had := now.Policies[name]
		is := next.Policies[name]
		if !had || was.Rotation == is.Rotation {
			continue
		}
		sets, err := l.sets(ctx, name, is.Store)
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
			images := set.planned()
			plan, before := rotation.Make(rule, moment, images), rotation.Make(old, moment, images)
			line := fmt.Sprintf("policy %s, machine %s: %q drops %d of %d images (%s), %q would drop %d", name, set, is.Rotation, len(plan.Drops()), len(set.images),
				humanize.IBytes(uint64(plan.Gives(images))), was.Rotation, len(before.Drops()))
			if plan.Guard != "" {
				line += "; the guard would hold that back: " + plan.Guard
			}
			told = append(told, line)
		}
	}
	return told, nil
}
