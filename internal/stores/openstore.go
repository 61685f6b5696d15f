package stores

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"github.com/google/uuid"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/open"
	"keenlodge/internal/store/pooled"
	"keenlodge/internal/throttle"
)

// isEmpty reports whether nothing is in a place that could be a store.
func isEmpty(ctx context.Context, m medium.Medium) (bool, error) {
	if d, ok := m.(interface{ Empty() (bool, error) }); ok {
		return d.Empty()
	}
	full := errors.New("something is there")
	err := m.List(ctx, "", func(medium.Object) error { return full })
	if errors.Is(err, full) {
		return false, nil
	}
	return err == nil, err
}

// Open opens one of the site's stores, or brings it up to date if it is open.
func (ss *Stores) Open(ctx context.Context, s site.Site, name string) (store.Store, error) {
	spec, err := s.Store(name)
	if err != nil {
		return nil, err
	}
	id, err := ss.rec.StoreID(ctx, name)
	if err == nil {
		spec, err = ss.whenFree(ctx, name, spec) // it may have been moved since s was read
	}
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	opened, err := ss.open(ctx, name, spec, id)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	followLock(s, name, opened)
	return opened, nil
}

// reach opens the place of a store, with the credentials that are kept for it. Close it.
func (ss *Stores) reach(ctx context.Context, name string, spec site.Store) (medium.Medium, error) {
	credentials, err := ss.credentials(ctx, name, spec)
	if err != nil {
		return nil, err
	}
	return medium.Open(ctx, spec, credentials)
}

// open opens a store. id is the one that it must have, or "" for any.
func (ss *Stores) open(ctx context.Context, name string, spec site.Store, id string) (store.Store, error) {
	place := spec.Spot(name)
	ss.mu.Lock()
	s := ss.opened[place]
	ss.mu.Unlock()
	if s != nil && (id == "" || s.Header().ID == id) && s.Header().Sealed == spec.Sealed {
		ok, err := s.Present(ctx)
		if err == nil && ok {
			return s, s.Refresh(ctx)
		}
		ss.forget(place) // its disk may be unmounted, or its line cut: see below what is there
	}
	spec, err := ss.whereabouts(ctx, name, spec, id)
	if err != nil {
		return nil, err
	}
	m, err := ss.reach(ctx, name, spec)
	if err != nil {
		return nil, err
	}
	s, err = ss.openOn(ctx, name, m, spec, id)
	if err != nil {
		m.Close()
		return nil, err
	}
	ss.mu.Lock()
	defer ss.mu.Unlock()
	ss.opened[place] = s
	delete(ss.looks, place)
	return s, nil
}

// writePace lets bytes pass as fast as a store's bandwidth allows now.
func (ss *Stores) writePace(name string) throttle.Wait {
	return func(ctx context.Context, n int) error {
		s, err := ss.rec.Site(records.Within(ctx, 0))
		if records.Away(err) { // what is being written does not wait for the database
			s, err = ss.rec.KnownSite(), nil
		}
		if err != nil || len(s.Stores[name].Bandwidth) == 0 {
			return err
		}
		return ss.throttle.Wait(ctx, "store "+name, site.PaceOf(s.Stores[name].Bandwidth), s.Location(), n)
	}
}

func (ss *Stores) openOn(ctx context.Context, name string, m medium.Medium, spec site.Store, id string) (store.Store, error) {
	h, err := store.ReadHeader(ctx, m)
	if errors.Is(err, store.ErrNoStore) && id != "" {
		return nil, fmt.Errorf("%w; it did before: is its disk mounted?", err)
	}
	if err != nil {
		return nil, err
	}
	switch {
	case h.Layout != spec.Layout:
		return nil, fmt.Errorf("%s holds a store of the %s layout, but its entry says %s; correct the entry", m, h.Layout, spec.Layout)
	case id != "" && h.ID != id:
		return nil, fmt.Errorf("%s holds another store (%s) than before (%s); is the right disk mounted?", m, h.ID, id)
	case spec.Sealed && !h.Sealed:
		return nil, fmt.Errorf("%s holds a store that is not sealed, but its entry says that it is; look at it before anything is written, or take \"sealed\" out", m)
	case !spec.Sealed && h.Sealed:
		return nil, fmt.Errorf("%s holds a sealed store; set sealed: true, and give this lodge a key: keenlodge store unlock %s", m, name)
	}
	var secret *chunk.Secret
	if h.Sealed {
		if secret, err = ss.sealSecret(ctx, name); err != nil {
			return nil, err
		}
		if secret == nil {
			return nil, fmt.Errorf("%s: %w, and this lodge has no key to it; give it one: keenlodge store unlock %s", m, store.ErrSealed, name)
		}
	}
	if l, ok := m.(medium.Lasting); ok {
		if text, err := l.Lasts(ctx); err == nil && text != "" {
			ss.log.Warn(text, "store", name)
		}
	}
	if tidy, ok := m.(interface{ Tidy(context.Context) error }); ok {
		if err := tidy.Tidy(ctx); err != nil {
			ss.log.Warn("what crashed writers left could not all be removed", "store", name, "error", err)
		}
	}
	if spec.Layout == site.Pooled {
		m = throttle.Medium(m, ss.writePace(name))
	}
	st, err := openLaid(ctx, m, h, secret, spec.Medium, ss.indexFolder(h.ID))
	switch s := st.(type) {
	case *open.Store:
		if err := s.Tidy(ctx); err != nil {
			ss.log.Warn("what crashed writers left could not all be removed", "store", name, "error", err)
		}
	case *pooled.Store:
		if err := s.IndexTrouble(); err != nil {
			ss.log.Warn("the store's index is in memory", "store", name, "because", err)
		}
	}
	return st, err
}

