package copies

import (
	"context"
	"errors"
	"sync"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// readsAtOnce is how many images that are not in the records are looked at side by side.
const readsAtOnce = 8

// strangers knows of which images those are copies that lie in stores and are not in the records. An image's word never changes.
type strangers struct {
	mu      sync.Mutex
	origins map[string]string // by image
}

// in finds the images of which a store has copies that the records do not know: another lodge made them, or the database was lost since.
func (st *strangers) in(ctx context.Context, s store.Store, recorded []records.Lying) (map[string]bool, error) {
	ids, err := s.ImageIDs(ctx)
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, m := range recorded {
		known[m.ID] = true
	}
	found := map[string]bool{}
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readsAtOnce)
	for _, id := range ids {
		if known[id] {
			continue
		}
		group.Go(func() error {
			origin, err := st.origin(ctx, s, id)
			if origin != "" {
				mu.Lock()
				defer mu.Unlock()
				found[origin] = true
			}
			return err
		})
	}
	return found, group.Wait()
}

// origin is the image of which one is a copy, or itself; "" if it is no good.
func (st *strangers) origin(ctx context.Context, s store.Store, id string) (string, error) {
	st.mu.Lock()
	origin, ok := st.origins[id]
	st.mu.Unlock()
	if ok {
		return origin, nil
	}
	m, err := s.ReadImage(ctx, id)
	if errors.Is(err, medium.ErrNotFound) || errors.Is(err, chunk.ErrDamaged) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	st.mu.Lock()
	defer st.mu.Unlock()
	st.origins[id] = m.Origin()
	return m.Origin(), nil
}
