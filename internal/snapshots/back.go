package snapshots

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/inplace"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	record "keenlodge/internal/records/inplace"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
	"keenlodge/internal/wire"
)

// Loss tells what going back to a machine's snapshot would lose, as of now.
func (ss *Snapshots) Loss(ctx context.Context, word, id string) (out wire.SnapshotLoss, err error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return out, err
	}
	x, err := ss.of(ctx, word, id)
	if err != nil {
		return out, err
	}
	m, err := ss.rec.Machine(ctx, x.MachineID)
	if err != nil {
		return out, err
	}
	h, keeps, err := ss.open(ctx, s, x.Hypervisor)
	if err != nil {
		return out, err
	}
	defer h.Close()
	found, err := keeps.Snapshots(ctx, m.Name)
	if err != nil {
		return out, err
	}
	out.Later, out.Bytes = []wire.Snapshot{}, -1
	there := false
	for _, f := range found {
		switch {
		case f.ID == x.ID && f.Ref == x.Ref:
			there, out.Bytes = true, f.Bytes
		case f.Taken.After(x.Taken):
			out.Later = append(out.Later, wire.Snapshot{ID: f.ID, Machine: m.Label, MachineID: m.ID, Source: x.Hypervisor, Name: f.Name, Note: f.Note, Taken: f.Taken, Bytes: f.Bytes, State: inplace.Kept})
		}
	}
	if !there {
		return out, fmt.Errorf("%w: %s does not have snapshot %s any more", fault.ErrConflict, x.Hypervisor, id)
	}
	out.Snapshot, out.Runs = shown(x, ""), m.State == machine.Running || m.State == machine.Paused
	out.Snapshot.Bytes = out.Bytes
	images, err := ss.rec.Images(ctx, records.ImageFilter{MachineID: m.ID})
	if err == nil && len(images) > 0 && images[0].State == image.Usable && images[0].Taken.After(x.Taken) {
		out.Newest = &wire.Image{ID: images[0].ID, Machine: m.Label, MachineID: m.ID, Policy: images[0].Policy, Store: images[0].Store, Taken: images[0].Taken, State: images[0].State}
	}
	return out, err
}

// goBack has a task's machine be as it was at a snapshot. Nobody may be reading it.
func (ss *Snapshots) goBack(ctx context.Context, s site.Site, q request, m records.Machine, t *runs.Task) error {
	x, err := ss.there(ctx, q.Snapshot)
	if err != nil {
		return err
	}
	if busy, err := ss.rec.Capturing(ctx, m.ID); err != nil {
		return err
	} else if busy {
		return fmt.Errorf("%w: %s is being backed up just now; go back when that is done", fault.ErrConflict, m.Label)
	}
	h, keeps, err := ss.open(ctx, s, x.Hypervisor)
	if err != nil {
		return err
	}
	defer h.Close()
	if err := t.Begin(ctx, "going back"); err != nil {
		return err
	}
	told, err := keeps.GoBack(ctx, m.Name, x.ID, x.Ref, q.Off)
	for _, text := range told {
		t.Log(ctx, "%s", text)
	}
	if err != nil {
		return err
	}
	t.Log(ctx, "%s is as it was at snapshot %s, of %s", m.Label, x.ID, x.Taken.In(s.Location()).Format(time.DateTime))
	return ss.wentWith(ctx, keeps, m, x, t)
}

// wentWith records which later snapshots a source has no more.
func (ss *Snapshots) wentWith(ctx context.Context, keeps source.Snapshotter, m records.Machine, x record.Snapshot, t *runs.Task) error {
	found, err := keeps.Snapshots(ctx, m.Name)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, f := range found {
		there[f.ID] = true
	}
	all, err := ss.rec.Snapshots.List(ctx, record.Filter{MachineIDs: []string{m.ID}})
	if err != nil {
		return err
	}
	for _, later := range all {
		if later.Taken.After(x.Taken) && !there[later.ID] {
			if err := ss.rec.Snapshots.Went(ctx, later.ID, "its machine went back to snapshot "+x.ID); err != nil {
				return err
			}
			t.Log(ctx, "snapshot %s went with it: it was taken later", later.ID)
		}
	}
	return nil
}
