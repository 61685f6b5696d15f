// Package stores has the site's stores: it opens them and keeps them open, holds their keys and credentials, probes, checks, adopts and
// weighs them. What rotation and sweeps take out of a store is in package retention.
package stores

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"path/filepath"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/singleflight"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/when"
	"keenlodge/internal/opening"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/pooled"
	"keenlodge/internal/throttle"
	"keenlodge/internal/vault"
	"keenlodge/internal/wire"
)

// Stores has the stores that this process has open.
type Stores struct {
	rec      *records.Records
	log      *slog.Logger
	vault    *vault.Vault
	throttle *throttle.Throttle
	runs     *runs.Engine
	// indexes is the folder in which what is known of large stores is kept; program is what this program is called in stores.
	indexes, program string
	*opening.Opener
	// Came is called when an image came into a store by another way than a run.
	Came func(ctx context.Context, store string) error

	mu     sync.Mutex
	opened map[string]store.Store // by place
	looks  map[string]looked      // by place
	// looking joins those who look at a place at the same time.
	looking singleflight.Group
	// known are the figures of the records, as of figured.
	known   map[string]records.StoreFigures
	figured time.Time
	// reserved is what tasks under way are expected to add, in bytes, by store.
	reserved map[string]int64
}

// Mounts is where file systems are mounted on a host, below its state folder.
func Mounts(state string) string { return filepath.Join(state, "mounts") }

// New makes a Stores and registers checks of stores with the engine. state is the folder for what belongs to this host, program the name
// under which this program announces itself in stores. It starts no reader guests before its Reader is set.
func New(rec *records.Records, log *slog.Logger, v *vault.Vault, t *throttle.Throttle, e *runs.Engine, state, program string) *Stores {
	ss := &Stores{rec: rec, Opener: opening.New(Mounts(state)), log: log, vault: v, throttle: t, runs: e, indexes: filepath.Join(state, "index"), program: program, opened: map[string]store.Store{}, looks: map[string]looked{}, reserved: map[string]int64{}}
	e.Register(run.Check, checks{ss: ss})
	return ss
}

const (
	// lookTime is how long a store's place may take to tell how much is free, for a list of stores.
	lookTime = 5 * time.Second
	// lookAge is how long what a list of stores tells is remembered.
	lookAge = 3 * time.Second
)

// All looks at every store, as far as that costs nothing: no store's objects are listed for it. What it tells may be some seconds old.
func (ss *Stores) All(ctx context.Context) ([]wire.Store, error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	figures, err := ss.figures(ctx)
	if err != nil {
		return nil, err
	}
	names := slices.Sorted(maps.Keys(s.Stores))
	out := make([]wire.Store, len(names))
	var group errgroup.Group
	for i, name := range names {
		f := figures[name]
		out[i] = wire.Store{Store: s.Stores[name], StoreFigures: wire.StoreFigures{Name: name, Location: s.Stores[name].Location(), Images: f.Images, Broken: f.Broken, Doubtful: f.Doubtful, Size: f.Size}}
		group.Go(func() error {
			l := ss.look(ctx, s, name)
			out[i].Used, out[i].Room = l.used, l.room
			if errors.Is(l.err, store.ErrAway) {
				w, err := ss.rec.Whereabouts(ctx, name)
				out[i].Away = &w.Since
				return err
			}
			if l.err != nil {
				out[i].Error = l.err.Error()
			}
			return nil
		})
	}
	return out, group.Wait()
}

// figures are what the records know of the stores' images.
func (ss *Stores) figures(ctx context.Context) (map[string]records.StoreFigures, error) {
	ss.mu.Lock()
	defer ss.mu.Unlock() // who asks meanwhile waits for the same answer
	if time.Since(ss.figured) < lookAge {
		return ss.known, nil
	}
	known, err := ss.rec.StoreImages(ctx)
	if err == nil {
		ss.known, ss.figured = known, time.Now()
	}
	return known, err
}

// looked is what a look at a store's place told.
type looked struct {
	at   time.Time
	used int64
	room medium.Room
	err  error
}

