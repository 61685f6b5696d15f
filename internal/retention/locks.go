package retention

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/store"
)

// renewLocks has a store's place go on locking what images share, and tells what somebody tried there.
func (rt *Retention) renewLocks(ctx context.Context, s site.Site, name string, st store.Store, r *runs.Run) error {
	l, err := rt.renew(ctx, s, name, st)
	if n := len(l.Hidden); n > 0 {
		text := fmt.Sprintf("somebody deleted or overwrote %d objects of store %s, as far as its place let him: %s. They are locked, and are as they were; find out who has a key to that place", n, name, strings.Join(l.Hidden[:min(n, 5)], ", "))
		r.Warn(ctx, name, "%s", text)
		err = errors.Join(err, rt.rec.Queue(ctx, records.Happened{Event: event.Event{Name: event.LockTried, Run: r.ID, Store: name, Text: text}}))
	}
	if err == nil && l.Objects > 0 {
		r.Log(ctx, name, "%d objects that images share are locked by their place; %d locks were renewed until %s", l.Objects, l.Renewed, l.Until.In(s.Location()).Format("2006-01-02"))
	}
	return err
}

// locksDue reports whether nobody looked yet at the locks of a store that the site locks, or locks for longer than before.
func (rt *Retention) locksDue(ctx context.Context, s site.Site, name string) (bool, error) {
	d := s.LockInto(name)
	if d == 0 {
		return false, nil
	}
	known, err := rt.rec.Locks(ctx, name)
	return err == nil && known.For < d, err
}

// renew renews what a store's place has locked, as far as that is due. Where the place locks nothing it does nothing.
func (rt *Retention) renew(ctx context.Context, s site.Site, name string, st store.Store) (out store.RenewedLocks, err error) {
	l, ok := st.(store.Locker)
	d := s.LockInto(name)
	if d == 0 {
		return out, nil
	}
	began := time.Now()
	if !ok || !l.Lock(d) {
		return out, rt.rec.SetLocks(ctx, name, records.Locks{Renewed: began, For: d})
	}
	known, err := rt.rec.Locks(ctx, name)
	if err != nil {
		return out, err
	}
	if out, err = l.RenewLocks(ctx, known.Since(d)); err != nil {
		return out, fmt.Errorf("store %s: %w; what is locked stays so for the rest of its margin, and the next sweep tries again", name, err)
	}
	return out, rt.rec.SetLocks(ctx, name, records.Locks{Renewed: began, For: d, ByPlace: true})
}
