package around

import (
	"context"
	"time"

	"keenlodge/internal/records/db"
)

// Heard is how a source stands. Free and Total are bytes of its pool, -1 where it does not tell.
type Heard struct {
	Name  string    `db:"name"`
	Asked time.Time `db:"asked"`
	// Heard is when it last answered; nil for never.
	Heard *time.Time `db:"heard"`
	// Error says why it did not answer when it was last asked.
	Error    string `db:"error"`
	Machines int    `db:"machines"`
	Told
}

// Told is what a source tells of itself.
type Told struct {
	Version string `db:"version"`
	Host    string `db:"host"`
	Pool    string `db:"pool"`
	Free    int64  `db:"free"`
	Total   int64  `db:"total"`
}

// Hear records that a source answered: how many machines it has, and what it told of itself, nil where it was not asked for that.
func (a Around) Hear(ctx context.Context, source string, machines int, told *Told) error {
	err := a.db.Exec(ctx, `insert into sources (name, asked, heard, machines) values ($1, now(), now(), $2)
		on conflict (name) do update set asked = now(), heard = now(), error = '', machines = $2`, source, machines)
	if err != nil || told == nil {
		return err
	}
	return a.db.Exec(ctx, "update sources set version = $2, host = $3, pool = $4, free = $5, total = $6 where name = $1", source, told.Version, told.Host, told.Pool, told.Free, told.Total)
}

// Miss records why a source did not answer.
func (a Around) Miss(ctx context.Context, source, why string) error {
	return a.db.Exec(ctx, `insert into sources (name, asked, error) values ($1, now(), $2) on conflict (name) do update set asked = now(), error = $2`, source, why)
}

// Sources lists what is known of sources, by name.
func (a Around) Sources(ctx context.Context) ([]Heard, error) {
	return db.All[Heard](ctx, a.db.Pool, "select name, asked, heard, error, machines, version, host, pool, free, total from sources order by name")
}
