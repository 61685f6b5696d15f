package retention

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
)

// expire takes images out of a store that are gone for longer than grace, and returns them. The records
// come first: a kill in between leaves an image that nobody lists, and the next sweep goes on with it.
func (rt *Retention) expire(ctx context.Context, name string, st store.Store, grace time.Duration, r *runs.Run) (gone []records.Image, err error) {
	leaving, err := rt.rec.Leaving(ctx, name, grace)
	if err != nil {
		return nil, err
	}
	for _, m := range leaving {
		ok, err := rt.rec.Leave(ctx, m.ID)
		if err != nil {
			return gone, err
		}
		if !ok {
			continue // brought back just now, or an image that leans on it is still there
		}
		if err := st.DropImage(ctx, m.ID); err != nil {
			return gone, err
		}
		if err := rt.rec.Left(ctx, m.ID); err != nil {
			return gone, err
		}
		gone = append(gone, m)
		r.Log(ctx, name, "image %s of %s left store %s", m.ID, m.Machine, name)
	}
	return gone, nil
}

// Undrop brings a dropped image back, and all that it leans on.
func (rt *Retention) Undrop(ctx context.Context, id string) (back []string, err error) {
	m, err := rt.rec.Image(ctx, id)
	if errors.Is(err, fault.ErrNotFound) {
		return nil, fmt.Errorf("%w: no image is called %q; look at: keenlodge image history", fault.ErrNotFound, id)
	}
	if err != nil {
		return nil, err
	}
	if m.Gone == nil {
		return nil, fmt.Errorf("%w: image %s is not gone", fault.ErrConflict, id)
	}
	if back, err = rt.rec.UndropImage(ctx, id); err != nil {
		return nil, err
	}
	if len(back) == 0 {
		return nil, fmt.Errorf("%w: image %s, or one that it leans on, has left store %s already; it can't be brought back", fault.ErrConflict, id, m.Store)
	}
	return back, nil
}
