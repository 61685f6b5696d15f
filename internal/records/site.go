package records

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records/db"
)

// named is a row of a site's table.
type named[T any] struct {
	Name string `db:"name"`
	Spec T      `db:"spec"`
}

func specs[T any](ctx context.Context, q db.Querier, table string) (map[string]T, error) {
	rows, err := db.All[named[T]](ctx, q, "select name, spec from "+table)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	out := make(map[string]T, len(rows))
	for _, row := range rows {
		out[row.Name] = row.Spec
	}
	return out, nil
}

// Site is the whole configuration. Callers share it and must not change it.
func (r *Records) Site(ctx context.Context) (s site.Site, err error) {
	err = pgx.BeginTxFunc(ctx, r.db.Pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) (err error) {
		s, err = r.siteIn(ctx, tx)
		return err
	})
	return s, err
}

// KnownSite is the configuration as this process read it last.
func (r *Records) KnownSite() site.Site {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.cachedSite
}

// siteIn reads the configuration in a transaction, or takes the copy that this process has if that is still the one. Which store of a set is filled
// is asked each time.
func (r *Records) siteIn(ctx context.Context, tx pgx.Tx) (site.Site, error) {
	s, err := r.writtenIn(ctx, tx)
	if err != nil || !s.FillsSets() {
		return s, err
	}
	here, err := db.Column[string](ctx, tx, "select name from stores where whereabouts->>'here' = 'true' and whereabouts->>'released' is distinct from 'true' order by (whereabouts->>'since') desc")
	return s.InTurn(func(name string) bool { return slices.Contains(here, name) }), err
}

func (r *Records) writtenIn(ctx context.Context, tx pgx.Tx) (site.Site, error) {
	var version int64
	if err := tx.QueryRow(ctx, "select version from settings").Scan(&version); err != nil {
		return site.Site{}, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.version == version {
		return r.cachedSite, nil
	}
	s, version, err := readSite(ctx, tx)
	if err == nil {
		r.cachedSite, r.version = s, version
	}
	return s, err
}

func readSite(ctx context.Context, q db.Querier) (s site.Site, version int64, err error) {
	type row struct {
		Zone    string `db:"zone"`
		Tasks   int    `db:"tasks_at_once"`
		Keep    string `db:"keep_runs"`
		Images  string `db:"keep_images"`
		Version int64  `db:"version"`
	}
	own, err := db.One[row](ctx, q, "select zone, tasks_at_once, keep_runs, keep_images, version from settings")
	if err != nil {
		return s, 0, err
	}
	s.Zone, s.TasksAtOnce, s.KeepRuns, s.KeepImages = own.Zone, own.Tasks, own.Keep, own.Images
	if s.Webhooks, err = specs[site.Webhook](ctx, q, "webhooks"); err != nil {
		return s, 0, err
	}
	if s.Hypervisors, err = specs[site.Hypervisor](ctx, q, "hypervisors"); err != nil {
		return s, 0, err
	}
	if s.Stores, err = specs[site.Store](ctx, q, "stores"); err != nil {
		return s, 0, err
	}
	if s.Groups, err = specs[site.Group](ctx, q, "groups"); err != nil {
		return s, 0, err
	}
	if s.Policies, err = specs[site.Policy](ctx, q, "policies where kind = 'policy'"); err != nil {
		return s, 0, err
	}
	s.Copies, err = specs[site.Copy](ctx, q, "policies where kind = 'copy'")
	return s, own.Version, err
}

// SaveSite replaces the configuration, in one transaction, with next. nextDue gives each
// policy's next scheduled moment, the zero time for none. Machines of hypervisors that are gone are forgotten; images stay.
func (r *Records) SaveSite(ctx context.Context, next site.Site, nextDue func(site.Policy) time.Time, storeIDs map[string]string) error {
	return r.ReplaceSite(ctx, nil, next, nextDue, storeIDs)
}

// ReplaceSite is SaveSite for a configuration that was made from another one: if somebody has applied a third one meanwhile, nothing is
// changed, and the error, a [fault.ErrConflict], says what differs.
func (r *Records) ReplaceSite(ctx context.Context, from *site.Site, next site.Site, nextDue func(site.Policy) time.Time, storeIDs map[string]string) error {
	err := pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "select 1 from settings for update"); err != nil {
			return err
		}
		old, _, err := readSite(ctx, tx)
		if err != nil {
			return err
		}
		if from != nil {
			if err := from.Unchanged(old); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, "update settings set zone = $1, tasks_at_once = $2, keep_runs = $3, keep_images = $4, version = version + 1", next.Zone, next.TasksAtOnce, next.KeepRuns, next.KeepImages); err != nil {
			return err
		}
		if err := saveSpecs(ctx, tx, "webhooks", next.Webhooks); err != nil {
			return err
		}
		if err := saveSpecs(ctx, tx, "hypervisors", next.Hypervisors); err != nil {
			return err
		}
		if err := saveSpecs(ctx, tx, "stores", next.Stores); err != nil {
			return err
		}
		for name, id := range storeIDs {
			if _, err := tx.Exec(ctx, "update stores set store_id = $2 where name = $1", name, id); err != nil {
				return err
			}
		}
		if err := saveSpecs(ctx, tx, "groups", next.Groups); err != nil {
			return err
		}
		if err := saveKind(ctx, tx, "policies", "policy", next.Policies); err != nil {
			return err
		}
		if err := saveKind(ctx, tx, "policies", "copy", next.Copies); err != nil {
			return err
		}
		for _, name := range slices.Concat(slices.Collect(maps.Keys(next.Policies)), slices.Collect(maps.Keys(next.Copies))) {
			was, gone := old.Planned(name)
			p, err := next.Planned(name)
			if err != nil {
				return err
			}
			if gone == nil && old.Zone == next.Zone && sameMoments(was, p) {
				continue // a moment that has just come must not be put off
			}
			var due *time.Time
			if at := nextDue(p); !at.IsZero() {
				due = &at
			}
			if _, err := tx.Exec(ctx, "update policies set next_due = $2 where name = $1", name, due); err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, `delete from machines m where hypervisor not in (select name from hypervisors)
			and retired is null and not exists (select from images i where i.machine_id = m.id and i.gone is null)`)
		return err
	})
	if err != nil {
		return err
	}
	return r.db.Notify(ctx, "site")
}

