package inventory

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/wire"
)

// Sources lists the site's sources, by name, and how each stands.
func (inv *Inventory) Sources(ctx context.Context) ([]wire.Hypervisor, error) {
	s, err := inv.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	heard, err := inv.rec.Sources(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.Hypervisor{}
	for _, name := range slices.Sorted(maps.Keys(s.Hypervisors)) {
		spec := s.Hypervisors[name]
		h := wire.Hypervisor{Name: name, Kind: spec.SourceKind(), URI: spec.URI, Pool: spec.Pool, Free: -1, Total: -1}
		for _, known := range heard {
			if known.Name == name {
				h.Asked, h.Heard, h.Error, h.Machines = &known.Asked, known.Heard, known.Error, known.Machines
				h.Version, h.Host, h.Free, h.Total = known.Version, known.Host, known.Free, known.Total
			}
		}
		out = append(out, h)
	}
	return out, nil
}

// Forget has the machines of sources that a site had and has no more be gone, but for those that another one has, too. Their images stay, and a source
// that comes back finds them again.
func (inv *Inventory) Forget(ctx context.Context, was, is site.Site) error {
	for name := range was.Hypervisors {
		if _, stays := is.Hypervisors[name]; stays {
			continue
		}
		if _, _, err := inv.rec.SaveMachines(ctx, name, nil); err != nil {
			return err
		}
	}
	return nil
}

// Probe tries a source step by step: one of the site, or as spec says.
func (inv *Inventory) Probe(ctx context.Context, name string, spec *site.Hypervisor) ([]probe.Step, error) {
	if spec == nil {
		s, err := inv.rec.Site(ctx)
		if err != nil {
			return nil, err
		}
		known, err := specOf(s, name)
		if err != nil {
			return nil, err
		}
		spec = &known
	}
	steps, err := source.Probe(ctx, *spec)
	if err != nil {
		return nil, fmt.Errorf("%w: hypervisor %s: %w", fault.ErrInvalid, name, err)
	}
	if probe.Worst(steps) == probe.Failed {
		return steps, nil
	}
	return append(steps, inv.others(ctx, name, *spec)...), nil
}

// others finds out whether guests of a source are known from another one already: it may be the same host by another address.
func (inv *Inventory) others(ctx context.Context, name string, spec site.Hypervisor) []probe.Step {
	var steps probe.Steps
	h, err := inv.dial(ctx, name, spec)
	if err != nil {
		steps.Tell("guests", probe.Failed, "%v", err)
		return steps
	}
	defer h.Close()
	found, err := h.Machines(ctx)
	if err != nil {
		steps.Tell("guests", probe.Failed, "%v", err)
		return steps
	}
	machines, err := inv.rec.Machines(ctx)
	if err != nil {
		steps.Tell("guests", probe.Failed, "%v", err)
		return steps
	}
	elsewhere := map[string]int{}
	for _, m := range machines {
		if m.Live() && m.Hypervisor != name && slices.ContainsFunc(found, func(f source.Machine) bool { return f.UUID != "" && f.UUID == m.UUID }) {
			elsewhere[m.Hypervisor]++
		}
	}
	for _, other := range slices.Sorted(maps.Keys(elsewhere)) {
		if n := elsewhere[other]; n == len(found) {
			steps.Tell("guests", probe.Failed, "all of its %d guests are known from hypervisor %s: it is the same host by another address", n, other)
		} else {
			steps.Tell("guests", probe.Warning, "%d of its %d guests have the UUIDs of guests on hypervisor %s; each counts as one machine", n, len(found), other)
		}
	}
	return steps
}

// Add tries a source and adds it to the site by change, unless a step failed and that was not allowed for.
func (inv *Inventory) Add(ctx context.Context, name string, a wire.HypervisorAddition, change func(context.Context, func(site.Site) (site.Site, error)) error) (wire.HypervisorAdded, error) {
	now, err := inv.rec.Site(ctx)
	if err != nil {
		return wire.HypervisorAdded{}, err
	}
	with := func(s site.Site) (site.Site, error) {
		if _, taken := s.Hypervisors[name]; taken {
			return s, fmt.Errorf("%w: hypervisor %s is in the site already; choose another name, or change it in the site file", fault.ErrConflict, name)
		}
		for other, has := range s.Hypervisors {
			if has.URI != "" && has.URI == a.Spec.URI && has.SourceKind() == a.Spec.SourceKind() {
				return s, fmt.Errorf("%w: hypervisor %s has that address already", fault.ErrConflict, other)
			}
		}
		s.Hypervisors = maps.Clone(s.Hypervisors)
		if s.Hypervisors == nil {
			s.Hypervisors = map[string]site.Hypervisor{}
		}
		s.Hypervisors[name] = a.Spec
		return s, nil
	}
	next, err := with(now)
	if err != nil {
		return wire.HypervisorAdded{}, err
	}
	if err := next.Check(); err != nil {
		return wire.HypervisorAdded{}, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	steps, err := inv.Probe(ctx, name, &a.Spec)
	if err != nil {
		return wire.HypervisorAdded{}, err
	}
	out := wire.HypervisorAdded{Steps: steps, Machines: []string{}}
	if probe.Worst(steps) == probe.Failed && !a.Anyway {
		return out, nil
	}
	if err := change(ctx, with); err != nil {
		return out, err
	}
	out.Added = true
	next.Hypervisors = map[string]site.Hypervisor{name: a.Spec}
	answers := inv.Ask(ctx, next, false, name) // the site's change has just asked
	if _, err := inv.Record(ctx, answers); err != nil {
		return out, err
	}
	for _, m := range answers[0].Machines {
		out.Machines = append(out.Machines, m.Name)
	}
	if answers[0].Err != nil && probe.Worst(steps) != probe.Failed {
		return out, errors.Join(fmt.Errorf("hypervisor %s is added, but its guests could not be listed", name), answers[0].Err)
	}
	return out, nil
}
