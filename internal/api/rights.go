package api

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"keenlodge/internal/access"
	"keenlodge/internal/api/called"
	"keenlodge/internal/api/guard"
	"keenlodge/internal/api/problem"
	"keenlodge/internal/api/sight"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/right"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
)

// public marks operations that need no sign-in.
const public = "public"

// withoutSignIn makes an operation one that needs no sign-in.
func withoutSignIn(op huma.Operation) huma.Operation {
	op.Metadata, op.Security = map[string]any{public: true}, []map[string][]string{}
	return op
}

// signedIn lets a call through that shows what opens doors, and whose roles allow what it asks for (core/right).
func (s *server) signedIn(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if ctx.Operation().Metadata[public] == true {
			next(ctx)
			return
		}
		call := called.Of(ctx.Context())
		call.Key = shown(ctx)
		caller, err := s.l.Access.Check(ctx.Context(), call.Key, call.Deed.Address, access.All)
		switch {
		case access.IsUnknown(err) && call.Key == "":
			problem.Write(a, ctx, huma.Error401Unauthorized("sign in: this call needs a token"))
			return
		case access.IsUnknown(err):
			problem.Write(a, ctx, s.stranger(ctx.Context(), "sign in: this call needs a token, and the one given is not known to the lodge, or has ended"))
			return
		case err != nil:
			s.log.Error("a token could not be looked up", "error", err)
			problem.Write(a, ctx, huma.Error503ServiceUnavailable("the lodge can't reach its database"))
			return
		}
		call.Caller, call.Deed.Who = caller, caller.Name
		if call.In, err = s.allow(ctx.Context(), right.Operation(ctx.Operation().OperationID), ctx.Param); err != nil {
			call.Refused, call.Deed.Why = true, fault.Text(err)
			problem.Write(a, ctx, problem.Of(err, s.log))
			return
		}
		next(ctx)
	}
}

// shown is the token or session that a call shows, or "".
func shown(ctx huma.Context) string {
	if token, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		return token
	}
	return guard.Cookie(ctx.Header("Cookie"), cookie)
}

// allow returns what the caller's roles reach for an operation. It is an error if they do not allow it, or if the one thing that it is
// about is not within; param has the parts of the path that name it.
func (s *server) allow(ctx context.Context, id right.Operation, param func(string) string) (right.Within, error) {
	c := called.Of(ctx).Caller
	in, err := c.Within(id, func(grants []right.Grant) (right.Within, error) { return s.l.Access.Reach(ctx, grants) })
	if err != nil || in.All {
		return in, err
	}
	e, _ := right.Of(id)
	kind, name, ok := string(e.On), "", true
	pick := func(whole, seen map[string]bool, which string) bool { return whole[which] || !e.Whole && seen[which] }
	switch e.On {
	case right.OneMachine:
		name = param("machine")
		var m records.Machine
		if m, err = s.machine(ctx, name); err == nil {
			ok = pick(in.Machines, in.SeenMachines, m.ID)
		}
	case right.OnePolicy:
		name = param("name")
		ok = pick(in.Policies, in.SeenPolicies, name)
	case right.OneStore:
		name = param("name")
		ok = pick(in.Stores, in.SeenStores, name)
	case right.OneSource:
		name = param("name")
		ok = pick(in.Sources, in.SeenSources, name)
	case right.OneImage:
		name = param("id")
		var m records.Image
		if m, err = s.l.Stores.Image(ctx, name); err == nil {
			ok = in.Image(m.MachineID, m.Policy)
		}
	case right.OneRun:
		name = param("id")
		ok, err = s.runWithin(ctx, in, name, e.Whole)
	}
	return in, sight.OnlyWithin(err, ok, kind, name, right.Holding(c.Grants, id))
}

// seenMachine finds a machine that the caller may see.
func (s *server) seenMachine(ctx context.Context, word string) (records.Machine, error) {
	m, err := s.machine(ctx, word)
	if in := within(ctx); !in.All {
		err = sight.OnlyWithin(err, in.SeenMachines[m.ID], "machine", word, called.Of(ctx).Grants)
	}
	return m, err
}

// runWithin reports whether a run is within: all of its machines, or one of them at least.
func (s *server) runWithin(ctx context.Context, in right.Within, id string, whole bool) (bool, error) {
	r, err := s.l.Runs.Find(ctx, id)
	called.Of(ctx).Run = r
	if err != nil || in.Named[r.Policy] {
		return err == nil, err
	}
	tasks, err := s.l.Runs.Tasks(ctx, id, 0, r.Figures.Machines)
	some, all := false, true
	for _, t := range tasks {
		some, all = some || in.Machines[t.MachineID], all && in.Machines[t.MachineID]
	}
	return some && (all || !whole), err
}

// within is what the caller may see of what a list is about.
func within(ctx context.Context) right.Within { return called.Of(ctx).In }

// reach narrows a list of images or runs to what the caller may see.
func reach(ctx context.Context) *listing.Reach {
	in := within(ctx)
	if in.All {
		return nil
	}
	return &listing.Reach{Machines: right.Members(in.Machines), Policies: right.Members(in.Named)}
}

// machineReach narrows a list of machines.
func machineReach(ctx context.Context) *listing.Reach {
	in := within(ctx)
	if in.All {
		return nil
	}
	return &listing.Reach{Machines: right.Members(in.SeenMachines)}
}

// seenTasks are those of a run's tasks that the caller may see.
func seenTasks(ctx context.Context, tasks []records.Task) []records.Task {
	in := within(ctx)
	if in.All || in.Named[called.Of(ctx).Run.Policy] {
		return tasks
	}
	return sight.Only(tasks, func(t records.Task) bool { return in.Machines[t.MachineID] })
}

// seenLines are those of a run's log that are about machines which the caller may see, or about none.
func (s *server) seenLines(ctx context.Context, lines []records.LogLine) ([]records.LogLine, error) {
	in, r := within(ctx), called.Of(ctx).Run
	if in.All || in.Named[r.Policy] {
		return lines, nil
	}
	tasks, err := s.l.Runs.Tasks(ctx, r.ID, 0, r.Figures.Machines)
	seen := map[string]bool{"": true}
	for _, t := range tasks {
		seen[t.Machine] = seen[t.Machine] || in.Machines[t.MachineID]
	}
	return sight.Only(lines, func(l records.LogLine) bool { return seen[l.Machine] }), err
}
