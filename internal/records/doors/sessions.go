package doors

import (
	"context"
	"crypto/sha256"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records/db"
)

// Session is a browser that signed in.
type Session struct {
	ID    string    `db:"id"`
	Token string    `db:"token"` // the ID of the token with which it signed in
	Name  string    `db:"name"`  // and its name
	Made  time.Time `db:"made"`
	// Used is when it was last used, to the minute.
	Used    time.Time `db:"used"`
	Expires time.Time `db:"expires"`
	Address string    `db:"address"`
	Browser string    `db:"browser"`
}

// Idle is how long a session may lie unused before it ends.
const Idle = 12 * time.Hour

const liveSession = "s.ended is null and s.expires > now() and s.used > now() - interval '12 hours'"

// AddSession records a session that lasts so long at the most.
func (d Doors) AddSession(ctx context.Context, s Session, secret string, good time.Duration) error {
	digest := sha256.Sum256([]byte(secret))
	return d.db.Exec(ctx, "insert into sessions (id, digest, token, expires, address, browser) values ($1, $2, $3, now() + $4, $5, $6)", s.ID, digest[:], s.Token, good, s.Address, s.Browser)
}

// Sessions lists the sessions that stand, the newest first: of one token by its ID, or of all.
func (d Doors) Sessions(ctx context.Context, token string) ([]Session, error) {
	return db.All[Session](ctx, d.db.Pool, `select s.id, s.token, t.name, s.made, s.used, least(s.expires, t.expires) as expires, s.address, s.browser from sessions s join tokens t on t.id = s.token
		where ($1 = '' or s.token = $1) and t.revoked is null and t.expires > now() and `+liveSession+" order by s.made desc, s.id", token)
}

// EndSession ends a session, of one token by its ID or of any; one that does not stand is [fault.ErrNotFound].
func (d Doors) EndSession(ctx context.Context, id, token string) error {
	tag, err := d.db.Pool.Exec(ctx, "update sessions s set ended = now() where id = $1 and ($2 = '' or token = $2) and "+liveSession, id, token)
	if err == nil && tag.RowsAffected() == 0 {
		err = fault.ErrNotFound
	}
	return err
}

// EndSessions ends all sessions, of one token by its ID or of any, and returns how many.
func (d Doors) EndSessions(ctx context.Context, token string) (int64, error) {
	tag, err := d.db.Pool.Exec(ctx, "update sessions s set ended = now() where ($1 = '' or token = $1) and "+liveSession, token)
	return tag.RowsAffected(), err
}

// ForgetSessions removes the records of sessions that ended.
func (d Doors) ForgetSessions(ctx context.Context) error {
	return d.db.Exec(ctx, "delete from sessions s where not ("+liveSession+")")
}
