package upkeep

import (
	"context"
	"strings"
	"time"

	"keenlodge/internal/core/run"
	"keenlodge/internal/records/db"
)

// Whereabouts is whether a store's disk, which comes and goes, is here, and since when. Released says that it was let go to be unplugged.
type Whereabouts struct {
	Here     bool      `json:"here"`
	Since    time.Time `json:"since"`
	Released bool      `json:"released"`
}

// Whereabouts are those of a store, the zero value where nobody looked yet.
func (u Upkeep) Whereabouts(ctx context.Context, store string) (Whereabouts, error) {
	type row struct {
		Whereabouts Whereabouts `db:"whereabouts"`
	}
	found, err := db.One[row](ctx, u.db.Pool, "select coalesce(whereabouts, '{}') as whereabouts from stores where name = $1", store)
	return found.Whereabouts, err
}

// SetWhereabouts notes them.
func (u Upkeep) SetWhereabouts(ctx context.Context, store string, w Whereabouts) error {
	return u.db.Exec(ctx, "update stores set whereabouts = $2 where name = $1", store, w)
}

// Using lists the runs that read or write a store now.
func (u Upkeep) Using(ctx context.Context, store string) ([]string, error) {
	return db.Column[string](ctx, u.db.Pool, `select distinct r.id from runs r join tasks t on t.run = r.id left join images i on i.id = t.image
		where r.state = 'running' and t.state = 'running' and (t.store = $1 or i.store = $1 or r.kind in ('sweep', 'check', 'move') and t.machine = $1)
		union select i.run from images i where i.store = $1 and i.state = 'writing' and i.gone is null and i.run <> ''
		union select r.id from runs r where r.state = 'running' and r.kind in ('backup', 'copy') and r.policy in (select name from policies where spec->>'store' = $1 or spec->>'to' = $1 or spec->>'from' = $1) order by 1`, store)
}

// Hold has a store wait for a run that changes it over; with "" it is let go.
func (u Upkeep) Hold(ctx context.Context, store, run string) error {
	return u.db.Exec(ctx, "update stores set held = $2 where name = $1", store, run)
}

// Held is the run that holds a store, "" for none: one that is over holds nothing.
func (u Upkeep) Held(ctx context.Context, store string) (string, error) {
	found, err := db.Column[string](ctx, u.db.Pool, "select s.held from stores s join runs r on r.id = s.held where s.name = $1 and r.state = 'running' and "+db.Lives("r.owner"), store)
	return strings.Join(found, ""), err
}

// MoveUnderWay is a run that moves a store and is in one of some states, other than one; "" for none.
func (u Upkeep) MoveUnderWay(ctx context.Context, store, other string, states ...run.State) (string, error) {
	found, err := db.Column[string](ctx, u.db.Pool, "select id from runs where kind = 'move' and state = any($3) and request->>'store' = $1 and id <> $2 order by id limit 1", store, other, states)
	return strings.Join(found, ""), err
}

// Drain has no run begin that would use a store, so that a run that moves it finds it free; with "" they begin again.
func (u Upkeep) Drain(ctx context.Context, store, run string) error {
	return u.db.Exec(ctx, "update stores set drained = $2 where name = $1", store, run)
}

// Drained is the run for which no other begins that would use one of some stores, "" for none.
func (u Upkeep) Drained(ctx context.Context, stores ...string) (string, error) {
	found, err := db.Column[string](ctx, u.db.Pool, "select s.drained from stores s join runs r on r.id = s.drained where s.name = any($1) and r.state = 'running' and "+db.Lives("r.owner")+" limit 1", stores)
	return strings.Join(found, ""), err
}
