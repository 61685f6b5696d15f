// Package unread has the records of files that runs could not read as they were.
package unread

import (
	"context"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/records/db"
)

// Unread is that part of the records.
type Unread struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Unread { return Unread{d} }

// File is one of a machine, by its identity, that could not be read as it was. Path is the bytes of its name.
type File struct {
	Machine string `db:"machine"`
	Path    []byte `db:"path"`
	Why     string `db:"why"`
	// Changed says that it was read, and was written to meanwhile.
	Changed bool `db:"changed"`
}

// Most bounds the files that are noted of one machine in one run.
const Most = 100_000

// NoteUnread notes a machine's files, in place of those that an earlier try in the same run noted.
func (u Unread) NoteUnread(ctx context.Context, run, machine string, files []File) error {
	return pgx.BeginFunc(ctx, u.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "delete from unread where run = $1 and machine = $2", run, machine); err != nil {
			return err
		}
		_, err := tx.CopyFrom(ctx, pgx.Identifier{"unread"}, []string{"run", "machine", "n", "path", "why", "changed"}, pgx.CopyFromSlice(len(files), func(i int) ([]any, error) {
			f := files[i]
			return []any{run, machine, i, f.Path, f.Why, f.Changed}, nil
		}))
		return err
	})
}

// UnreadOf lists what a run noted, of all machines.
func (u Unread) UnreadOf(ctx context.Context, run string) ([]File, error) {
	return db.All[File](ctx, u.db.Pool, "select machine, path, why, changed from unread where run = $1 order by machine, n", run)
}
