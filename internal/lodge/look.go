package lodge

import (
	"context"
	"time"

	"keenlodge/internal/core/site"
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
}

// Policies looks at every policy.
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
		v := PolicyView{p.Name, s.Policies[p.Name], p.NextDue, p.Notice, []string{}}
		for _, m := range machines {
			if m.State != "gone" && v.Selects(m.Name, m.Tags) {
				v.Covers = append(v.Covers, m.Name)
			}
		}
		out = append(out, v)
	}
	return out, nil
}
