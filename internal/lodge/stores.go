package lodge

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"time"

	"keenlodge/internal/store/pooled"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// StoreView is a store as people see it.
type StoreView struct {
	Name string `json:"name"`
	site.Store
	Place  string      `json:"place" doc:"where it is, in a word"`
	Images int         `json:"images"`
	Broken int         `json:"broken" doc:"images that can't be restored whole"`
	Size   int64       `json:"size" doc:"bytes of the disks in its images"`
	Used   int64       `json:"used" doc:"bytes that it takes on its medium"`
	Room   medium.Room `json:"room"`
	Error  string      `json:"error" doc:"why it can't be reached, or empty"`
}

// Stores looks at every store.
func (l *Lodge) Stores(ctx context.Context) ([]StoreView, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	out := []StoreView{}
	for _, name := range keys(s.Stores) {
		v := StoreView{Name: name, Store: s.Stores[name], Place: s.Stores[name].Place()}
		images, err := l.rec.Images(ctx, records.ImageFilter{Store: name})
		if err != nil {
			return nil, err
		}
		for _, m := range images {
			v.Images, v.Size = v.Images+1, v.Size+m.Size
			if m.State == "broken" {
				v.Broken++
			}
		}
		st, err := l.store(ctx, s, name)
		if err == nil {
			v.Room, err = st.Medium().Room(ctx)
		}
		if err == nil {
			v.Used, _, err = st.Used(ctx)
		}
		if err != nil {
			v.Error = err.Error()
		}
		out = append(out, v)
	}
	return out, nil
}

// NewStore asks for a store to be added to the site.
type NewStore struct {
	Spec   site.Store     `json:"spec"`
	Access Access         `json:"access,omitempty"`
	Keys   []store.NewKey `json:"keys,omitempty" doc:"first keys of a sealed store"`
	// Opener opens a sealed store that exists already.
	Opener chunk.Opener `json:"opener,omitempty"`
}

// ProbeRequest describes a place to try.
type ProbeRequest struct {
	Spec   *site.Store `json:"spec,omitempty" doc:"the place; by default that of the site's store"`
	Access Access      `json:"access,omitempty" doc:"what signs in; by default what the lodge has for the store"`
}

// AddStore makes a store in an empty place, or takes the one that is there, and adds it to the site. It reports whether the
// store is new.
func (l *Lodge) AddStore(ctx context.Context, name string, n NewStore) (made bool, err error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return false, err
	}
	if _, ok := s.Stores[name]; ok {
		return false, fmt.Errorf("%w: there is a store called %s already", ErrConflict, name)
	}
	if s.Zone == "" {
		s.Zone = "UTC"
	}
	next := s
	next.Stores = maps.Clone(s.Stores)
	if next.Stores == nil {
		next.Stores = map[string]site.Store{}
	}
	next.Stores[name] = n.Spec
	if err := next.Check(); err != nil {
		return false, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	if n.Access != (Access{}) {
		if err := l.SetAccess(ctx, name, n.Access); err != nil {
			return false, err
		}
	}
	access, err := l.access(ctx, name)
	if err != nil {
		return false, err
	}
	m, err := openMedium(ctx, n.Spec, access)
	if err != nil {
		return false, fmt.Errorf("%w: %w", ErrInvalid, medium.Advise(err))
	}
	defer m.Close()
	h, err := store.ReadHeader(ctx, m)
	switch {
	case errors.Is(err, store.ErrNoStore):
		made, err = true, l.makeStore(ctx, name, n.Spec, n.Keys)
	case err == nil && h.Sealed && n.Spec.Sealed:
		err = l.unlock(ctx, name, m, n.Opener)
	}
	if err != nil {
		return false, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	_, err = l.Apply(ctx, next, false)
	return made, err
}

// unlock finds a sealed store's secret and keeps it. Without an opener, one that is kept already will do.
func (l *Lodge) unlock(ctx context.Context, name string, m medium.Medium, with chunk.Opener) error {
	if with == (chunk.Opener{}) {
		if secret, err := l.storeSecret(ctx, name); err != nil || secret != nil {
			return err
		}
	}
	secret, err := pooled.Unlock(ctx, m, with)
	debug.FreeOSMemory() // a passphrase's key takes 256 MiB to try
	if err != nil {
		return err
	}
	return l.setSecret(ctx, sealName(name), secret)
}

// UnlockStore gives this lodge a key to a sealed store of the site, or of a place that the site will have.
func (l *Lodge) UnlockStore(ctx context.Context, name string, with chunk.Opener) error {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return err
	}
	spec, ok := s.Stores[name]
	if !ok {
		return notFound("store", name, keys(s.Stores))
	}
	access, err := l.access(ctx, name)
	if err != nil {
		return err
	}
	m, err := openMedium(ctx, spec, access)
	if err != nil {
		return err
	}
	defer m.Close()
	if err := l.unlock(ctx, name, m, with); err != nil {
		return fmt.Errorf("%w: store %s: %w", ErrInvalid, name, err)
	}
	return nil
}

