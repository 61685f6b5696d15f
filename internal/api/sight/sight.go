// Package sight leaves of what is to be shown what a caller may see.
package sight

import (
	"errors"
	"fmt"
	"strings"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/events"
	"keenlodge/internal/records"
)

// Only are those of a list that hold.
func Only[T any](list []T, holds func(T) bool) []T {
	out := []T{}
	for _, v := range list {
		if holds(v) {
			out = append(out, v)
		}
	}
	return out
}

// Run is a run with those of its tasks that the caller may see, and their figures.
func Run(in right.Within, r records.Run) records.Run {
	if in.All || in.Named[r.Policy] {
		return r
	}
	r.Tasks = Only(r.Tasks, func(t records.Task) bool { return in.Machines[t.MachineID] })
	r.Figures = records.RunFigures{Machines: len(r.Tasks)}
	for _, t := range r.Tasks {
		r.Figures.Moved, r.Figures.Stored = r.Figures.Moved+t.Done, r.Figures.Stored+t.Stored
	}
	return r
}

// Event is what a caller may see of an event. Of a run that may be within, he is told to ask.
func Event(in right.Within, e events.Event) events.Event {
	if in.All {
		return e
	}
	named := map[string]bool{}
	runs := Only(e.Runs, func(r records.Run) bool { named[r.ID] = in.Named[r.Policy]; return named[r.ID] })
	e.ManyRuns = e.ManyRuns || len(runs) < len(e.Runs)
	e.Runs, e.Tasks = runs, Only(e.Tasks, func(t records.Task) bool { return named[t.Run] || in.Machines[t.MachineID] })
	return e
}

// Site is what a caller may see of the site.
func Site(in right.Within, s site.Site) site.Site {
	if in.All {
		return s
	}
	s.Webhooks, s.Groups = nil, nil
	s.Hypervisors = seenOf(s.Hypervisors, in.SeenSources)
	s.Stores = seenOf(s.Stores, in.SeenStores)
	s.Policies = seenOf(s.Policies, in.SeenPolicies)
	for name, p := range s.Policies {
		s.Policies[name] = Policy(in, name, p)
	}
	return s
}

// Policy is what a caller may see of a policy: of one that is not wholly within, not what it selects, for that names others' machines.
func Policy(in right.Within, name string, p site.Policy) site.Policy {
	if !in.All && !in.Policies[name] {
		p.Machines, p.Tags, p.Except, p.Trials = nil, "", nil, nil
	}
	return p
}

func seenOf[T any](all map[string]T, seen map[string]bool) map[string]T {
	out := map[string]T{}
	for name, v := range all {
		if seen[name] {
			out[name] = v
		}
	}
	return out
}

// OnlyWithin is the error for what is not within: the same as for what is not there, for who may not see it does not learn which it is.
func OnlyWithin(err error, ok bool, kind, name string, grants []right.Grant) error {
	if errors.Is(err, fault.ErrNotFound) || errors.Is(err, fault.ErrConflict) {
		ok, err = false, nil
	}
	if err == nil && !ok {
		err = fmt.Errorf("%w: no %s is called %q among what this token is for: %s", fault.ErrNotFound, kind, name, strings.Join(right.Phrases(grants), " · "))
	}
	return err
}
