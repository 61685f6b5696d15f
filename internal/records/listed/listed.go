// Package listed has the records of images' lists of files.
package listed

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/unusual"
	"keenlodge/internal/records/db"
)

// Listed is that part of the records.
type Listed struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Listed { return Listed{d} }

// List is what is kept of an image's list. Gone says that the image is: others lean on its list.
type List struct {
	Image string `db:"image"`
	Body  []byte `db:"body"`
	Gone  bool   `db:"gone"`
}

// AddList adds the list of an image. fold gets the newest list of the machine, nil where there is none, and whether its image is the forerunner of this one: of the same policy and scope, and taken before. It returns what is kept of that from now on, and
// what is kept of the new one; both are kept, or neither. It does nothing where the image has a list already.
func (l Listed) AddList(ctx context.Context, machine, image string, entries int64, fold func(newest []byte, follows bool) (older, newer []byte, err error)) (added bool, err error) {
	err = pgx.BeginFunc(ctx, l.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock(hashtext('lists'), hashtext($1))", machine); err != nil {
			return err
		}
		var there bool
		if err := tx.QueryRow(ctx, "select exists (select from lists where image = $1)", image).Scan(&there); err != nil || there {
			return err
		}
		var id int64
		var newest []byte
		var follows bool
		err := tx.QueryRow(ctx, `select l.id, l.body, exists (select from images o, images n where o.id = l.image and n.id = $2 and `+forerunner+`)
			from lists l where l.machine = $1 order by l.id desc limit 1`, machine, image).Scan(&id, &newest, &follows)
		if err != nil && !errors.Is(err, pgx.ErrNoRows) {
			return err
		}
		older, newer, err := fold(newest, follows)
		if err != nil {
			return err
		}
		if id != 0 {
			if older == nil { // it can't be read any more, and nothing that leans on it
				_, err = tx.Exec(ctx, "delete from lists where machine = $1", machine)
			} else {
				_, err = tx.Exec(ctx, "update lists set body = $2 where id = $1", id, older)
			}
			if err != nil {
				return err
			}
		}
		_, err = tx.Exec(ctx, "insert into lists (machine, image, entries, body) values ($1, $2, $3, $4)", machine, image, entries, newer)
		added = err == nil
		return err
	})
	return added && err == nil, err
}

// forerunner says that an image o can be compared with an image n.
const forerunner = "o.policy = n.policy and o.scope = n.scope and o.taken < n.taken"

// Forerunner is the image before an image, of those of its machine that have lists, "" for none.
func (l Listed) Forerunner(ctx context.Context, machine, image string) (string, error) {
	found, err := db.Column[string](ctx, l.db.Pool, "select o.id from lists l join images o on o.id = l.image join images n on n.id = $2 where l.machine = $1 and "+forerunner+" order by o.taken desc limit 1", machine, image)
	if err != nil || len(found) == 0 {
		return "", err
	}
	return found[0], nil
}

// SetChange keeps how the files of an image differ from those of the one that was listed before.
func (l Listed) SetChange(ctx context.Context, image string, c unusual.Change) error {
	_, err := l.db.Pool.Exec(ctx, "update lists set change = $2 where image = $1", image, c)
	return err
}

// Changes are those of the images before an image of a machine, newest first, at most so many.
func (l Listed) Changes(ctx context.Context, machine, image string, most int) ([]unusual.Change, error) {
	return db.Column[unusual.Change](ctx, l.db.Pool, "select l.change from lists l join images o on o.id = l.image join images n on n.id = $2 where l.machine = $1 and l.change is not null and "+forerunner+" order by o.taken desc limit $3", machine, image, most)
}

// ListsOf lists what is kept of a machine's lists, the one that was made last first: it is whole, and each other says what differs from the one before.
func (l Listed) ListsOf(ctx context.Context, machine string) ([]List, error) {
	return db.All[List](ctx, l.db.Pool, `select l.image, l.body, coalesce(i.gone is not null, true) gone from lists l left join images i on i.id = l.image where l.machine = $1 order by l.id desc`, machine)
}

// HasList reports whether an image has a list.
func (l Listed) HasList(ctx context.Context, image string) (has bool, err error) {
	err = l.db.Pool.QueryRow(ctx, "select exists (select from lists where image = $1)", image).Scan(&has)
	return has, err
}

// Unlisted lists images of files that have no list yet, the newest first, at most so many.
func (l Listed) Unlisted(ctx context.Context, most int) ([]string, error) {
	type one struct {
		ID string `db:"id"`
	}
	found, err := db.All[one](ctx, l.db.Pool, `select i.id from images i where i.state = 'usable' and i.gone is null and i.files is not null and not exists (select from lists l where l.image = i.id) order by i.taken desc limit $1`, most)
	out := make([]string, len(found))
	for i, f := range found {
		out[i] = f.ID
	}
	return out, err
}

// DropLists drops what nothing leans on any more: lists of images that are gone, as far as all that were listed before them are, too.
func (l Listed) DropLists(ctx context.Context) error {
	_, err := l.db.Pool.Exec(ctx, `delete from lists l where not exists (
		select from lists o join images i on i.id = o.image where o.machine = l.machine and o.id <= l.id and i.gone is null)
		and exists (select from lists n where n.machine = l.machine and n.id > l.id)`)
	return err
}
