// Package upkeep has the records of what is done for stores day by day: when each was swept, and when its locks were renewed.
package upkeep

import (
	"context"
	"time"

	"keenlodge/internal/core/run"
	"keenlodge/internal/records/db"
)

// Upkeep is that part of the records.
type Upkeep struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Upkeep { return Upkeep{d} }

// ClaimSweep reports whether a store's sweep is due, and if so notes that it begins now: of several processes one gets it.
func (u Upkeep) ClaimSweep(ctx context.Context, store string, every time.Duration) (bool, error) {
	tag, err := u.db.Pool.Exec(ctx, "update stores set swept = now() where name = $1 and (swept is null or swept < now() - $2::interval)", store, every)
	return tag.RowsAffected() == 1, err
}

// Locks is when the locks of a store's objects were renewed last, and for how long images were locked then.
type Locks struct {
	Renewed time.Time     `json:"renewed"`
	For     time.Duration `json:"for"`
	// ByPlace says that the place could lock them.
	ByPlace bool `json:"by_place"`
}

// Since is when the place locked them for so long a time, the zero time for never.
func (l Locks) Since(d time.Duration) time.Time {
	if l.For < d || !l.ByPlace {
		return time.Time{}
	}
	return l.Renewed
}

// Locks are those of a store, the zero value where they were never renewed, or where the store was another.
func (u Upkeep) Locks(ctx context.Context, store string) (Locks, error) {
	type row struct {
		Locks Locks `db:"locks"`
	}
	found, err := db.One[row](ctx, u.db.Pool, "select case when locks->>'store' = store_id then locks else '{}' end as locks from stores where name = $1", store)
	return found.Locks, err
}

// SetLocks notes that they were renewed.
func (u Upkeep) SetLocks(ctx context.Context, store string, l Locks) error {
	return u.db.Exec(ctx, "update stores set locks = $2::jsonb || jsonb_build_object('store', store_id) where name = $1", store, l)
}

// SweepUnderWay is a sweep of a store that is in a state, or "".
func (u Upkeep) SweepUnderWay(ctx context.Context, store string, state run.State) (id string, err error) {
	ids, err := db.Column[string](ctx, u.db.Pool, "select id from runs where kind = 'sweep' and state = $2 and request->>'store' = $1 order by made limit 1", store, state)
	if len(ids) > 0 {
		id = ids[0]
	}
	return id, err
}
