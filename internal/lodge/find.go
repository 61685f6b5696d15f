package lodge

import (
	"context"
	"fmt"

	"keenlodge/internal/records"
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
	out := []Found{}
	for _, name := range keys(s.Hypervisors) {
		f := Found{Hypervisor: name, Taken: []string{}}
		h, err := l.hypervisor(ctx, s, name)
		if err != nil {
			f.Error = err.Error()
			out = append(out, f)
			continue
		}
		guests, err := h.Machines(ctx)
		h.Close()
		if err != nil {
			f.Error = fmt.Sprintf("hypervisor %s: %v", name, err)
			out = append(out, f)
			continue
		}
		machines := make([]records.Machine, 0, len(guests))
		for _, g := range guests {
			m := records.Machine{Name: g.Name, UUID: g.UUID, State: g.State, Tags: g.Tags, Disks: []records.MachineDisk{}}
			for _, d := range g.Disks {
				m.Disks = append(m.Disks, records.MachineDisk(d))
			}
			machines = append(machines, m)
		}
		if f.Taken, err = l.rec.SaveMachines(ctx, name, machines); err != nil {
			return nil, err
		}
		f.Machines = len(machines) - len(f.Taken)
		out = append(out, f)
	}
	return out, nil
}
