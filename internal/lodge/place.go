package lodge

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"keenlodge/internal/store/open"
	"keenlodge/internal/store/pooled"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/s3"
	"keenlodge/internal/store/medium/sftp"
)

// openMedium reaches a store's place.
func openMedium(ctx context.Context, spec site.Store, a Access) (medium.Medium, error) {
	// A nil pointer in an interface is not nil, so errors are looked at before it becomes one.
	switch spec.Medium {
	case "s3":
		m, err := s3.Open(ctx, s3.Config{Endpoint: spec.Endpoint, Bucket: spec.Bucket, Prefix: spec.Folder, Region: spec.Region,
			PathStyle: spec.PathStyle, AccessKey: a.AccessKey, SecretKey: a.SecretKey})
		if err != nil {
			return nil, err
		}
		return m, nil
	case "sftp":
		m, err := sftp.Open(ctx, sftp.Config{Host: spec.Host, Port: spec.Port, User: spec.User, Folder: spec.Folder, HostKey: spec.HostKey,
			Password: a.Password, PrivateKey: a.PrivateKey})
		if err != nil {
			return nil, err
		}
		return m, nil
	}
	m, err := dir.Open(spec.Folder)
	if err != nil {
		return nil, err
	}
	return m, nil
}

// isEmpty reports whether nothing is in a place that could be a store.
func isEmpty(ctx context.Context, m medium.Medium) (bool, error) {
	if d, ok := m.(*dir.Dir); ok {
		return d.Empty()
	}
	full := errors.New("something is there")
	err := m.List(ctx, "", func(medium.Object) error { return full })
	if errors.Is(err, full) {
		return false, nil
	}
	return err == nil, err
}

// store opens one of the site's stores, or brings it up to date if it is open.
func (l *Lodge) store(ctx context.Context, s site.Site, name string) (store.Store, error) {
	spec, ok := s.Stores[name]
	if !ok {
		return nil, notFound("store", name, keys(s.Stores))
	}
	id, err := l.rec.StoreID(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	opened, err := l.openStore(ctx, name, spec, id)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	return opened, nil
}

// openStore opens a store. id is the one that it must have, or "" for any.
func (l *Lodge) openStore(ctx context.Context, name string, spec site.Store, id string) (store.Store, error) {
	place := spec.Place()
	l.mu.Lock()
	s := l.stores[place]
	l.mu.Unlock()
	if s != nil && (id == "" || s.Header().ID == id) && s.Header().Sealed == spec.Sealed {
		ok, err := s.Present(ctx)
		if err == nil && ok {
			return s, s.Refresh(ctx)
		}
		l.forgetStore(place) // its disk may be unmounted, or its line cut: see below what is there
	}
	access, err := l.access(ctx, name)
	if err != nil {
		return nil, err
	}
	m, err := openMedium(ctx, spec, access)
	if err != nil {
		return nil, err
	}
	if spec.Layout == "pooled" {
		m = pacedMedium{m, l.writePace(name)}
	}
	s, err = l.openOn(ctx, name, m, spec, id)
	if err != nil {
		m.Close()
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.stores[place] = s
	return s, nil
}

// writePace lets bytes pass as fast as a store's bandwidth allows now.
func (l *Lodge) writePace(name string) func(context.Context, int) error {
	return func(ctx context.Context, n int) error {
		s, err := l.rec.Site(ctx)
		if err != nil || len(s.Stores[name].Bandwidth) == 0 {
			return err
		}
		return l.paces.wait(ctx, "store "+name, site.PaceOf(s.Stores[name].Bandwidth), s.Location(), n)
	}
}

func (l *Lodge) openOn(ctx context.Context, name string, m medium.Medium, spec site.Store, id string) (store.Store, error) {
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
		if secret, err = l.storeSecret(ctx, name); err != nil {
			return nil, err
		}
		if secret == nil {
			return nil, fmt.Errorf("%s: %w, and this lodge has no key to it; give it one: keenlodge store unlock %s", m, store.ErrSealed, name)
		}
	}
	if tidy, ok := m.(interface{ Tidy(context.Context) error }); ok {
		if err := tidy.Tidy(ctx); err != nil {
			l.log.Warn("what crashed writers left could not all be removed", "store", name, "error", err)
		}
	}
	if d, ok := m.(*dir.Dir); ok && h.Layout == "open" {
		s, err := open.Open(ctx, d)
		if err != nil {
			return nil, err
		}
		if err := s.Tidy(ctx); err != nil {
			l.log.Warn("what crashed writers left could not all be removed", "store", name, "error", err)
		}
		return s, nil
	}
	return opened(pooled.Open(ctx, m, secret))
}

// opened keeps a nil store from becoming a shelf that is not nil.
func opened(s *pooled.Store, err error) (store.Store, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

// makeStore makes a store in an empty place. keys are the first ones of a sealed store.
func (l *Lodge) makeStore(ctx context.Context, name string, spec site.Store, keys []store.NewKey) error {
	access, err := l.access(ctx, name)
	if err != nil {
		return err
	}
	m, err := openMedium(ctx, spec, access)
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
	if d, ok := m.(*dir.Dir); ok && spec.Layout == "open" {
		_, err = open.Make(ctx, d, time.Now())
		return err
	}
	if !spec.Sealed {
		_, err = pooled.Make(ctx, m, time.Now(), nil)
		return err
	}
	if len(keys) == 0 {
		return fmt.Errorf("%s would be a new sealed store, which needs its first key; make it with: keenlodge store add %s --sealed", m, name)
	}
	secret := chunk.NewSecret()
	// The lodge's own copy comes first: a store that nobody can open must never be.
	if err := l.setSecret(ctx, sealName(name), secret); err != nil {
		return err
	}
	_, err = pooled.Make(ctx, m, time.Now(), &secret, keys...)
	debug.FreeOSMemory() // a passphrase's key takes 256 MiB to make
	return err
}

func (l *Lodge) forgetStore(place string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.stores[place]; s != nil {
		delete(l.stores, place)
	}
}
