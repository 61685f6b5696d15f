package lodge

import (
	"context"
	"fmt"

	"keenlodge/internal/core/run"

	"keenlodge/internal/store"

	"keenlodge/internal/store/open"

	"keenlodge/internal/core/rotation"
	"keenlodge/internal/records"
)

// foldHeld folds full images that only stay because the next one leans on them into that one.
func (l *Lodge) foldHeld(ctx context.Context, run records.Run, set set, plan rotation.Plan, st store.Store, small bool) error {
	images := set.planned()
	for {
		base, into, ok := plan.Fold(images)
		if !ok {
			return nil
		}
		l.say(ctx, run.ID, set.machine, fmt.Sprintf("folding image %s into %s", images[base].ID, images[into].ID))
		if err := l.foldImage(ctx, st, images[into].ID, small, func(int64) {}); err != nil {
			return err
		}
		plan.Folded(images, base, into)
		went := plan.Decisions[base]
		if err := l.rec.DropImages(ctx, []records.Drop{{ID: went.ID, Why: went.Why}}); err != nil {
			return err
		}
		l.say(ctx, run.ID, set.machine, fmt.Sprintf("dropped image %s: %s", went.ID, went.Why))
	}
}

// foldImage makes an image stand alone that leans on a full one.
func (l *Lodge) foldImage(ctx context.Context, st store.Store, id string, small bool, progress func(int64)) error {
	open, ok := st.(*open.Store)
	if !ok {
		return fmt.Errorf("%w: in a pooled store every image stands alone; there is nothing to fold", ErrConflict)
	}
	m, err := open.ReadImage(ctx, id)
	if err == nil && m.Base != "" { // otherwise a process folded it that died before it could record that
		m, err = open.Fold(ctx, id, small, progress)
	}
	if err != nil {
		return err
	}
	var stored int64
	for _, d := range m.Disks {
		stored += d.Length
	}
	return l.rec.FoldImage(ctx, m.ID, m.Capture, m.Why, stored)
}

// FoldImage queues the folding of an image.
func (l *Lodge) FoldImage(ctx context.Context, id string) (records.Run, error) {
	m, st, err := l.imageStore(ctx, id)
	if err != nil {
		return records.Run{}, err
	}
	switch {
	case st.Header().Layout != "open":
		return records.Run{}, fmt.Errorf("%w: image %s lies in a pooled store, where every image stands alone; there is nothing to fold", ErrConflict, id)
	case m.Base == "":
		return records.Run{}, fmt.Errorf("%w: image %s leans on nothing; there is nothing to fold into it", ErrConflict, id)
	}
	return l.queue(ctx, "fold", m.Policy, ProofRequest{Image: id})
}

// fold carries the folding of an image out. A fold that a dead process finished in the store is recorded here, too.
func (l *Lodge) fold(ctx context.Context, run records.Run) (state run.State, err error) {
	r, err := request[ProofRequest](run)
	if err != nil {
		return "failed", err
	}
	m, st, err := l.imageStore(ctx, r.Image)
	if err != nil {
		return "failed", err
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return "failed", err
	}
	rec, err := l.rec.AddTask(ctx, records.Task{Run: run.ID, Machine: m.Machine, Image: m.ID})
	if err != nil {
		return "failed", err
	}
	done := l.perform(ctx, rec, func(ctx context.Context, t *task) error {
		if err := t.step(ctx, "folding"); err != nil {
			return err
		}
		return t.moving(ctx, nil, func() error {
			return l.foldImage(ctx, st, m.ID, s.Stores[m.Store].Compress, func(n int64) { t.done.Add(n) })
		})
	})
	return done.State, nil
}
