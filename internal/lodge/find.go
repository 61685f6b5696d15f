package lodge

import (
	"context"
	"fmt"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
)

// Found is what one hypervisor told.
type Found struct {
	Hypervisor string `json:"hypervisor"`
	Machines   int    `json:"machines"`
	// Error says why it could not be asked.
	Error string `json:"error"`
	// Taken are machines that are left out because another hypervisor has one of the same name.
	Taken []string `json:"taken"`
}

// FindMachines asks every hypervisor for its guests and records them.
func (l *Lodge) FindMachines(ctx context.Context) ([]Found, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	return l.recordAnswers(ctx, l.askAll(ctx, s))
}

// answer is what a hypervisor said when it was asked for its guests.
type answer struct {
	hypervisor string
	guests     []source.Machine
	err        error
}

// askAll asks every hypervisor of a site for its guests.
func (l *Lodge) askAll(ctx context.Context, s site.Site) []answer {
	var out []answer
	for _, name := range keys(s.Hypervisors) {
		a := answer{hypervisor: name}
		h, err := l.hypervisor(ctx, s, name)
		if err == nil {
			a.guests, err = h.Machines(ctx)
			h.Close()
			if err != nil {
				err = fmt.Errorf("hypervisor %s: %w", name, err)
			}
		}
		a.err = err
		out = append(out, a)
	}
	return out
}

// recordAnswers records the guests that hypervisors told of.
func (l *Lodge) recordAnswers(ctx context.Context, answers []answer) ([]Found, error) {
	out := []Found{}
	for _, a := range answers {
		f := Found{Hypervisor: a.hypervisor, Taken: []string{}}
		if a.err != nil {
			f.Error = a.err.Error()
			out = append(out, f)
			continue
		}
		machines := make([]records.Machine, 0, len(a.guests))
		for _, g := range a.guests {
			m := records.Machine{Name: g.Name, UUID: g.UUID, State: g.State, Tags: g.Tags, Disks: []records.MachineDisk{}}
			for _, d := range g.Disks {
				m.Disks = append(m.Disks, records.MachineDisk(d))
			}
			machines = append(machines, m)
		}
		var err error
		if f.Taken, err = l.rec.SaveMachines(ctx, a.hypervisor, machines); err != nil {
			return nil, err
		}
		f.Machines = len(machines) - len(f.Taken)
		out = append(out, f)
	}
	return out, nil
}