// indexFolder is where what is known of a store is kept on this host, "" where its ID, which is the store's own word, is no name for a folder.
func (ss *Stores) indexFolder(id string) string {
	if uuid.Validate(id) != nil {
		return ""
	}
	return filepath.Join(ss.indexes, id)
}

// TidyIndexes removes what is known of stores that are not the site's any more.
func (ss *Stores) TidyIndexes(ctx context.Context) error {
	found, err := os.ReadDir(ss.indexes)
	if errors.Is(err, fs.ErrNotExist) || len(found) == 0 && err == nil {
		return nil
	}
	if err != nil {
		return err
	}
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return err
	}
	keep := map[string]bool{}
	for name := range s.Stores {
		id, err := ss.rec.StoreID(ctx, name)
		if err != nil {
			return err
		}
		keep[id] = true
	}
	var errs []error
	for _, f := range found {
		if !keep[f.Name()] && uuid.Validate(f.Name()) == nil {
			errs = append(errs, os.RemoveAll(filepath.Join(ss.indexes, f.Name())))
		}
	}
	return errors.Join(errs...)
}

// Close closes the stores that are open, and keeps what is known of large ones for the next time. Nobody may use them any more.
func (ss *Stores) Close() error {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	var errs []error
	for place, s := range ss.opened {
		if err := s.Close(); err != nil {
			errs = append(errs, fmt.Errorf("close %s: %w", place, err))
		}
		delete(ss.opened, place)
	}
	return errors.Join(errs...)
}

// Ready opens a store of a site, and makes it in an empty place unless only try: after the one that it is to be like, if any. had is the
// store's entry before, or nil. It returns the store's identity, or "" for a store that would have to be made.
func (ss *Stores) Ready(ctx context.Context, in site.Site, name string, had *site.Store, try bool) (id string, err error) {
	spec := in.Stores[name]
	if had != nil && had.Medium == spec.Medium && had.Spot(name) == spec.Spot(name) {
		if id, err = ss.rec.StoreID(ctx, name); err != nil {
			return "", err
		}
	}
	s, err := ss.open(ctx, name, spec, id)
	if errors.Is(err, store.ErrNoStore) && id == "" {
		if try {
			return "", nil // an empty place becomes a store only when it is meant
		}
		var cuts cut.Cuts
		if cuts, err = ss.cutsLike(ctx, in, spec); err == nil {
			err = ss.make(ctx, name, spec, cuts, nil)
		}
		if err == nil {
			s, err = ss.open(ctx, name, spec, "")
		}
	}
	if errors.Is(err, store.ErrAway) {
		return id, nil // it is the one that it was
	}
	if err != nil {
		return "", fmt.Errorf("%w: store %s: %w", fault.ErrInvalid, name, err)
	}
	followLock(in, name, s)
	return s.Header().ID, nil
}

// make makes a store in an empty place. A pooled one cuts by cuts; keys are the first ones of a sealed store.
func (ss *Stores) make(ctx context.Context, name string, spec site.Store, cuts cut.Cuts, keys []store.NewKey) error {
	m, err := ss.reach(ctx, name, spec)
	if err != nil {
		return err
	}
	defer m.Close()
	empty, err := isEmpty(ctx, m)
	if err != nil {
		return err
	}
	if !empty {
		return fmt.Errorf("%s is not empty and holds no store; name an empty place", m)
	}
	if err := ss.makeLaidOut(ctx, m, spec, cuts, keys, name); err != nil {
		return err
	}
	self, err := ss.rec.Lodge(ctx)
	if err != nil {
		return err
	}
	return store.PutOwner(ctx, m, store.Owner{Lodge: self, Since: time.Now().UTC()})
}

// makeLaidOut makes a store in an empty place, of the layout that is asked for.
func (ss *Stores) makeLaidOut(ctx context.Context, m medium.Medium, spec site.Store, cuts cut.Cuts, keys []store.NewKey, name string) (err error) {
	if spec.Layout == site.Open {
		_, err = open.Make(ctx, m, time.Now())
		return err
	}
	if !spec.Sealed {
		_, err = pooled.Make(ctx, m, time.Now(), cuts, nil)
		return err
	}
	if len(keys) == 0 {
		return fmt.Errorf("%s would be a new sealed store, which needs its first key; make it with: keenlodge store add %s --sealed", m, name)
	}
	secret := chunk.NewSecret()
	// The lodge's own copy comes first: a store that nobody can open must never be.
	if err := ss.vault.Set(ctx, sealName(name), secret); err != nil {
		return err
	}
	_, err = pooled.Make(ctx, m, time.Now(), cuts, &secret, keys...)
	debug.FreeOSMemory() // a passphrase's key takes 256 MiB to make
	return err
}

func (ss *Stores) forget(place string) {
	ss.mu.Lock()
	defer ss.mu.Unlock()
	delete(ss.opened, place)
	delete(ss.looks, place)
}

// keysOf opens a store of the site for what has to do with its keys.
func (ss *Stores) keysOf(ctx context.Context, name string) (store.KeyHolder, store.Store, error) {
	st, err := ss.Named(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	if k, ok := st.(store.KeyHolder); ok {
		return k, st, nil
	}
	return nil, nil, fmt.Errorf("%w: store %s has the %s layout, which takes no keys", fault.ErrConflict, name, st.Header().Layout)
}
