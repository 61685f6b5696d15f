package lodge

import (
	"context"
	"time"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
)

// PolicyView is a policy as people see it.
type PolicyView struct {
	Name string `json:"name"`
	site.Policy
	NextDue *time.Time `json:"next_due"`
	// Notice is what a person must look at, or empty.
	Notice string `json:"notice"`
	// Covers lists the machines that it selects now.
	Covers []string `json:"covers"`
	// Says tells each schedule in plain words.
	Says []string `json:"says"`
	// Paused says why and until when it is paused, or null.
	Paused *records.Pause `json:"paused"`
}

// Policies lists every policy, by name.
func (l *Lodge) Policies(ctx context.Context) ([]PolicyView, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	standings, err := l.rec.PolicyStandings(ctx)
	if err != nil {
		return nil, err
	}
	machines, err := l.rec.Machines(ctx)
	if err != nil {
		return nil, err
	}
	out := []PolicyView{}
	for _, p := range standings {
		v := PolicyView{Name: p.Name, Policy: s.Policies[p.Name], NextDue: p.NextDue, Notice: p.Notice, Covers: []string{}, Says: []string{}}
		if p.Holds(time.Now()) {
			v.Paused = &p.Pause
		}
		for _, parsed := range v.Parsed(s.Location()) {
			v.Says = append(v.Says, parsed.Words())
		}
		for _, m := range machines {
			if m.State != "gone" && v.Selects(m.Name, m.Tags) {
				v.Covers = append(v.Covers, m.Name)
			}
		}
		out = append(out, v)
	}
	return out, nil
}
