// Package trust has the records of what is known of how far images can be trusted: proofs, damage that was found, pins.
package trust

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/trial"
	"keenlodge/internal/records/db"
)

// Trust is that part of the records.
type Trust struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Trust { return Trust{d} }

// Proof is evidence that an image can be trusted, or that it can't.
type Proof struct {
	ID       int64       `db:"id" json:"id"`
	Image    string      `db:"image" json:"image"`
	Run      string      `db:"run" json:"run"`
	Level    image.Level `db:"level" json:"level"`
	Passed   bool        `db:"passed" json:"passed"`
	Began    time.Time   `db:"began" json:"began"`
	Ended    time.Time   `db:"ended" json:"ended"`
	Program  string      `db:"program" json:"program"`
	Evidence []string    `db:"evidence" json:"evidence"`
	Error    string      `db:"error" json:"error"`
	// Report is what a trial showed, nil for other proofs.
	Report *trial.Report `db:"report" json:"report,omitempty"`
}

// AddProof records a proof.
func (t Trust) AddProof(ctx context.Context, p Proof) error {
	if p.Evidence == nil {
		p.Evidence = []string{}
	}
	return pgx.BeginFunc(ctx, t.db.Pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "insert into proofs (image, run, level, passed, began, ended, program, evidence, error, report) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)",
			p.Image, p.Run, p.Level, p.Passed, p.Began, p.Ended, p.Program, p.Evidence, p.Error, p.Report)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `update images set proof_failed = not $2, proven = coalesce(best.level, ''), proven_at = best.ended from (select) one
			left join lateral (select level, ended from proofs where image = $1 and passed order by array_position($3::text[], level) desc, id desc limit 1) best on true where images.id = $1`,
			p.Image, p.Passed, image.Levels)
		return err
	})
}

// Proofs lists an image's proofs, newest first.
func (t Trust) Proofs(ctx context.Context, id string) ([]Proof, error) {
	return db.All[Proof](ctx, t.db.Pool, "select * from proofs where image = $1 order by id desc", id)
}

const (
	// SecondLook is how long after a first finding of damage a second one counts: what read it, such as memory that forgets or a share that
	// fails, is then not likely to be in the same state.
	SecondLook = time.Hour
	// lookAgain is how often a second reading is asked for where it could not be carried out.
	lookAgain = 24 * time.Hour
)

// Damaged notes that a run found damage in an image, and tells what the image is then: doubtful at first; broken where another run found
// damage at least [SecondLook] ago. So is all that leans on it.
func (t Trust) Damaged(ctx context.Context, id, run string) (state image.State, err error) {
	type found struct {
		ID, Machine, Policy, Store string
		State                      image.State
	}
	err = pgx.BeginFunc(ctx, t.db.Pool, func(tx pgx.Tx) error {
		changed, err := db.All[found](ctx, tx, `with recursive above as (select id from images where id = $1 union select i.id from images i join above a on i.base = a.id),
			verdicts as (select id, case when state = 'usable' then 'doubtful' else 'broken' end as verdict from images join above using (id)
				where state = 'usable' or state = 'doubtful' and doubted_by <> $2 and doubted <= now() - $3::interval for update of images)
			update images set state = verdict, doubted = coalesce(doubted, now()), doubted_by = case when doubted is null then $2 else doubted_by end
			from verdicts where images.id = verdicts.id returning images.id, machine, policy, store, state`, id, run, SecondLook)
		if err != nil {
			return err
		}
		for _, m := range changed {
			told := event.Doubtful(m.ID, m.Machine, m.Policy, m.Store)
			if m.State == image.Broken {
				told = event.Broken(m.ID, m.Machine, m.Policy, m.Store)
			}
			if err := t.db.Happen(ctx, tx, told); err != nil {
				return err
			}
		}
		return tx.QueryRow(ctx, "select state from images where id = $1", id).Scan(&state)
	})
	if err == pgx.ErrNoRows {
		return "", fmt.Errorf("image %s: %w", id, fault.ErrNotFound)
	}
	if err != nil {
		return state, err
	}
	return state, t.db.Notify(ctx, "image "+id)
}

// Mended makes an image that was doubtful or broken usable again, for all of it was read and is right, and reports whether it was not. One of
// which something could not be read on its machine stays broken.
func (t Trust) Mended(ctx context.Context, id string) (bool, error) {
	tag, err := t.db.Pool.Exec(ctx, `update images set state = 'usable', doubted = null, doubted_by = '', looked = null where id = $1 and state in ('doubtful', 'broken')
		and not exists (select from jsonb_array_elements(disks) d where (d ->> 'lost')::bigint > 0)`, id)
	if err != nil || tag.RowsAffected() == 0 {
		return false, err
	}
	return true, t.db.Notify(ctx, "image "+id)
}

// ToReadAgain takes doubtful images whose second reading is due, so that nobody else reads them, too: some of them, the longest in doubt first.
func (t Trust) ToReadAgain(ctx context.Context) (ids []string, err error) {
	return db.Column[string](ctx, t.db.Pool, `update images set looked = now() where id in (
		select id from images where state = 'doubtful' and gone is null and doubted <= now() - $1::interval and (looked is null or looked <= now() - $2::interval)
		order by doubted, id limit 20 for update skip locked) returning id`, SecondLook, lookAgain)
}

// Pin pins an image or lets it go, unless it is gone, and reports whether it is not.
func (t Trust) Pin(ctx context.Context, id string, pinned bool, note string) (bool, error) {
	tag, err := t.db.Pool.Exec(ctx, "update images set pinned = $2, pin_note = $3 where id = $1 and gone is null", id, pinned, note)
	return tag.RowsAffected() == 1, err
}

// Expected lists the images that must lie in a store: all that are recorded there, but those on their way out or still being made.
func (t Trust) Expected(ctx context.Context, store string) ([]string, error) {
	return db.Column[string](ctx, t.db.Pool, "select id from images where store = $1 and state <> 'writing' and in_store and not leaving", store)
}

// Unrecorded are those of the images that the records never had, or have forgotten.
func (t Trust) Unrecorded(ctx context.Context, ids []string) ([]string, error) {
	return db.Column[string](ctx, t.db.Pool, "select id from unnest($1::text[]) as u(id) where not exists (select from images i where i.id = u.id) order by id", ids)
}

// Lodge is the name by which stores know this lodge, a UUID.
func (t Trust) Lodge(ctx context.Context) (id string, err error) {
	return id, t.db.Pool.QueryRow(ctx, "select lodge from settings").Scan(&id)
}

// TakeOver has rotation see to the images of a store that were adopted, and returns how many these were.
func (t Trust) TakeOver(ctx context.Context, store string) (int, error) {
	tag, err := t.db.Pool.Exec(ctx, "update images set adopted = false where store = $1 and adopted", store)
	return int(tag.RowsAffected()), err
}

// Unsettled are the images that are recorded as being written though their run is over: what became of them is to be found out.
func (t Trust) Unsettled(ctx context.Context) ([]string, error) {
	return db.Column[string](ctx, t.db.Pool, `select i.id from images i left join runs r on r.id = i.run where i.state = 'writing' and coalesce(r.state, '') not in ('queued', 'running') order by i.id`)
}
