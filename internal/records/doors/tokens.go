// Package doors has the records of who may come in: tokens, and the browsers that signed in with one. Of what opens a door only a digest is
// kept. All limits of time go by the database's clock, so that one of a process may be wrong.
package doors

import (
	"context"
	"crypto/sha256"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/right"
	"keenlodge/internal/records/db"
)

// Doors is that part of the records.
type Doors struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Doors { return Doors{d} }

// Token is one that was made, without what it opens doors with.
type Token struct {
	ID   string `db:"id"`
	Name string `db:"name"`
	// Scope is what it is good for: "all" its grants allow, the "calendar" feed alone, or to be redeemed "once".
	Scope   string        `db:"scope"`
	Grants  []right.Grant `db:"grants"`
	Made    time.Time     `db:"made"`
	MadeBy  string        `db:"made_by"`
	Expires time.Time     `db:"expires"`
	// Used is when it was last used, to the minute, nil for never; UsedFrom is where from.
	Used     *time.Time `db:"used"`
	UsedFrom string     `db:"used_from"`
	Revoked  *time.Time `db:"revoked"`
	// Live is neither revoked nor expired.
	Live bool `db:"live"`
	// Sessions is how many browsers are signed in with it.
	Sessions int `db:"sessions"`
}

const tokenColumns = `t.id, t.name, t.scope, t.grants, t.made, t.made_by, t.expires, t.used, t.used_from, t.revoked, t.revoked is null and t.expires > now() as live,
	(select count(*) from sessions s where s.token = t.id and ` + liveSession + `) as sessions`

// Tokens lists all tokens, by name.
func (d Doors) Tokens(ctx context.Context) ([]Token, error) {
	return db.All[Token](ctx, d.db.Pool, "select "+tokenColumns+" from tokens t order by name")
}

// Names of the database's own.
const tokenNames = "tokens_name_key"

// ErrTaken marks a name that another token has.
var ErrTaken = errors.New("the name is taken")

// AddToken records a token that is good for so long. Its name must be new ([ErrTaken]).
func (d Doors) AddToken(ctx context.Context, t Token, secret string, good time.Duration) error {
	digest := sha256.Sum256([]byte(secret))
	err := d.db.Exec(ctx, "insert into tokens (id, digest, name, scope, grants, made_by, expires) values ($1, $2, $3, $4, $5, $6, now() + $7)", t.ID, digest[:], t.Name, t.Scope, t.Grants, t.MadeBy, good)
	if db.Breaks(err, tokenNames) {
		err = ErrTaken
	}
	return err
}

// RenewToken gives a token another secret and more time. The old secret, and all sessions, end. One that is not there is [fault.ErrNotFound].
func (d Doors) RenewToken(ctx context.Context, id, secret string, good time.Duration) error {
	digest := sha256.Sum256([]byte(secret))
	return pgx.BeginFunc(ctx, d.db.Pool, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, "update tokens set digest = $2, expires = now() + $3, revoked = null where id = $1", id, digest[:], good)
		if err == nil && tag.RowsAffected() == 0 {
			err = fault.ErrNotFound
		}
		if err == nil {
			_, err = tx.Exec(ctx, "update sessions set ended = now() where token = $1 and ended is null", id)
		}
		return err
	})
}

// RedeemToken has a token that was good for one use open all that it is for, by another secret. One whose code was used meanwhile is [fault.ErrNotFound].
func (d Doors) RedeemToken(ctx context.Context, id, code, secret string, good time.Duration) error {
	old, digest := sha256.Sum256([]byte(code)), sha256.Sum256([]byte(secret))
	tag, err := d.db.Pool.Exec(ctx, "update tokens set digest = $3, scope = 'all', expires = now() + $4 where id = $1 and digest = $2 and scope = 'once' and revoked is null and expires > now()", id, old[:], digest[:], good)
	if err == nil && tag.RowsAffected() == 0 {
		err = fault.ErrNotFound
	}
	return err
}

// doorLock is an arbitrary number; one process at a time takes a token away.
const doorLock = 0x646f6f72

// RevokeToken ends a token, and all sessions that were begun with it, if those that are left satisfy the caller.
func (d Doors) RevokeToken(ctx context.Context, id string, left func([]Token) error) error {
	return pgx.BeginFunc(ctx, d.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "select pg_advisory_xact_lock($1)", doorLock); err != nil {
			return err
		}
		others, err := db.All[Token](ctx, tx, "select "+tokenColumns+" from tokens t where id <> $1 and revoked is null and expires > now()", id)
		if err == nil {
			err = left(others)
		}
		if err == nil {
			_, err = tx.Exec(ctx, "update tokens set revoked = now() where id = $1 and revoked is null", id)
		}
		return err
	})
}

// ForgetTokens removes the records of tokens that have been of no use for so long, so that their names are free.
func (d Doors) ForgetTokens(ctx context.Context, after time.Duration) error {
	return d.db.Exec(ctx, "delete from tokens where least(expires, coalesce(revoked, expires)) < now() - $1::interval", after)
}

// Key is what opens a door now: a token, or a browser's session with one.
type Key struct {
	Digest  []byte        `db:"digest"`
	Token   string        `db:"token"`
	Session string        `db:"session"` // "" for a token
	Name    string        `db:"name"`
	Scope   string        `db:"scope"`
	Grants  []right.Grant `db:"grants"`
	// Left is for how long it opens the door at the most.
	Left time.Duration `db:"left_for"`
}

// Keys lists all that opens a door now.
func (d Doors) Keys(ctx context.Context) ([]Key, error) {
	return db.All[Key](ctx, d.db.Pool, `select digest, id as token, '' as session, name, scope, grants, expires - now() as left_for
		from tokens where revoked is null and expires > now()
		union all select s.digest, t.id, s.id, t.name, t.scope, t.grants, least(s.expires, t.expires) - now()
		from sessions s join tokens t on t.id = s.token where t.revoked is null and t.expires > now() and `+liveSession)
}

// Use notes that a token, and a session where one is named, was used.
func (d Doors) Use(ctx context.Context, token, session, address string) error {
	err := d.db.Exec(ctx, "update tokens set used = now(), used_from = $2 where id = $1", token, address)
	if err == nil && session != "" {
		err = d.db.Exec(ctx, "update sessions set used = now(), address = $2 where id = $1", session, address)
	}
	return err
}
