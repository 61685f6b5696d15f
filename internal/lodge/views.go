package lodge

import (
	"context"
	"time"

	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
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