// look tells how much a store takes and what is free, from a store that is open already where there is one.
func (ss *Stores) look(ctx context.Context, s site.Site, name string) looked {
	place := s.Stores[name].Spot(name)
	ss.mu.Lock()
	l, ok := ss.looks[place]
	ss.mu.Unlock()
	if ok && time.Since(l.at) < lookAge {
		return l
	}
	// Who asks meanwhile waits for the same answer; one who goes away does not end the look of the others.
	found, _, _ := ss.looking.Do(place, func() (any, error) { return ss.lookNow(context.WithoutCancel(ctx), s, name), nil })
	return found.(looked)
}

// lookNow looks at a store's place.
func (ss *Stores) lookNow(ctx context.Context, s site.Site, name string) (l looked) {
	place := s.Stores[name].Spot(name)
	ss.mu.Lock()
	st := ss.opened[place]
	ss.mu.Unlock()
	ctx, cancel := context.WithTimeoutCause(ctx, lookTime, fmt.Errorf("%w within %s", medium.ErrUnreachable, lookTime))
	defer cancel()
	if st != nil && st.Header().Sealed == s.Stores[name].Sealed {
		if present, err := st.Present(ctx); err != nil || !present {
			st = nil // its disk may be unmounted, or its line cut: see what is there
		}
	} else {
		st = nil
	}
	if st == nil {
		st, l.err = ss.Open(ctx, s, name)
	}
	if l.err == nil {
		l.room, l.err = st.Medium().Room(ctx)
	}
	if l.err == nil {
		l.used, l.err = st.Footprint(ctx)
	}
	l.at = time.Now()
	ss.mu.Lock()
	defer ss.mu.Unlock()
	ss.looks[place] = l
	return l
}

// Add makes a store in an empty place, or takes the one that is there, and adds it to the site, which
// apply makes the lodge's. It reports whether the store is new.
func (ss *Stores) Add(ctx context.Context, name string, n wire.StoreAddition, apply func(context.Context, func(site.Site) (site.Site, error)) error) (made bool, err error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return false, err
	}
	n.Spec = n.Spec.Complete()
	with := func(s site.Site) (site.Site, error) {
		if _, ok := s.Stores[name]; ok {
			return s, fmt.Errorf("%w: there is a store called %s already", fault.ErrConflict, name)
		}
		next := s
		next.Stores = maps.Clone(s.Stores)
		if next.Stores == nil {
			next.Stores = map[string]site.Store{}
		}
		next.Stores[name] = n.Spec
		if err := next.Check(); err != nil {
			return s, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
		}
		return next, nil
	}
	next, err := with(s)
	if err != nil {
		return false, err
	}
	if len(n.Access) > 0 {
		if err := ss.keep(ctx, name, n.Spec.Account(), n.Access); err != nil {
			return false, err
		}
	}
	credentials, err := ss.credentials(ctx, name, n.Spec)
	if err != nil {
		return false, err
	}
	m, err := medium.Open(ctx, n.Spec, credentials)
	if err != nil {
		return false, fmt.Errorf("%w: %w", fault.ErrInvalid, medium.Advise(err))
	}
	defer m.Close()
	h, err := store.ReadHeader(ctx, m)
	switch {
	case errors.Is(err, store.ErrNoStore):
		var cuts cut.Cuts
		if cuts, err = ss.cutsLike(ctx, next, n.Spec); err == nil {
			made, err = true, ss.make(ctx, name, n.Spec, cuts, n.Keys)
		}
	case err == nil && n.Spec.Like != "":
		return false, fmt.Errorf("%w: %s holds a store already, which cuts as it does; only a new one can cut like another; leave that out to take the store as it is", fault.ErrConflict, m)
	case err == nil && h.Sealed && n.Spec.Sealed:
		err = ss.unlock(ctx, name, m, n.Opener)
	}
	if err != nil {
		return false, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	return made, apply(ctx, with)
}