// storeNamed opens a store by its name.
func (l *Lodge) storeNamed(ctx context.Context, name string) (store.Store, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	return l.store(ctx, s, name)
}

// StoreKeys lists a sealed store's keys.
func (l *Lodge) StoreKeys(ctx context.Context, name string) ([]store.Key, error) {
	st, err := l.pooled(ctx, name)
	if err != nil {
		return nil, err
	}
	found, err := st.Keys(ctx)
	if err != nil && !st.Header().Sealed {
		err = fmt.Errorf("%w: %w", ErrConflict, err)
	}
	return found, err
}

// AddStoreKey gives a sealed store another key.
func (l *Lodge) AddStoreKey(ctx context.Context, name string, k store.NewKey) (store.Key, error) {
	st, err := l.pooled(ctx, name)
	if err != nil {
		return store.Key{}, err
	}
	secret, err := l.storeSecret(ctx, name)
	if err != nil {
		return store.Key{}, err
	}
	if secret == nil {
		return store.Key{}, fmt.Errorf("%w: store %s is not sealed, so it takes no keys", ErrConflict, name)
	}
	added, err := st.AddKey(ctx, *secret, k, time.Now())
	debug.FreeOSMemory() // a passphrase's key takes 256 MiB to make
	if err != nil {
		err = fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	return added, err
}

// RemoveStoreKey takes a key away from a sealed store.
func (l *Lodge) RemoveStoreKey(ctx context.Context, name, id string) error {
	st, err := l.pooled(ctx, name)
	if err != nil {
		return err
	}
	if err := st.RemoveKey(ctx, id); err != nil {
		return fmt.Errorf("%w: %w", ErrConflict, err)
	}
	return nil
}

// ProbeStore tries a place before it is used, or that of the store called name.
func (l *Lodge) ProbeStore(ctx context.Context, name string, r ProbeRequest) ([]medium.Step, error) {
	access := r.Access
	var spec site.Store
	if r.Spec != nil {
		spec = *r.Spec
	} else {
		s, err := l.rec.Site(ctx)
		if err != nil {
			return nil, err
		}
		var ok bool
		if spec, ok = s.Stores[name]; !ok {
			return nil, notFound("store", name, keys(s.Stores))
		}
	}
	if err := spec.Check(name); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrInvalid, err)
	}
	if access == (Access{}) {
		var err error
		if access, err = l.access(ctx, name); err != nil {
			return nil, err
		}
	}
	steps := medium.Probe(ctx, func(ctx context.Context) (medium.Medium, error) { return openMedium(ctx, spec, access) })
	if steps[0].State == "failed" || r.Spec == nil {
		return steps, nil
	}
	m, err := openMedium(ctx, spec, access)
	if err != nil {
		return nil, err
	}
	defer m.Close()
	return append(steps, l.whatIsThere(ctx, m)), nil
}

// whatIsThere tells what a place holds.
func (l *Lodge) whatIsThere(ctx context.Context, m medium.Medium) medium.Step {
	h, err := store.ReadHeader(ctx, m)
	switch {
	case err == nil && h.Sealed:
		return medium.Step{Name: "content", State: "ok", Text: fmt.Sprintf("a sealed store, made on %s; add it with a key, then adopt its images", h.Made.Format(time.DateOnly))}
	case err == nil:
		return medium.Step{Name: "content", State: "ok", Text: fmt.Sprintf("a store, made on %s; add it, then adopt its images", h.Made.Format(time.DateOnly))}
	case !errors.Is(err, store.ErrNoStore):
		return medium.Step{Name: "content", State: "failed", Text: err.Error()}
	}
	empty, err := isEmpty(ctx, m)
	switch {
	case err != nil:
		return medium.Step{Name: "content", State: "failed", Text: err.Error()}
	case !empty:
		return medium.Step{Name: "content", State: "failed", Text: "something else is there; a store needs an empty place"}
	}
	return medium.Step{Name: "content", State: "ok", Text: "empty: a store can be made here"}
}

// ShowStore describes a store.
func (l *Lodge) ShowStore(ctx context.Context, name string) (store.Summary, error) {
	s, err := l.rec.Site(ctx)
	if err != nil {
		return store.Summary{}, err
	}
	st, err := l.store(ctx, s, name)
	if err != nil {
		return store.Summary{}, err
	}
	return st.Show(ctx, s.Location())
}

// PinImage pins an image, so that rotation never touches it, or lets it go. The pin lies in the store, too.
func (l *Lodge) PinImage(ctx context.Context, id string, pinned bool, note string) (records.Image, error) {
	m, st, err := l.imageStore(ctx, id)
	if err != nil {
		return m, err
	}
	var pin *store.Pin
	if pinned {
		pin = &store.Pin{Note: note, At: time.Now().UTC()}
	}
	if err := st.SetPin(ctx, id, pin); err != nil {
		return m, err
	}
	if err := l.rec.PinImage(ctx, id, pinned, note); err != nil {
		return m, err
	}
	return l.rec.Image(ctx, id)
}
