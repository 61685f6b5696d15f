package lodge

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/forecast"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// coversShown is how many of the machines that a policy covers are named in a list of policies.
const coversShown = 20

// PolicyView is a policy as people see it.
type PolicyView struct {
	Name string
	site.Policy
	NextDue *time.Time
	// Notice is what a person must look at, or empty.
	Notice string
	// Covers are the labels of the first machines that it selects, Covered is how many it selects.
	Covers  []string
	Covered int
	// FreshnessLimit is how old a newest image may be by its schedules; 0 is any age.
	FreshnessLimit time.Duration
	// Says tells each schedule in plain words.
	Says []string
	// Paused says why and until when it is paused, or nil.
	Paused *records.Pause
}

// Policies lists the policies within a reach, by name, each with what it covers in there.
func (l *Lodge) Policies(ctx context.Context, in right.Within) ([]PolicyView, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	standings, err := l.rec.PolicyStandings(ctx)
	if err != nil {
		return nil, err
	}
	stand, err := l.coverage(ctx, s, in)
	if err != nil {
		return nil, err
	}
	out := []PolicyView{}
	for _, p := range standings {
		if _, ok := s.Policies[p.Name]; !ok || !in.All && !in.SeenPolicies[p.Name] {
			continue // a copy rule, or not within
		}
		c := stand.policies[p.Name]
		v := PolicyView{Name: p.Name, Policy: s.Policies[p.Name], NextDue: p.NextDue, Notice: p.Notice, Covers: append([]string{}, c.covers...), Covered: c.covered, FreshnessLimit: c.freshness, Says: []string{}}
		if p.Holds(time.Now()) {
			v.Paused = &p.Pause
		}
		for _, parsed := range v.Parsed(s.Location()) {
			v.Says = append(v.Says, parsed.Words())
		}
		out = append(out, v)
	}
	return out, nil
}

// PreviewRotation returns what the next rotation of a policy, or of the copies of a rule, would do, as [retention.Retention.Preview] does; of one that
// keeps snapshots in place all sets are one page.
func (l *Lodge) PreviewRotation(ctx context.Context, name, rule, after string, limit int) ([]wire.SetPreview, string, error) {
	s, err := l.rec.Site(ctx)
	if err == nil && s.Policies[name].Covers() == image.InPlace {
		sets, err := l.Snapshots.Preview(ctx, s, name, rule)
		return sets, "", err
	}
	if err != nil {
		return nil, "", err
	}
	return l.Retention.Preview(ctx, name, rule, after, limit)
}

// ConfirmRotation lets a rotation happen that the guard holds back, of images or of snapshots in place.
func (l *Lodge) ConfirmRotation(ctx context.Context, name string, drops []string) ([]string, error) {
	s, err := l.rec.Site(ctx)
	if err == nil && s.Policies[name].Covers() == image.InPlace {
		return l.Snapshots.Confirm(ctx, s, name, drops)
	}
	if err != nil {
		return nil, err
	}
	return l.Retention.Confirm(ctx, name, drops)
}

// Forecast is the forecast of the policies that are wholly within a reach, and of the stores that are seen in it; no names are all of them.
func (l *Lodge) Forecast(ctx context.Context, in right.Within, names []string, days int) (out wire.Forecast, err error) {
	if in.All {
		if out, err = l.Planning.Forecast(ctx, names, days); err == nil {
			out.Proofs, err = l.Promises.Outlook(ctx)
		}
		return out, err
	}
	if len(names) == 0 {
		names = slices.Sorted(maps.Keys(in.Policies))
	}
	for _, name := range names {
		if !in.Policies[name] {
			return out, fmt.Errorf("%w: no policy is called %q among what this token is wholly for", fault.ErrNotFound, name)
		}
	}
	if len(names) == 0 { // of none, it would be of all
		return wire.Forecast{Forecast: forecast.Forecast{Policies: []forecast.PolicyDays{}, Stores: []forecast.StoreDays{}, Crowds: []forecast.Contention{}}, Guessed: []string{}, Unreached: []string{}}, nil
	}
	out, err = l.Planning.Forecast(ctx, names, days)
	out.Stores = slices.DeleteFunc(out.Stores, func(d forecast.StoreDays) bool { return !in.SeenStores[d.Store] })
	return out, err
}