// cutsLike are the cuts of a new store: those of the one of the site that it is to be like, or drawn.
func (ss *Stores) cutsLike(ctx context.Context, s site.Site, spec site.Store) (cut.Cuts, error) {
	if spec.Like == "" {
		return pooled.NewCuts(), nil
	}
	id, err := ss.rec.StoreID(ctx, spec.Like)
	if err != nil && !errors.Is(err, fault.ErrNotFound) { // one that the site is about to get has none yet
		return cut.Cuts{}, err
	}
	other, err := ss.open(ctx, spec.Like, s.Stores[spec.Like], id)
	if err != nil {
		return cut.Cuts{}, fmt.Errorf("store %s, which it is to be like: %w", spec.Like, err)
	}
	cutter, ok := other.(store.Cutter)
	if !ok {
		return cut.Cuts{}, fmt.Errorf("store %s has the %s layout, which does not cut what it keeps; name a pooled one", spec.Like, other.Header().Layout)
	}
	return cutter.Cuts(), nil
}

// unlock finds a sealed store's secret and keeps it. Without an opener, one that is kept already will do.
func (ss *Stores) unlock(ctx context.Context, name string, m medium.Medium, with chunk.Opener) error {
	if with == (chunk.Opener{}) {
		if secret, err := ss.sealSecret(ctx, name); err != nil || secret != nil {
			return err
		}
	}
	secret, err := pooled.Unlock(ctx, m, with)
	debug.FreeOSMemory() // a passphrase's key takes 256 MiB to try
	if err != nil {
		return err
	}
	return ss.vault.Set(ctx, sealName(name), secret)
}

// Unlock gives this lodge a key to a sealed store of the site, or of a place that the site will have.
func (ss *Stores) Unlock(ctx context.Context, name string, with chunk.Opener) error {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return err
	}
	spec, err := s.Store(name)
	if err != nil {
		return err
	}
	m, err := ss.reach(ctx, name, spec)
	if err != nil {
		return err
	}
	defer m.Close()
	if err := ss.unlock(ctx, name, m, with); err != nil {
		return fmt.Errorf("%w: store %s: %w", fault.ErrInvalid, name, err)
	}
	return nil
}

// ProveKey tries whether a key that somebody typed opens a sealed store, and notes that he did. What he typed is kept nowhere, and whether the lodge has
// the store open makes no difference.
func (ss *Stores) ProveKey(ctx context.Context, who, name string, with chunk.Opener) (p records.KeyProof, err error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return p, err
	}
	spec, err := s.Store(name)
	if err != nil {
		return p, err
	}
	if !spec.Sealed {
		return p, fmt.Errorf("%w: store %s is not sealed, so there is no key to try", fault.ErrConflict, name)
	}
	m, err := ss.reach(ctx, name, spec)
	if err != nil {
		return p, err
	}
	defer m.Close()
	_, err = pooled.Unlock(ctx, m, with)
	debug.FreeOSMemory() // a passphrase's key takes 256 MiB to try
	if err != nil && !errors.Is(err, chunk.ErrWrongKey) {
		return p, fmt.Errorf("store %s: %w", name, err)
	}
	p = records.KeyProof{Store: name, At: time.Now(), Who: who, Opened: err == nil}
	return p, ss.rec.AddKeyProof(ctx, p)
}

// Named opens a store by its name.
func (ss *Stores) Named(ctx context.Context, name string) (store.Store, error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	return ss.Open(ctx, s, name)
}

// Keys lists a sealed store's keys.
func (ss *Stores) Keys(ctx context.Context, name string) ([]store.Key, error) {
	holder, st, err := ss.keysOf(ctx, name)
	if err != nil {
		return nil, err
	}
	found, err := holder.Keys(ctx)
	if err != nil && !st.Header().Sealed {
		err = fmt.Errorf("%w: %w", fault.ErrConflict, err)
	}
	return found, err
}

