package lodge

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/trail"
	"keenlodge/internal/wire"
)

const (
	// weaveEvery is how often the trail's chains are woven together, storeTime how long a store may take to keep that.
	weaveEvery, storeTime = time.Minute, 30 * time.Second
)

// weave weaves the trail and has every store keep it, until ctx ends. A store that is away gets the newest when it is back.
func (l *Lodge) weave(ctx context.Context) error {
	tick := time.NewTicker(weaveEvery)
	defer tick.Stop()
	kept := map[string]int64{} // by store: the newest weave that it keeps, as far as this process knows
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		if err := l.weaveOnce(ctx, kept); err != nil && ctx.Err() == nil {
			l.log.Warn("the trail could not be woven", "error", err)
		}
	}
}

func (l *Lodge) weaveOnce(ctx context.Context, kept map[string]int64) error {
	w, digest, err := l.Trail.Weave(ctx)
	if err != nil || w.N == 0 {
		return err
	}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return err
	}
	self, err := l.rec.Lodge(ctx)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		if kept[name] == w.N {
			continue
		}
		if err := l.keepWeave(ctx, name, self, w, digest); err != nil {
			l.log.Warn("a store does not keep the trail's newest weave; it is tried again", "store", name, "error", err)
			continue
		}
		kept[name] = w.N
	}
	return nil
}

func (l *Lodge) keepWeave(ctx context.Context, store, self string, w deed.Weave, digest []byte) error {
	ctx, done := context.WithTimeout(ctx, storeTime)
	defer done()
	st, err := l.Stores.Named(ctx, store)
	if err != nil {
		return err
	}
	return trail.Keep(ctx, st.Medium(), self, w, digest)
}

// VerifyTrail looks whether the trail is as it was written: whether its chains hang together, and whether the stores know of the same.
func (l *Lodge) VerifyTrail(ctx context.Context) (wire.TrailCheck, error) {
	var v deed.Verifier
	out := wire.TrailCheck{Found: []string{}, Stores: []wire.TrailStore{}}
	s, err := l.rec.Site(ctx)
	if err != nil {
		return out, err
	}
	self, err := l.rec.Lodge(ctx)
	if err != nil {
		return out, err
	}
	var witnesses []deed.Kept
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) { // before the records are read, for they go on
		asked := wire.TrailStore{Store: name}
		kept, found, err := l.keptBy(ctx, name, self)
		if err != nil {
			asked.Error = err.Error()
		}
		asked.Weaves = len(kept)
		witnesses = append(witnesses, kept...)
		out.Found, out.Stores = append(out.Found, found...), append(out.Stores, asked)
	}
	before, err := l.Trail.Verify(ctx, &v)
	if err != nil {
		return out, err
	}
	for _, k := range witnesses {
		v.Kept(k)
	}
	out.Lines, out.Chains, out.Weaves, out.Before = v.Lines, v.Chains, v.Weaves, before
	out.Found = append(out.Found, v.Found()...)
	return out, nil
}

func (l *Lodge) keptBy(ctx context.Context, store, self string) ([]deed.Kept, []string, error) {
	ctx, done := context.WithTimeout(ctx, storeTime)
	defer done()
	st, err := l.Stores.Named(ctx, store)
	if err != nil {
		return nil, nil, err
	}
	return trail.Kept(ctx, st.Medium(), self, fmt.Sprintf("store %s", store))
}
