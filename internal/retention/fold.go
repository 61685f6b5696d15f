package retention

import (
	"context"
	"fmt"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
)

// foldHeld folds full images that only stay because the next one leans on them into that one.
func (rt *Retention) foldHeld(ctx context.Context, r *runs.Run, set Set, plan rotation.Plan, st store.Store, small bool) error {
	images := set.Planned()
	for {
		base, into, ok := plan.Fold(images)
		if !ok || images[base].Elsewhere || images[into].Elsewhere {
			return nil
		}
		r.Log(ctx, set.Machine, "folding image %s into %s", images[base].ID, images[into].ID)
		if err := rt.foldImage(ctx, st, images[into].ID, small, func(int64) {}); err != nil {
			return err
		}
		plan.Folded(images, base, into)
		went := plan.Decisions[base]
		if err := rt.rec.DropImages(ctx, []records.Drop{{ID: went.ID, Why: went.Why}}); err != nil {
			return err
		}
		r.Log(ctx, set.Machine, "dropped image %s: %s", went.ID, went.Why)
	}
}

// foldImage makes an image stand alone that leans on a full one.
func (rt *Retention) foldImage(ctx context.Context, st store.Store, id string, small bool, progress func(int64)) error {
	folder, ok := st.(store.Folder)
	if !ok {
		return fmt.Errorf("%w: in a pooled store every image stands alone; there is nothing to fold", fault.ErrConflict)
	}
	m, err := st.ReadImage(ctx, id)
	if err == nil && m.Base != "" { // otherwise a process folded it that died before it could record that
		m, err = folder.Fold(ctx, id, small, progress)
	}
	if err != nil {
		return err
	}
	var stored int64
	for _, d := range m.Disks {
		stored += d.Length
	}
	return rt.rec.FoldImage(ctx, m.ID, m.Capture, m.Why, stored)
}

// FoldRequest asks for an image to be folded.
type FoldRequest struct {
	Image string `json:"image"`
}

// Fold queues the folding of an image, for who.
func (rt *Retention) Fold(ctx context.Context, who, id string) (records.Run, error) {
	m, st, err := rt.stores.OfImage(ctx, id)
	if err != nil {
		return records.Run{}, err
	}
	_, folds := st.(store.Folder)
	switch {
	case !folds:
		return records.Run{}, fmt.Errorf("%w: image %s lies in a pooled store, where every image stands alone; there is nothing to fold", fault.ErrConflict, id)
	case m.Base == "":
		return records.Run{}, fmt.Errorf("%w: image %s leans on nothing; there is nothing to fold into it", fault.ErrConflict, id)
	}
	return rt.runs.Queue(ctx, runs.Order{Kind: run.Fold, Policy: m.Policy, Cause: run.Hand, Who: who, Request: FoldRequest{id}})
}

// folds carries the folding of images out.
type folds struct {
	runs.Base
	rt *Retention
}

// AtOnce implements [runs.Limited].
func (folds) AtOnce() int { return 2 }

// Run implements [runs.Handler]. A fold that a dead process finished in the store is recorded here, too.
func (h folds) Run(ctx context.Context, r *runs.Run) error {
	q, err := runs.Request[FoldRequest](r.Run)
	if err != nil {
		return err
	}
	m, st, err := h.rt.stores.OfImage(ctx, q.Image)
	if err != nil {
		return err
	}
	s, err := h.rt.rec.Site(ctx)
	if err != nil {
		return err
	}
	return r.PerformOne(ctx, records.Task{Machine: m.Machine, MachineID: m.MachineID, Image: m.ID}, func(ctx context.Context, t *runs.Task) error {
		if err := t.Begin(ctx, "folding"); err != nil {
			return err
		}
		return t.Moving(ctx, nil, func() error { return h.rt.foldImage(ctx, st, m.ID, s.Stores[m.Store].Compress, t.Add) })
	})
}
