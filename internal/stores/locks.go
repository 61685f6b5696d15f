package stores

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records/upkeep"
	"keenlodge/internal/store"
)

// followLock tells an open store for how long the site locks what comes into it.
func followLock(s site.Site, name string, st store.Store) {
	if l, ok := st.(store.Locker); ok {
		l.Lock(s.LockInto(name))
	}
}

// LocksDue reports whether nobody looked yet at the locks of a store that the site locks, or locks for longer than before.
func (ss *Stores) LocksDue(ctx context.Context, s site.Site, name string) (bool, error) {
	d := s.LockInto(name)
	if d == 0 {
		return false, nil
	}
	known, err := ss.rec.Locks(ctx, name)
	return err == nil && known.For < d, err
}

// RenewLocks renews what a store's place has locked, as far as that is due. Where the place locks nothing it does nothing.
func (ss *Stores) RenewLocks(ctx context.Context, s site.Site, name string, st store.Store) (out store.RenewedLocks, err error) {
	l, ok := st.(store.Locker)
	d := s.LockInto(name)
	if d == 0 {
		return out, nil
	}
	began := time.Now()
	if !ok || !l.Lock(d) {
		return out, ss.rec.SetLocks(ctx, name, upkeep.Locks{Renewed: began, For: d})
	}
	known, err := ss.rec.Locks(ctx, name)
	if err != nil {
		return out, err
	}
	if out, err = l.RenewLocks(ctx, known.Since(d)); err != nil {
		return out, fmt.Errorf("store %s: %w; what is locked stays so for the rest of its margin, and the next sweep tries again", name, err)
	}
	return out, ss.rec.SetLocks(ctx, name, upkeep.Locks{Renewed: began, For: d, ByPlace: true})
}
