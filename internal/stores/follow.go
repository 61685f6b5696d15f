package stores

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/media"
	"keenlodge/internal/core/site"
	"keenlodge/internal/places"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
)

// whereabouts is a store's entry with the folder in which it lies now, if its disk comes and goes. One that is not here is [store.ErrAway].
func (ss *Stores) whereabouts(ctx context.Context, name string, spec site.Store, id string) (site.Store, error) {
	r, ok := spec.Settings.(media.Removable)
	if !ok || !r.OnRemovable() || id == "" {
		return spec, nil
	}
	known, err := ss.rec.Whereabouts(ctx, name)
	if err != nil {
		return spec, err
	}
	if known.Released {
		return spec, fmt.Errorf("%w: it was let go to be unplugged; plug it in anew, or take it back: keenlodge store release %s --undo", store.ErrAway, name)
	}
	folder, err := places.Find(r.LocalFolder(), func(folder string) bool {
		m, err := dir.OpenToRead(folder)
		if err != nil {
			return false
		}
		h, err := store.ReadHeader(ctx, m)
		return err == nil && h.ID == id
	})
	if err != nil {
		return spec, err
	}
	if folder == "" {
		return spec, fmt.Errorf("%w: it is mounted nowhere on this host (it was at %s); plug it in and mount it", store.ErrAway, r.LocalFolder())
	}
	spec.Settings = r.At(folder)
	return spec, nil
}

// Away reports whether a store's disk comes and goes, and is not here.
func (ss *Stores) Away(ctx context.Context, s site.Site, name string) (bool, error) {
	_, err := ss.Where(ctx, s, name)
	if errors.Is(err, store.ErrAway) {
		return true, nil
	}
	return false, err
}

// Near leaves out images that lie in stores whose disks are away: nothing can be read of them now.
func (ss *Stores) Near(ctx context.Context, images []records.Image) ([]records.Image, error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	away := map[string]bool{}
	for _, m := range images {
		if _, known := away[m.Store]; !known {
			if away[m.Store], err = ss.Away(ctx, s, m.Store); err != nil && !errors.Is(err, fault.ErrNotFound) {
				return nil, err
			}
		}
	}
	return slices.DeleteFunc(images, func(m records.Image) bool { return away[m.Store] }), nil
}

// Where is the folder in which a removable store lies now, "" for one that is not removable. One that is not here is [store.ErrAway].
func (ss *Stores) Where(ctx context.Context, s site.Site, name string) (string, error) {
	spec, err := s.Store(name)
	if err != nil || !media.IsRemovable(spec.Settings) {
		return "", err
	}
	id, err := ss.rec.StoreID(ctx, name)
	if err == nil {
		spec, err = ss.whereabouts(ctx, name, spec, id)
	}
	return spec.Location(), err
}

// Forget has a store opened anew the next time, wherever its disk is then.
func (ss *Stores) Forget(spec site.Store, name string) { ss.forget(spec.Spot(name)) }

// followLock tells an open store for how long the site locks what comes into it.
func followLock(s site.Site, name string, st store.Store) {
	if l, ok := st.(store.Locker); ok {
		l.Lock(s.LockInto(name))
	}
}

const (
	// freeEvery is how often it is looked whether a store that changes over is free again, freeMost how long it is waited for that.
	freeEvery = 500 * time.Millisecond
	freeMost  = 10 * time.Minute
)

// whenFree waits while a run holds a store that it moves, and returns its entry as it is now.
func (ss *Stores) whenFree(ctx context.Context, name string, spec site.Store) (site.Store, error) {
	for end := time.Now().Add(freeMost); ; {
		by, err := ss.rec.Held(ctx, name)
		if err != nil {
			return spec, err
		}
		if by == "" {
			s, err := ss.rec.Site(ctx)
			if now, ok := s.Stores[name]; ok {
				spec = now
			}
			return spec, err
		}
		if time.Now().After(end) {
			return spec, fmt.Errorf("%w: it is being moved by run %s; try again when that has ended", fault.ErrConflict, by)
		}
		select {
		case <-ctx.Done():
			return spec, context.Cause(ctx)
		case <-time.After(freeEvery):
		}
	}
}
