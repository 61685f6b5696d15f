package lodge

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/store"

	"keenlodge/internal/records"
)

// letGo takes images out of a store that are gone for longer than grace, and returns them. The records
// come first: a kill in between leaves an image that nobody lists, and the next sweep goes on with it.
func (l *Lodge) letGo(ctx context.Context, name string, st store.Store, grace time.Duration, say func(string)) (gone []records.Image, err error) {
	leaving, err := l.rec.Leaving(ctx, name, grace)
	if err != nil {
		return nil, err
	}
	for _, m := range leaving {
		ok, err := l.rec.Leave(ctx, m.ID)
		if err != nil {
			return gone, err
		}
		if !ok {
			continue // brought back just now, or an image that leans on it is still there
		}
		if err := st.DropImage(ctx, m.ID); err != nil {
			return gone, err
		}
		if err := l.rec.Left(ctx, m.ID); err != nil {
			return gone, err
		}
		gone = append(gone, m)
		say(fmt.Sprintf("image %s of %s left store %s", m.ID, m.Machine, name))
	}
	return gone, nil
}

// UndropImage brings a dropped image back, and all that it leans on.
func (l *Lodge) UndropImage(ctx context.Context, id string) (back []string, err error) {
	m, err := l.rec.Image(ctx, id)
	if errors.Is(err, records.ErrNotFound) {
		return nil, fmt.Errorf("%w: no image is called %q; look at: keenlodge image history", ErrNotFound, id)
	}
	if err != nil {
		return nil, err
	}
	if m.Gone == nil {
		return nil, fmt.Errorf("%w: image %s is not gone", ErrConflict, id)
	}
	if back, err = l.rec.UndropImage(ctx, id); err != nil {
		return nil, err
	}
	if len(back) == 0 {
		return nil, fmt.Errorf("%w: image %s, or one that it leans on, has left store %s already; it can't be brought back", ErrConflict, id, m.Store)
	}
	return back, nil
}
