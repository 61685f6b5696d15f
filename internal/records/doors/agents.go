package doors

import (
	"context"
	"crypto/sha256"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records/db"
)

// Agent is a server's agent, which joined or may join.
type Agent struct {
	Name   string    `db:"name"`
	Made   time.Time `db:"made"`
	MadeBy string    `db:"made_by"`
	// JoiningUntil is until when it may join with the word that it was given, nil for an agent that was given none, or has used it.
	JoiningUntil *time.Time `db:"joining_until"`
	// Key is the fingerprint of its key, "" for one that has not joined.
	Key string `db:"key"`
	// Certified is when it got its newest certificate, Ends when that ends.
	Certified *time.Time `db:"certified"`
	Ends      *time.Time `db:"ends"`
	Seen      *time.Time `db:"seen"`
	Address   string     `db:"address"`
	Revoked   *time.Time `db:"revoked"`
	// Machine is the UUID of the machine that its server is, Source the source that it belongs to.
	Machine string `db:"machine"`
	Source  string `db:"source"`
	// About is what it said of itself last, as JSON, nil for one that never called.
	About []byte `db:"about"`
	// Connected says that a process which lives has its line; LineBy is the number of the one that has it, or had it last, 0 where none did, and
	// LineAt the address at which the agent reached that, and others do.
	Connected bool   `db:"connected"`
	LineBy    int64  `db:"line_by"`
	LineAt    string `db:"line_at"`
}

const agentColumns = "name, made, made_by, joining_until, key, certified, ends, seen, address, revoked, machine::text, source, about, revoked is null and coalesce(line_by in (" + db.Living + "), false) as connected, coalesce(line_by, 0) as line_by, line_at"

// Agents lists all agents, by name.
func (d Doors) Agents(ctx context.Context) ([]Agent, error) {
	return db.All[Agent](ctx, d.db.Pool, "select "+agentColumns+" from agents order by name")
}

// Agent finds an agent by its name.
func (d Doors) Agent(ctx context.Context, name string) (Agent, error) {
	return db.One[Agent](ctx, d.db.Pool, "select "+agentColumns+" from agents where name = $1", name)
}

// AdmitAgent has an agent join with a word, for so long. One that joined before goes on as it was until it joins anew; one that was revoked is
// admitted again. It is the same machine as before, in the source that is named.
func (d Doors) AdmitAgent(ctx context.Context, name, source, by, word string, good time.Duration) error {
	digest := sha256.Sum256([]byte(word))
	return d.db.Exec(ctx, `insert into agents (name, source, made_by, joining, joining_until) values ($1, $2, $3, $4, now() + $5)
		on conflict (name) do update set source = excluded.source, made_by = excluded.made_by, joining = excluded.joining, joining_until = excluded.joining_until`, name, source, by, digest[:], good)
}

// MayJoin reports whether an agent knows the word that it was given.
func (d Doors) MayJoin(ctx context.Context, name, word string) (may bool, err error) {
	digest := sha256.Sum256([]byte(word))
	return may, d.db.Pool.QueryRow(ctx, "select exists (select from agents where name = $1 and joining = $2 and joining_until > now())", name, digest[:]).Scan(&may)
}

// JoinAgent takes an agent's key, if it knows the word, which is used up. It is [fault.ErrNotFound] if not.
func (d Doors) JoinAgent(ctx context.Context, name, word, key, address string, good time.Duration) error {
	digest := sha256.Sum256([]byte(word))
	tag, err := d.db.Pool.Exec(ctx, `update agents set key = $3, next_key = '', joining = null, joining_until = null, certified = now(), ends = now() + $5, seen = now(), address = $4, revoked = null
		where name = $1 and joining = $2 and joining_until > now()`, name, digest[:], key, address, good)
	if err == nil && tag.RowsAffected() == 0 {
		err = fault.ErrNotFound
	}
	return err
}

// AgentOf finds the agent that a key belongs to, if it was not revoked and its certificate did not end longer than so ago; any other is
// [fault.ErrNotFound].
func (d Doors) AgentOf(ctx context.Context, key string, ended time.Duration) (Agent, error) {
	return db.One[Agent](ctx, d.db.Pool, "select "+agentColumns+" from agents where (key = $1 or next_key = $1) and $1 <> '' and revoked is null and ends > now() - $2::interval", key, ended)
}

// CertifyAgent notes that an agent that showed a key gets a certificate for another, or the same. Until it shows that, both are good.
func (d Doors) CertifyAgent(ctx context.Context, name, shown, next, address string, good time.Duration) error {
	return d.db.Exec(ctx, "update agents set key = $2, next_key = case when $2 = $3 then '' else $3 end, certified = now(), ends = now() + $5, seen = now(), address = $4 where name = $1", name, shown, next, address, good)
}

// RevokeAgent ends an agent; one that is not there, or was revoked already, is [fault.ErrNotFound].
func (d Doors) RevokeAgent(ctx context.Context, name string) error {
	tag, err := d.db.Pool.Exec(ctx, "update agents set revoked = now(), joining = null, joining_until = null where name = $1 and revoked is null", name)
	if err == nil && tag.RowsAffected() == 0 {
		err = fault.ErrNotFound
	}
	return err
}

// Connect notes that a process has an agent's line, at what address the agent reached it, and what the agent says of itself.
func (d Doors) Connect(ctx context.Context, name string, process int64, at string, about []byte) error {
	return d.db.Exec(ctx, "update agents set line_by = $2, line_at = $3, seen = now(), about = $4 where name = $1", name, process, at, about)
}

// Disconnect notes that a process has an agent's line no more.
func (d Doors) Disconnect(ctx context.Context, name string, process int64) error {
	return d.db.Exec(ctx, "update agents set line_by = null, seen = now() where name = $1 and line_by = $2", name, process)
}

// Barred lists those of some agents whose lines have to end: they were revoked.
func (d Doors) Barred(ctx context.Context, names []string) ([]string, error) {
	return db.Column[string](ctx, d.db.Pool, "select name from agents where name = any($1) and revoked is not null", names)
}
