package retention

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/wire"
)

// Retire marks a machine as taken down on purpose: it is not late any more, no policy covers it, and its images are kept by a rule of its
// own, which drops at once what it lets go. Unless try, it is done; it returns what goes, or would.
func (rt *Retention) Retire(ctx context.Context, m records.Machine, keep string, try bool) ([]wire.SetPreview, error) {
	if m.Retired != nil {
		return nil, fmt.Errorf("%w: machine %s was retired on %s already", fault.ErrConflict, m.Label, m.Retired.Format(time.DateOnly))
	}
	rule, err := rotation.Parse(keep)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	sets, plans, err := rt.planMachine(ctx, m.ID, rule)
	if err != nil {
		return nil, err
	}
	out := []wire.SetPreview{}
	for i, set := range sets {
		out = append(out, preview(set, plans[i], keep))
	}
	if try {
		return out, nil
	}
	// The mark comes first: a policy's run that ends just now must not rotate by another rule what this one keeps.
	if err := rt.rec.RetireMachine(ctx, m.ID, keep); err != nil {
		return nil, err
	}
	return out, rt.dropPlanned(ctx, plans, " (its machine was retired)")
}

// Unretire takes a retirement back. What was dropped can be brought back for as long as its store's grace.
func (rt *Retention) Unretire(ctx context.Context, m records.Machine) error {
	if m.Retired == nil {
		return fmt.Errorf("%w: machine %s is not retired", fault.ErrConflict, m.Label)
	}
	return rt.rec.RetireMachine(ctx, m.ID, "")
}

// planMachine plans all sets of a machine by one rule.
func (rt *Retention) planMachine(ctx context.Context, id string, rule rotation.Rule) (sets []Set, plans []rotation.Set, err error) {
	s, err := rt.rec.Site(ctx)
	if err != nil {
		return nil, nil, err
	}
	images, err := rt.rec.Images(ctx, records.ImageFilter{MachineID: id, Page: listing.Page{Sort: "taken"}})
	if err != nil {
		return nil, nil, err
	}
	type where struct{ policy, rule, store string }
	at := map[where]map[key]int{}
	for _, m := range images {
		if m.Adopted {
			continue
		}
		w := where{m.Policy, m.CopiedBy, m.Store}
		if at[w] == nil {
			at[w] = map[key]int{}
		}
		sets = gather(sets, at[w], m)
	}
	now := time.Now().In(s.Location())
	for _, set := range sets {
		planned := set.Planned()
		plans = append(plans, rotation.Set{Images: planned, Plan: rotation.Make(rule, now, planned)})
	}
	return sets, plans, nil
}

func (rt *Retention) dropPlanned(ctx context.Context, plans []rotation.Set, because string) error {
	var drops []records.Drop
	for _, p := range plans {
		for _, d := range p.Plan.Decisions {
			if d.Verdict == rotation.Drop {
				drops = append(drops, records.Drop{ID: d.ID, Why: d.Why + because})
			}
		}
	}
	return rt.rec.DropImages(ctx, drops)
}

// rotateRetired rotates the sets of retired machines by their own rules. What the guard holds back is left, and the machine says so.
func (rt *Retention) rotateRetired(ctx context.Context) error {
	retired, err := rt.rec.RetiredMachines(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, m := range retired {
		rule, err := rotation.Parse(m.Keep)
		if err != nil {
			errs = append(errs, fmt.Errorf("machine %s, its rule %q: %w", m.Label, m.Keep, err))
			continue
		}
		_, plans, err := rt.planMachine(ctx, m.ID, rule)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		var going []rotation.Set
		var held []string
		for _, p := range plans {
			if p.Plan.Guard != "" {
				held = append(held, p.Plan.Guard)
				continue
			}
			going = append(going, p)
		}
		errs = append(errs, rt.dropPlanned(ctx, going, " (its machine is retired)"), rt.rec.SetMachineNotice(ctx, m.ID, strings.Join(held, "; ")))
	}
	return errors.Join(errs...)
}
