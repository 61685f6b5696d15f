package lodge

import (
	"context"
	"time"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// StoreView is a store as people see it.
type StoreView struct {
	Name string `json:"name"`
	site.Store
	Images int         `json:"images"`
	Size   int64       `json:"size" doc:"bytes of the disks in its images"`
	Used   int64       `json:"used" doc:"bytes that it takes on its medium"`
	Room   medium.Room `json:"room"`
	Error  string      `json:"error" doc:"why it can't be reached, or empty"`
}

// Stores looks at every store.
func (l *Lodge) Stores(ctx context.Context) ([]StoreView, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	out := []StoreView{}
	for _, name := range keys(s.Stores) {
		v := StoreView{Name: name, Store: s.Stores[name]}
		images, err := l.rec.Images(ctx, records.ImageFilter{Store: name})
		if err != nil {
			return nil, err
		}
		for _, m := range images {
			v.Images, v.Size = v.Images+1, v.Size+m.Size
		}
		st, err := l.store(ctx, s, name)
		if err == nil {
			v.Room, err = st.Medium().Room(ctx)
		}
		if err == nil {
			v.Used, _, err = st.Used(ctx)
		}
		if err != nil {
			v.Error = err.Error()
		}
		out = append(out, v)
	}
	return out, nil
}

// CheckStore looks for damage in a store; read reads every block back.
func (l *Lodge) CheckStore(ctx context.Context, name string, read bool) (store.Report, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return store.Report{}, err
	}
	st, err := l.store(ctx, s, name)
	if err != nil {
		return store.Report{}, err
	}
	return st.Check(ctx, read)
}

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
