// Package secrets has the records of what is kept sealed: what signs in to media, and what opens stores. Only the vault can read it.
package secrets

import (
	"context"

	"keenlodge/internal/records/db"
)

// Secrets is that part of the records.
type Secrets struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Secrets { return Secrets{d} }

// Secret reads a sealed secret; one that is not there is [fault.ErrNotFound].
func (s Secrets) Secret(ctx context.Context, name string) ([]byte, error) {
	type row struct {
		Sealed []byte `db:"sealed"`
	}
	found, err := db.One[row](ctx, s.db.Pool, "select sealed from secrets where name = $1", name)
	return found.Sealed, err
}

// SetSecret keeps a sealed secret in place of an older one.
func (s Secrets) SetSecret(ctx context.Context, name string, sealed []byte) error {
	return s.db.Exec(ctx, "insert into secrets (name, sealed) values ($1, $2) on conflict (name) do update set sealed = excluded.sealed", name, sealed)
}

// SetSecretOnce keeps a sealed secret unless there is one of its name.
func (s Secrets) SetSecretOnce(ctx context.Context, name string, sealed []byte) error {
	return s.db.Exec(ctx, "insert into secrets (name, sealed) values ($1, $2) on conflict (name) do nothing", name, sealed)
}

// SecretNames lists the names of all secrets.
func (s Secrets) SecretNames(ctx context.Context) ([]string, error) {
	return db.Column[string](ctx, s.db.Pool, "select name from secrets order by name")
}

// ReplaceSecret keeps a sealed secret in place of what it was, and reports whether it was so still.
func (s Secrets) ReplaceSecret(ctx context.Context, name string, was, now []byte) (bool, error) {
	tag, err := s.db.Pool.Exec(ctx, "update secrets set sealed = $3 where name = $1 and sealed = $2", name, was, now)
	return tag.RowsAffected() == 1, err
}

// ForgetSecret removes a sealed secret.
func (s Secrets) ForgetSecret(ctx context.Context, name string) error {
	return s.db.Exec(ctx, "delete from secrets where name = $1", name)
}
