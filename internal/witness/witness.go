// Package witness has every store keep the newest weave of the lodge's trail, and looks whether the records still agree with what they keep.
package witness

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/records"
	"keenlodge/internal/stores"
	"keenlodge/internal/trail"
	"keenlodge/internal/wire"
)

const (
	// weaveEvery is how often the trail's chains are woven together, storeTime how long a store may take to keep that.
	weaveEvery, storeTime = time.Minute, 30 * time.Second
)

// Witness weaves, and has stores keep it.
type Witness struct {
	rec    *records.Records
	log    *slog.Logger
	trail  *trail.Trail
	stores *stores.Stores
}

// New makes a Witness; Serve has it work.
func New(rec *records.Records, log *slog.Logger, t *trail.Trail, ss *stores.Stores) *Witness {
	return &Witness{rec, log, t, ss}
}

// Serve weaves the trail and has every store keep it, until ctx ends. A store that is away gets the newest when it is back.
func (w *Witness) Serve(ctx context.Context) error {
	tick := time.NewTicker(weaveEvery)
	defer tick.Stop()
	kept := map[string]int64{} // by store: the newest weave that it keeps, as far as this process knows
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		if err := w.weaveOnce(ctx, kept); err != nil && ctx.Err() == nil {
			w.log.Warn("the trail could not be woven", "error", err)
		}
	}
}

func (w *Witness) weaveOnce(ctx context.Context, kept map[string]int64) error {
	newest, digest, err := w.trail.Weave(ctx)
	if err != nil || newest.N == 0 {
		return err
	}
	s, err := w.rec.Site(ctx)
	if err != nil {
		return err
	}
	self, err := w.rec.Lodge(ctx)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		if kept[name] == newest.N {
			continue
		}
		if away, err := w.stores.Away(ctx, s, name); err == nil && away {
			continue
		}
		if err := w.keep(ctx, name, self, newest, digest); err != nil {
			w.log.Warn("a store does not keep the trail's newest weave; it is tried again", "store", name, "error", err)
			continue
		}
		kept[name] = newest.N
	}
	return nil
}

func (w *Witness) keep(ctx context.Context, store, self string, newest deed.Weave, digest []byte) error {
	ctx, done := context.WithTimeout(ctx, storeTime)
	defer done()
	st, err := w.stores.Named(ctx, store)
	if err != nil {
		return err
	}
	return trail.Keep(ctx, st.Medium(), self, newest, digest)
}

// Verify looks whether the trail is as it was written: whether its chains hang together, and whether the stores know of the same.
func (w *Witness) Verify(ctx context.Context) (wire.TrailCheck, error) {
	var v deed.Verifier
	out := wire.TrailCheck{Found: []string{}, Stores: []wire.TrailStore{}}
	s, err := w.rec.Site(ctx)
	if err != nil {
		return out, err
	}
	self, err := w.rec.Lodge(ctx)
	if err != nil {
		return out, err
	}
	var witnesses []deed.Kept
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) { // before the records are read, for they go on
		asked := wire.TrailStore{Store: name}
		kept, found, err := w.keptBy(ctx, name, self)
		if err != nil {
			asked.Error = err.Error()
		}
		asked.Weaves = len(kept)
		witnesses = append(witnesses, kept...)
		out.Found, out.Stores = append(out.Found, found...), append(out.Stores, asked)
	}
	before, err := w.trail.Verify(ctx, &v)
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

func (w *Witness) keptBy(ctx context.Context, store, self string) ([]deed.Kept, []string, error) {
	ctx, done := context.WithTimeout(ctx, storeTime)
	defer done()
	st, err := w.stores.Named(ctx, store)
	if err != nil {
		return nil, nil, err
	}
	return trail.Kept(ctx, st.Medium(), self, fmt.Sprintf("store %s", store))
}
