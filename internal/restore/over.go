package restore

import (
	"context"
	"errors"
	"fmt"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
)

// Replaced is what a restore tells of the guest that it replaced, so that it can be undone.
type Replaced struct {
	// Guest and Hypervisor are which it is, Described how it was defined, in the hypervisor's words.
	Guest      string `json:"guest"`
	Hypervisor string `json:"hypervisor"`
	Pool       string `json:"pool,omitempty"`
	Described  string `json:"described"`
}

// remember keeps how the guest is defined that will be replaced, if there is one. Its disks stay where they are.
func (rs *Restores) remember(ctx context.Context, on restoring, q Request, r *runs.Run, t *runs.Task) error {
	if !q.Replace {
		return nil
	}
	reverts, err := source.As[source.Reverter](on.h, "bring a machine back that was replaced")
	if err != nil {
		return err
	}
	was, err := reverts.Described(ctx, q.As)
	if errors.Is(err, source.ErrNoMachine) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := r.SetResult(ctx, Replaced{Guest: q.As, Hypervisor: q.Hypervisor, Pool: q.Pool, Described: was}); err != nil {
		return err
	}
	t.Log(ctx, "the disks that it had stay where they are; it is as before again with: keenlodge restore undo %s", r.ID)
	return nil
}

// revert has the guest that a restore replaced be as it was. What the restore made goes.
func (rs *Restores) revert(ctx context.Context, of records.Run, r *runs.Run) error {
	was, err := runs.Result[Replaced](of)
	if err != nil {
		return err
	}
	s, err := rs.rec.Site(ctx)
	if err != nil {
		return err
	}
	on, err := rs.inventory.Connect(ctx, s, was.Hypervisor)
	if err != nil {
		return err
	}
	defer on.Close()
	reverts, err := source.As[source.Reverter](on, "bring a machine back that was replaced")
	if err != nil {
		return err
	}
	makes, err := source.As[source.Restorer](on, "make machines")
	if err != nil {
		return err
	}
	return r.PerformOne(ctx, records.Task{Machine: was.Guest, Hypervisor: was.Hypervisor}, func(ctx context.Context, t *runs.Task) error {
		if err := t.Begin(ctx, "defining guest "+was.Guest+" as it was"); err != nil {
			return err
		}
		if err := reverts.Revert(ctx, was.Guest, was.Described); err != nil {
			return err
		}
		targets := []string{variablesTarget}
		for _, done := range of.Tasks {
			if m, err := rs.rec.Image(ctx, done.Image); err == nil {
				for _, d := range m.Disks {
					targets = append(targets, d.Target)
				}
			}
		}
		removed, err := removeDisks(ctx, makes, Request{As: was.Guest, Pool: was.Pool}, of.ID, targets)
		for _, name := range removed {
			t.Log(ctx, "removed volume %s, which the restore had made", name)
		}
		return err
	})
}

// checkUndo says why a run can't be taken back.
func checkUndo(r records.Run) error {
	switch {
	case r.Kind != run.Files && r.Kind != run.Restore:
		return fmt.Errorf("%w: run %s is a %s; only restores can be taken back", fault.ErrConflict, r.ID, r.Kind)
	case !r.State.Over():
		return fmt.Errorf("%w: run %s is under way; end it first: keenlodge run cancel %s", fault.ErrConflict, r.ID, r.ID)
	case r.Kind == run.Restore && (len(r.Result) == 0 || string(r.Result) == "null"):
		return fmt.Errorf("%w: run %s replaced no guest; what it made is removed in the hypervisor", fault.ErrConflict, r.ID)
	}
	return nil
}
