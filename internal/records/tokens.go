package records

import (
	"context"
	"crypto/sha256"

	"keenlodge/internal/records/db"
)

// Token says whose a token is and what it is good for: "all", or the "calendar" alone.
type Token struct {
	Name  string `db:"name"`
	Scope string `db:"scope"`
}

// Token finds a token's name and scope. An unknown one is [fault.ErrNotFound].
func (r *Records) Token(ctx context.Context, token string) (Token, error) {
	digest := sha256.Sum256([]byte(token))
	return db.One[Token](ctx, r.db.Pool, "select name, scope from tokens where digest = $1", digest[:])
}

// AddFirstToken records a token if there is none yet, and reports whether it did.
func (r *Records) AddFirstToken(ctx context.Context, name, token string) (bool, error) {
	digest := sha256.Sum256([]byte(token))
	tag, err := r.db.Pool.Exec(ctx, "insert into tokens (digest, name) select $1, $2 where not exists (select from tokens)", digest[:], name)
	return tag.RowsAffected() == 1, err
}

// SetToken records a token in place of an older one of its name.
func (r *Records) SetToken(ctx context.Context, t Token, token string) error {
	digest := sha256.Sum256([]byte(token))
	return r.db.Exec(ctx, "insert into tokens (digest, name, scope) values ($1, $2, $3) on conflict (name) do update set digest = excluded.digest, scope = excluded.scope", digest[:], t.Name, t.Scope)
}
