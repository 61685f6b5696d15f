package lodge

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/wire"
	"keenlodge/internal/zone"
)

// Apply makes next the site, unless only try. All is checked against the world before anything is changed: stores open,
// named machines exist. A hypervisor that does not answer is a warning.
func (l *Lodge) Apply(ctx context.Context, next site.Site, try bool) (wire.Applied, error) {
	now, err := l.rec.Site(ctx)
	if err != nil {
		return wire.Applied{Warnings: []string{}, Rotation: []string{}}, err
	}
	return l.apply(ctx, now, next, try)
}

// apply is Apply for a site that was made from what it is now: if it is another by the time that all is checked, nothing is changed.
func (l *Lodge) apply(ctx context.Context, now, next site.Site, try bool) (wire.Applied, error) {
	var err error
	out := wire.Applied{Warnings: []string{}, Rotation: []string{}}
	if err := next.Check(); err != nil {
		return out, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	next = next.Complete(zone.Host())
	if out.Changes, err = now.Compare(next); err != nil {
		return out, err
	}
	answers := l.Inventory.Ask(ctx, next, true)
	var known []string
	for _, a := range answers {
		if a.Err != nil {
			out.Warnings = append(out.Warnings, a.Err.Error())
		}
		for _, g := range a.Machines {
			known = append(known, g.Name, a.Source+"/"+g.Name)
		}
	}
	if len(out.Warnings) == 0 {
		if err := checkSelection(next, known); err != nil {
			return out, err
		}
	}
	ids := map[string]string{}
	for _, name := range likeness(next.Stores) {
		var had *site.Store
		if was, ok := now.Stores[name]; ok {
			had = &was
		}
		if ids[name], err = l.Stores.Ready(ctx, next, name, had, try); err != nil {
			return out, err
		}
	}
	if out.Rotation, err = l.Retention.Difference(ctx, now, next); err != nil {
		return out, err
	}
	if try || len(out.Changes) == 0 {
		return out, nil
	}
	moment := time.Now()
	err = l.rec.ReplaceSite(ctx, &now, next, func(p site.Policy) time.Time { return p.Next(moment, next.Location()) }, ids)
	if err != nil {
		return out, err
	}
	for name := range now.Stores {
		if _, ok := next.Stores[name]; !ok {
			if err := l.Stores.ForgetCredentials(ctx, name); err != nil {
				return out, err
			}
		}
	}
	if err := l.Hooks.MakeKeys(ctx, next); err != nil {
		return out, err
	}
	if _, err = l.Inventory.Record(ctx, answers); err != nil {
		return out, err
	}
	return out, l.Inventory.Forget(ctx, now, next)
}

// likeness orders stores so that each comes after the one that it is like.
func likeness(stores map[string]site.Store) (names []string) {
	var add func(name string)
	add = func(name string) {
		if v, ok := stores[name]; ok && !slices.Contains(names, name) {
			add(v.Like) // no store is like itself: the site was checked
			names = append(names, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(stores)) {
		add(name)
	}
	return names
}

// Site is the configuration.
func (l *Lodge) Site(ctx context.Context) (site.Site, error) { return l.rec.Site(ctx) }

// appliedAgain is how often a store is added to a site that somebody else changes at the same time.
const appliedAgain = 5

// AddStore makes a store in an empty place, or takes the one that is there, and adds it to the site. It reports whether the store is new.
func (l *Lodge) AddStore(ctx context.Context, name string, a wire.StoreAddition) (made bool, err error) {
	return l.Stores.Add(ctx, name, a, l.change)
}

// AddHypervisor tries a hypervisor and adds it to the site.
func (l *Lodge) AddHypervisor(ctx context.Context, name string, a wire.HypervisorAddition) (wire.HypervisorAdded, error) {
	return l.Inventory.Add(ctx, name, a, l.change)
}

// Enroll has a server's agent join, with a word that is told once.
func (l *Lodge) Enroll(ctx context.Context, by, name, source string) (word string, until time.Time, err error) {
	return l.Agents.Enroll(ctx, by, name, source, l.change)
}

// change applies a change to the site. What led to it took seconds, in which others may have applied what they like: it is made to what the site is then.
func (l *Lodge) change(ctx context.Context, change func(site.Site) (site.Site, error)) error {
	for try := 1; ; try++ {
		now, err := l.rec.Site(ctx)
		if err != nil {
			return err
		}
		next, err := change(now)
		if err != nil {
			return err
		}
		if _, err = l.apply(ctx, now, next, false); !errors.Is(err, fault.ErrConflict) || try == appliedAgain {
			return err
		}
	}
}

// checkSelection finds machines that a policy names and nobody has.
func checkSelection(s site.Site, known []string) error {
	have := map[string]bool{}
	for _, name := range known {
		have[name] = true
	}
	// Who writes a name with its source is helped by names with their sources, and who writes none by names.
	alike := func(name string) (out []string) {
		for _, k := range known {
			if strings.Contains(k, "/") == strings.Contains(name, "/") {
				out = append(out, k)
			}
		}
		return out
	}
	for _, policy := range slices.Sorted(maps.Keys(s.Policies)) {
		for _, name := range s.Policies[policy].Exact() {
			if !have[name] {
				return fmt.Errorf("%w: policy %s: no hypervisor has a machine called %q%s", fault.ErrInvalid, policy, name, suggest.Hint(name, alike(name)))
			}
		}
	}
	return nil
}
