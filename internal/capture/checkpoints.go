package capture

import (
	"context"
	"errors"
	"maps"
	"slices"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
)

// obsoleteCheckpoints are those of a machine's checkpoints on which no later capture will build: their images are gone, or newer ones
// serve, or they never came to be. Checkpoints of which this lodge knows nothing belong to another, and are left alone.
func (c *Captures) obsoleteCheckpoints(ctx context.Context, s site.Site, machineID string, ids []string) ([]string, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	images, err := c.rec.Images(ctx, records.ImageFilter{MachineID: machineID, Gone: true}) // newest first
	if err != nil {
		return nil, err
	}
	type set struct {
		policy, store string
		scope         image.Scope
		kind          image.Capture
		separate      bool
	}
	served := map[set]bool{}
	var obsolete []string
	never := slices.Clone(ids)
	for _, m := range images {
		never = slices.DeleteFunc(never, func(id string) bool { return id == m.ID })
		policy, ok := s.Policies[m.Policy]
		needed := m.State == image.Writing
		for _, kind := range policy.Kinds() {
			of := set{m.Policy, m.Store, m.Scope, kind, m.SeparateSet}
			if ok && policy.Store == m.Store && serves(kind, m) && !served[of] {
				served[of], needed = true, true
			}
		}
		if !needed && slices.Contains(ids, m.ID) {
			obsolete = append(obsolete, m.ID)
		}
	}
	for _, id := range never { // of a capture that died, on a guest that was off when that was cleared up
		alive, known, err := c.rec.CaptureAlive(ctx, id)
		if err != nil {
			return nil, err
		}
		if known && !alive {
			obsolete = append(obsolete, id)
		}
	}
	return obsolete, nil
}

// dropObsolete removes a machine's checkpoints on which nothing will build.
func (c *Captures) dropObsolete(ctx context.Context, s site.Site, h source.Capturer, name, machineID string) error {
	ids, err := h.Checkpoints(ctx, name)
	if errors.Is(err, source.ErrNoMachine) {
		return nil
	}
	if err != nil {
		return err
	}
	obsolete, err := c.obsoleteCheckpoints(ctx, s, machineID, ids)
	if err != nil || len(obsolete) == 0 {
		return err
	}
	_, err = h.DropCheckpoints(ctx, name, obsolete)
	return err
}

// Tidy removes the checkpoints that the new images of these tasks make obsolete. One that stays now goes at the next capture.
func (c *Captures) Tidy(ctx context.Context, s site.Site, done []records.Task) {
	for _, t := range done {
		h, capturer, err := c.connect(ctx, s, t.Hypervisor)
		if err == nil {
			err = c.dropObsolete(ctx, s, capturer, t.Guest, t.MachineID)
			h.Close()
		}
		if err != nil && ctx.Err() == nil {
			c.log.Warn("checkpoints could not be tidied up; the next capture tries again", "machine", t.Machine, "error", err)
		}
	}
}

// TidyAll removes checkpoints on which nothing will build, on every machine that runs: those of policies that are no more, too.
func (c *Captures) TidyAll(ctx context.Context, s site.Site) error {
	machines, err := c.rec.Machines(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(s.Hypervisors)) {
		h, capturer, err := c.connect(ctx, s, name)
		if err != nil {
			continue // finding machines tells of it
		}
		for _, m := range machines {
			if m.Hypervisor == name && m.State == machine.Running {
				errs = append(errs, c.dropObsolete(ctx, s, capturer, m.Name, m.ID))
			}
		}
		h.Close()
	}
	return errors.Join(errs...)
}