// sameMoments reports whether two policies are due at the same times.
func sameMoments(a, b site.Policy) bool {
	return slices.EqualFunc(a.Schedules, b.Schedules, func(a, b site.Schedule) bool { return a.When == b.When })
}

func saveSpecs[T any](ctx context.Context, tx pgx.Tx, table string, specs map[string]T) error {
	names := make([]string, 0, len(specs))
	for name, spec := range specs {
		names = append(names, name)
		sql := "insert into " + table + " (name, spec) values ($1, $2) on conflict (name) do update set spec = excluded.spec"
		if _, err := tx.Exec(ctx, sql, name, spec); err != nil {
			return err
		}
	}
	_, err := tx.Exec(ctx, "delete from "+table+" where not name = any($1)", names)
	return err
}

// saveKind is saveSpecs for a table that has things of several kinds, none of which has the name of another.
func saveKind[T any](ctx context.Context, tx pgx.Tx, table, kind string, specs map[string]T) error {
	if _, err := tx.Exec(ctx, "delete from "+table+" where kind = $1 and not name = any($2)", kind, slices.AppendSeq([]string{}, maps.Keys(specs))); err != nil {
		return err
	}
	for name, spec := range specs {
		if _, err := tx.Exec(ctx, "insert into "+table+" (name, spec, kind) values ($1, $2, $3) on conflict (name) do update set spec = excluded.spec, kind = excluded.kind", name, spec, kind); err != nil {
			return err
		}
	}
	return nil
}

// StoreID is the identity that a store had when it was first used, or "".
func (r *Records) StoreID(ctx context.Context, name string) (string, error) {
	type row struct {
		ID string `db:"store_id"`
	}
	found, err := db.One[row](ctx, r.db.Pool, "select store_id from stores where name = $1", name)
	return found.ID, err
}

// PolicyStanding is what the records know of a policy beside its spec.
type PolicyStanding struct {
	Name    string     `db:"name"`
	NextDue *time.Time `db:"next_due"`
	Notice  string     `db:"notice"`
	Pause
}

// PolicyStandings lists them by name.
func (r *Records) PolicyStandings(ctx context.Context) ([]PolicyStanding, error) {
	return db.All[PolicyStanding](ctx, r.db.Pool, "select name, next_due, notice, paused_since, paused_until, paused_why, paused_by from policies order by name")
}

// SetNotice says what a person must look at in a policy; "" takes it back.
func (r *Records) SetNotice(ctx context.Context, policy, notice string) error {
	return r.db.Exec(ctx, "update policies set notice = $2 where name = $1", policy, notice)
}