// AddKey gives a sealed store another key.
func (ss *Stores) AddKey(ctx context.Context, name string, k store.NewKey) (store.Key, error) {
	holder, _, err := ss.keysOf(ctx, name)
	if err != nil {
		return store.Key{}, err
	}
	secret, err := ss.sealSecret(ctx, name)
	if err != nil {
		return store.Key{}, err
	}
	if secret == nil {
		return store.Key{}, fmt.Errorf("%w: store %s is not sealed, so it takes no keys", fault.ErrConflict, name)
	}
	added, err := holder.AddKey(ctx, *secret, k, time.Now())
	debug.FreeOSMemory() // a passphrase's key takes 256 MiB to make
	if err != nil {
		err = fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	return added, err
}

// RemoveKey takes a key away from a sealed store.
func (ss *Stores) RemoveKey(ctx context.Context, name, id string) error {
	holder, _, err := ss.keysOf(ctx, name)
	if err != nil {
		return err
	}
	if err := holder.RemoveKey(ctx, id); err != nil {
		return fmt.Errorf("%w: %w", fault.ErrConflict, err)
	}
	return nil
}

// Probe tries a place before it is used, or that of the store called name.
func (ss *Stores) Probe(ctx context.Context, name string, r wire.ProbeRequest) ([]probe.Step, error) {
	credentials := r.Access
	var spec site.Store
	if r.Spec != nil {
		spec = *r.Spec
	} else {
		s, err := ss.rec.Site(ctx)
		if err != nil {
			return nil, err
		}
		if spec, err = s.Store(name); err != nil {
			return nil, err
		}
	}
	if err := spec.Check(name); err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	if len(credentials) == 0 {
		var err error
		if credentials, err = ss.keptFor(ctx, name, spec); err != nil {
			return nil, err
		}
	}
	steps := medium.Probe(ctx, spec.Locked != "", func(ctx context.Context) (medium.Medium, error) { return medium.Open(ctx, spec, credentials) })
	if steps[0].State == "failed" || r.Spec == nil {
		return steps, nil
	}
	m, err := medium.Open(ctx, spec, credentials)
	if err != nil {
		return nil, err
	}
	defer m.Close()
	return append(steps, ss.whatIsThere(ctx, m)), nil
}

// whatIsThere tells what a place holds.
func (ss *Stores) whatIsThere(ctx context.Context, m medium.Medium) probe.Step {
	h, err := store.ReadHeader(ctx, m)
	switch {
	case err == nil && h.Sealed:
		return probe.Step{Name: "content", State: probe.OK, Text: fmt.Sprintf("a sealed store, made on %s; add it with a key, then adopt its images", h.Made.Format(time.DateOnly))}
	case err == nil:
		return probe.Step{Name: "content", State: probe.OK, Text: fmt.Sprintf("a store, made on %s; add it, then adopt its images", h.Made.Format(time.DateOnly))}
	case !errors.Is(err, store.ErrNoStore):
		return probe.Step{Name: "content", State: probe.Failed, Text: err.Error()}
	}
	empty, err := isEmpty(ctx, m)
	switch {
	case err != nil:
		return probe.Step{Name: "content", State: probe.Failed, Text: err.Error()}
	case !empty:
		return probe.Step{Name: "content", State: probe.Failed, Text: "something else is there; a store needs an empty place"}
	}
	return probe.Step{Name: "content", State: probe.OK, Text: "empty: a store can be made here"}
}

// Show describes a store.
func (ss *Stores) Show(ctx context.Context, name string) (store.Summary, error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return store.Summary{}, err
	}
	st, err := ss.Open(ctx, s, name)
	if err != nil {
		return store.Summary{}, err
	}
	sum, err := st.Show(ctx, s.Location())
	if d := s.LockInto(name); d > 0 {
		sum.Locked = when.FormatSpan(d)
		if l, ok := st.Medium().(medium.Locker); ok && st.Header().Layout == site.Pooled {
			sum.Locks = l.Locks()
		}
	}
	return sum, err
}

// Pin pins an image, so that rotation never touches it, or lets it go. The pin lies in the store, too.
func (ss *Stores) Pin(ctx context.Context, id string, pinned bool, note string) (records.Image, error) {
	m, st, err := ss.OfImage(ctx, id)
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
	there, err := ss.rec.Pin(ctx, id, pinned, note)
	if err != nil {
		return m, err
	}
	if !there { // a rotation was faster: the pin in the store would tell of what is not so
		err := fmt.Errorf("%w: image %s went just now; while its store keeps it, it can be brought back: keenlodge image undrop %s", fault.ErrConflict, id, id)
		return m, errors.Join(err, st.SetPin(ctx, id, nil))
	}
	return ss.rec.Image(ctx, id)
}
