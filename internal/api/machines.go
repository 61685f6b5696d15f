package api

import (
	"context"
	"net/http"
	"net/url"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/api/paging"
	"keenlodge/internal/api/shape"
	"keenlodge/internal/api/sight"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/right"
	"keenlodge/internal/inventory"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
)

// NamedMachine is a call about one machine: by its label, its name where only one bears it, or its identity.
type NamedMachine struct {
	Machine string `path:"machine" doc:"label, name or identity; a slash in it is written %2F"`
}

// word is the machine as it was named.
func (n NamedMachine) word() string {
	if plain, err := url.PathUnescape(n.Machine); err == nil {
		return plain
	}
	return n.Machine
}

func (s *server) machine(ctx context.Context, word string) (records.Machine, error) {
	return s.l.Inventory.Resolve(ctx, NamedMachine{word}.word())
}

// registerMachines has what is about machines and their sources.
func (s *server) registerMachines(a huma.API) {
	type filter struct {
		paging.Query
		Hypervisor string        `query:"hypervisor"`
		State      machine.State `query:"state"`
		Text       string        `query:"text" doc:"what the label contains"`
	}
	paging.Register(s.log, a, "list-machines", "/api/v1/machines", "Machines, by label", func(ctx context.Context, in *filter) ([]wire.Machine, string, error) {
		found, next, err := s.l.Inventory.Views(ctx, records.MachineFilter{Hypervisor: in.Hypervisor, State: in.State, Text: in.Text, Within: machineReach(ctx), Page: in.Page()})
		return shape.Each(found, shape.Machine), in.Link(next), err
	})
	paging.Register(s.log, a, "list-lanes", "/api/v1/lanes", "Machines over time, by label: their newest images and their next runs", func(ctx context.Context, in *filter) ([]wire.Lane, string, error) {
		found, next, err := s.l.Lanes(ctx, records.MachineFilter{Hypervisor: in.Hypervisor, State: in.State, Text: in.Text, Within: machineReach(ctx), Page: in.Page()}, within(ctx))
		return shape.Each(found, shape.Lane), in.Link(next), err
	})
	do(s, a, huma.Operation{OperationID: "find-machines", Method: http.MethodPost, Path: "/api/v1/hypervisors/find", Summary: "Ask every hypervisor for its guests"},
		func(ctx context.Context, _ *none) ([]wire.Found, error) { return s.l.Inventory.Find(ctx) })
	get(s, a, "list-hypervisors", "/api/v1/hypervisors", "Hypervisors, by name, and how each stands", func(ctx context.Context, _ *none) ([]wire.Hypervisor, error) {
		all, err := s.l.Inventory.Sources(ctx)
		seen := within(ctx)
		return sight.Only(all, func(h wire.Hypervisor) bool { return seen.All || seen.SeenSources[h.Name] }), err
	})
	type named struct {
		Name string `path:"name"`
	}
	type addition struct {
		Name string `path:"name"`
		Body wire.HypervisorAddition
	}
	do(s, a, huma.Operation{OperationID: "add-hypervisor", Method: http.MethodPut, Path: "/api/v1/hypervisors/{name}", Summary: "Try a hypervisor, step by step, and add it to the site if no step failed"},
		func(ctx context.Context, in *addition) (wire.HypervisorAdded, error) {
			return s.l.AddHypervisor(ctx, in.Name, in.Body)
		})
	type trial struct {
		Name string `path:"name"`
		Body wire.HypervisorTrial
	}
	do(s, a, huma.Operation{OperationID: "probe-hypervisor", Method: http.MethodPost, Path: "/api/v1/hypervisors/{name}/probes", Summary: "Try a hypervisor step by step; without a spec, the site's"},
		func(ctx context.Context, in *trial) ([]probe.Step, error) {
			if in.Body.Spec != nil {
				if _, err := s.allow(ctx, right.ProbeElsewhere, nil); err != nil {
					return nil, err
				}
			}
			return s.l.Inventory.Probe(ctx, in.Name, in.Body.Spec)
		})
	get(s, a, "list-around", "/api/v1/hypervisors/{name}/around", "What stands around a hypervisor's machines, as it was each day", func(ctx context.Context, in *named) ([]wire.Thing, error) {
		found, err := s.l.Inventory.Around(ctx, in.Name)
		return shape.Each(found, func(t records.Thing) wire.Thing { return wire.Thing(t) }), err
	})
	get(s, a, "get-summary", "/api/v1/summary", "How the lodge stands, in one call", func(ctx context.Context, _ *none) (wire.Standing, error) { return s.l.Summary(ctx, within(ctx)) })
	type measured struct {
		NamedMachine
		Measure bool `query:"measure" doc:"how large each is now: the server looks at all of its files"`
	}
	get(s, a, "list-parts", "/api/v1/machines/{machine}/parts", "The parts of a server's system state", func(ctx context.Context, in *measured) ([]wire.Part, error) {
		m, err := s.machine(ctx, in.Machine)
		if err != nil {
			return nil, err
		}
		found, err := s.l.Inventory.Parts(ctx, m, in.Measure)
		return shape.Each(found, shape.Part), err
	})
	type retire struct {
		NamedMachine
		Body wire.RetireBody
	}
	do(s, a, huma.Operation{OperationID: "retire-machine", Method: http.MethodPut, Path: "/api/v1/machines/{machine}/retirement", Summary: "Take a machine down on purpose, and keep its images by a rule of its own"},
		func(ctx context.Context, in *retire) ([]wire.SetPreview, error) {
			m, err := s.machine(ctx, in.Machine)
			if err != nil {
				return nil, err
			}
			return s.l.Retention.Retire(ctx, m, in.Body.Keep, in.Body.Try)
		})
	do(s, a, huma.Operation{OperationID: "unretire-machine", Method: http.MethodDelete, Path: "/api/v1/machines/{machine}/retirement", Summary: "Take a retirement back"},
		func(ctx context.Context, in *NamedMachine) (done, error) {
			m, err := s.machine(ctx, in.Machine)
			if err != nil {
				return done{}, err
			}
			return done{true}, s.l.Retention.Unretire(ctx, m)
		})
	type continued struct {
		NamedMachine
		Body wire.ContinueBody
	}
	do(s, a, huma.Operation{OperationID: "continue-machine", Method: http.MethodPost, Path: "/api/v1/machines/{machine}/continuation", Summary: "Say that a machine is the one that another was"},
		func(ctx context.Context, in *continued) (wire.Machine, error) {
			m, err := s.l.Inventory.Continue(ctx, in.word(), in.Body.Old)
			return shape.Machine(inventory.View{MachineRow: records.MachineRow{Machine: m}, CoveredBy: []string{}}), err
		})
}
