// Package around has the records of what stands around machines on their hosts: networks, storage pools, the names of secrets.
package around

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/records/db"
)

// Around is that part of the records.
type Around struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Around { return Around{d} }

// Thing is something that a host has beside its machines, as it was from Since until Seen.
type Thing struct {
	Kind       string    `db:"kind"`
	Name       string    `db:"name"`
	Definition string    `db:"definition"`
	Since      time.Time `db:"since"`
	Seen       time.Time `db:"seen"`
}

// ClaimSurvey reports whether a host is to be asked again for what stands around its machines, and if so notes that this begins now: of several
// processes one does it. A survey that failed is due again after retry.
func (a Around) ClaimSurvey(ctx context.Context, hypervisor string, every, retry time.Duration) (bool, error) {
	tag, err := a.db.Pool.Exec(ctx, `insert into surveys (hypervisor, began) values ($1, now()) on conflict (hypervisor) do update set began = now(), ended = null
		where surveys.began < now() - case when surveys.ended is not null and surveys.error = '' then $2::interval else $3::interval end`, hypervisor, every, retry)
	return err == nil && tag.RowsAffected() == 1, err
}

// Surveyed records what was found, or why nothing was. What has not changed since it was last seen is seen again; all that nobody has seen for
// longer than keep goes.
func (a Around) Surveyed(ctx context.Context, hypervisor string, found []Thing, problem string, keep time.Duration) error {
	return pgx.BeginFunc(ctx, a.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "update surveys set ended = now(), error = $2 where hypervisor = $1", hypervisor, problem); err != nil {
			return err
		}
		for _, t := range found {
			tag, err := tx.Exec(ctx, `update around set seen = now() where hypervisor = $1 and kind = $2 and name = $3 and definition = $4
				and since = (select max(since) from around where hypervisor = $1 and kind = $2 and name = $3)`, hypervisor, t.Kind, t.Name, t.Definition)
			if err == nil && tag.RowsAffected() == 0 {
				_, err = tx.Exec(ctx, "insert into around (hypervisor, kind, name, definition) values ($1, $2, $3, $4)", hypervisor, t.Kind, t.Name, t.Definition)
			}
			if err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, "delete from around where hypervisor = $1 and seen < now() - $2::interval", hypervisor, keep)
		return err
	})
}

// Things lists what stood around a host's machines, by kind and name, the newest first.
func (a Around) Things(ctx context.Context, hypervisor string) ([]Thing, error) {
	return db.All[Thing](ctx, a.db.Pool, "select kind, name, definition, since, seen from around where hypervisor = $1 order by kind, name, since desc", hypervisor)
}
