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
	"keenlodge/internal/store/medium"
)

// expire takes images out of a store that are gone for longer than grace, and returns them. The records
// come first: a kill in between leaves an image that nobody lists, and the next sweep goes on with it.
func (rt *Retention) expire(ctx context.Context, name string, st store.Store, grace time.Duration, r *runs.Run) (gone []records.Image, err error) {
	leaving, err := rt.rec.Leaving(ctx, name, grace)
	if err != nil {
		return nil, err
	}
	for _, m := range leaving {
		if err := rt.leave(ctx, st, m.ID); errors.Is(err, errStays) {
			continue
		} else if ctx.Err() != nil {
			return gone, context.Cause(ctx)
		} else if err != nil { // one that can't go keeps no other
			r.Warn(ctx, name, "image %s of %s could not be taken out of store %s; the next sweep tries again: %v", m.ID, m.Machine, name, err)
			continue
		}
		gone = append(gone, m)
		r.Log(ctx, name, "image %s of %s left store %s", m.ID, m.Machine, name)
	}
	return gone, nil
}

// errStays says that an image was brought back just now, or that an image that leans on it is still there.
var errStays = errors.New("it stays")

func (rt *Retention) leave(ctx context.Context, st store.Store, id string) error {
	ok, err := rt.rec.Leave(ctx, id)
	if err == nil && !ok {
		err = errStays
	}
	if err == nil {
		err = st.DropImage(ctx, id)
	}
	if err == nil {
		err = rt.rec.Left(ctx, id)
	}
	return err
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
	left := fmt.Errorf("%w: image %s, or one that it leans on, has left store %s already; it can't be brought back", fault.ErrConflict, id, m.Store)
	if !m.InStore || m.Leaving {
		return nil, left
	}
	st, err := rt.stores.Named(ctx, m.Store)
	if err != nil {
		return nil, err
	}
	if _, err := st.ReadImage(ctx, id); errors.Is(err, medium.ErrNotFound) {
		return nil, fmt.Errorf("%w: image %s has no manifest in store %s any more; it can't be brought back", fault.ErrConflict, id, m.Store)
	} else if err != nil {
		return nil, err
	}
	if back, err = rt.rec.UndropImage(ctx, id); err != nil {
		return nil, err
	}
	if len(back) == 0 {
		return nil, left
	}
	return back, nil
}
