package trust

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/unusual"
	"keenlodge/internal/records/db"
)

// Oddity is something unusual in an image.
type Oddity struct {
	Image string       `db:"image"`
	Kind  unusual.Kind `db:"kind"`
	Text  string       `db:"text"`
	Found time.Time    `db:"found"`
}

// AddUnusual records what is unusual in an image, and tells of it. Until a person has looked, the image counts as unusual.
func (t Trust) AddUnusual(ctx context.Context, image string, signs []unusual.Sign) error {
	if len(signs) == 0 {
		return nil
	}
	err := pgx.BeginFunc(ctx, t.db.Pool, func(tx pgx.Tx) error {
		var machine, policy, store string
		err := tx.QueryRow(ctx, "select machine, policy, store from images where id = $1 for update", image).Scan(&machine, &policy, &store)
		for i := 0; i < len(signs) && err == nil; i++ {
			var fresh bool
			err = tx.QueryRow(ctx, `with added as (insert into unusual (image, kind, text) values ($1, $2, $3) on conflict do nothing returning kind) select exists (select from added)`, image, signs[i].Kind, signs[i].Text).Scan(&fresh)
			if err == nil && fresh {
				err = t.db.Happen(ctx, tx, event.Unusual(image, machine, policy, store, signs[i].Text))
			}
		}
		if err == nil {
			_, err = tx.Exec(ctx, "update images set unusual = (select count(*) from unusual where image = $1 and found > coalesce(looked_at, '-infinity')) where id = $1", image)
		}
		return err
	})
	if err != nil {
		return err
	}
	return t.db.Notify(ctx, "image "+image)
}

// Unusual is what is unusual in an image, that was looked at or not.
func (t Trust) Unusual(ctx context.Context, image string) ([]Oddity, error) {
	return db.All[Oddity](ctx, t.db.Pool, "select * from unusual where image = $1 order by found, kind", image)
}

// UnusualMachines are the IDs of the machines that have an image in which something is unusual and nobody has looked.
func (t Trust) UnusualMachines(ctx context.Context) ([]string, error) {
	return db.Column[string](ctx, t.db.Pool, "select distinct machine_id from images where unusual > 0 and gone is null")
}

// Look records that a person has looked at what is unusual in an image, and reports whether there was anything.
func (t Trust) Look(ctx context.Context, image, who, note string) (bool, error) {
	tag, err := t.db.Pool.Exec(ctx, "update images set unusual = 0, looked_by = $2, looked_note = $3, looked_at = now() where id = $1 and unusual > 0", image, who, note)
	if err != nil || tag.RowsAffected() == 0 {
		return false, err
	}
	return true, t.db.Notify(ctx, "image "+image)
}
