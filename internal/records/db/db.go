// Package db is the open database, on which the rooms of the records stand: its connections, its queue, and how rows are read.
package db

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records/listing"
)

// DB is an open database. Jobs is the queue in it.
type DB struct {
	Pool *Pool
	Jobs *river.Client[pgx.Tx]
}

// All runs a query and collects its rows into structs by their db tags.
func All[T any](ctx context.Context, q Querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByName[T])
	if found == nil {
		found = []T{} // an empty list is [] in JSON
	}
	return found, err
}

// Page reads a page of a list, and the cursor of the next one.
func Page[T any](ctx context.Context, d *DB, list listing.List[T], sql string, c listing.Conditions, p listing.Page) (rows []T, next string, err error) {
	sql, args, err := list.Query(sql, c.Where, c.Args, p)
	if err != nil {
		return nil, "", err
	}
	if rows, err = All[T](ctx, d.Pool, sql, args...); err != nil {
		return nil, "", err
	}
	rows, next = list.Cut(rows, p)
	return rows, next, nil
}

// Column reads the only column of rows.
func Column[T any](ctx context.Context, q Querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[T])
}

// One is [All] for exactly one row; none is [fault.ErrNotFound].
func One[T any](ctx context.Context, q Querier, sql string, args ...any) (T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		var none T
		return none, err
	}
	found, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if errors.Is(err, pgx.ErrNoRows) {
		err = fault.ErrNotFound
	}
	return found, err
}

// Querier runs queries: the pool, a connection, or a transaction.
type Querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// Exec runs a statement.
func (d *DB) Exec(ctx context.Context, sql string, args ...any) error {
	_, err := d.Pool.Exec(ctx, sql, args...)
	return err
}

// Breaks reports whether an error is the breach of a unique index.
func Breaks(err error, index string) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "23505" && e.ConstraintName == index
}

// Refused reports whether the database refused what was to be written, rather than to work: a value that it does not know, or can't keep.
func Refused(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && (strings.HasPrefix(e.Code, "22") || strings.HasPrefix(e.Code, "23"))
}

// Channel is where processes tell each other what changed.
const Channel = "keenlodge"

// Notify tells every process that something changed: "run ID", "runs", "cancel ID", "image ID" or "site".
func (d *DB) Notify(ctx context.Context, what string) error {
	return d.Exec(ctx, "select pg_notify($1, $2)", Channel, what)
}

// Listen calls changed for what [DB.Notify] tells, until ctx ends or the connection breaks.
func (d *DB) Listen(ctx context.Context, changed func(what string)) error {
	conn, err := d.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "listen "+Channel); err != nil {
		return err
	}
	defer conn.Exec(context.WithoutCancel(ctx), "unlisten *")
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		changed(n.Payload)
	}
}

// Owner is a process's sign of life: a lock that the database gives back when the process or its connection ends.
type Owner struct {
	ID   int64
	conn *pgxpool.Conn
}

const (
	// askEvery is how often a connection that says nothing is asked whether it is still there, answerTime how long it may take to answer.
	askEvery, answerTime = 5 * time.Second, 5 * time.Second
	// lockWait is between tries to get a lock that the server still gives to a connection which is gone.
	lockWait = 200 * time.Millisecond
)

// Own takes the lock of a process number, once the database answers.
func (d *DB) Own(ctx context.Context, id int64) (*Owner, error) {
	for {
		o, err := d.own(ctx, id)
		if o != nil || err != nil && !Away(err) {
			return o, err
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(lockWait):
		}
	}
}

func (d *DB) own(ctx context.Context, id int64) (*Owner, error) {
	conn, err := d.Pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	var mine bool
	if err := conn.QueryRow(ctx, "select pg_try_advisory_lock($1)", id).Scan(&mine); err != nil || !mine {
		conn.Release()
		return nil, err
	}
	return &Owner{id, conn}, nil
}

// Broken waits until the lock may be lost, for its connection broke or does not answer, and says why; or until ctx ends.
func (o *Owner) Broken(ctx context.Context) error {
	for {
		hear, end := context.WithTimeout(ctx, askEvery)
		_, err := o.conn.Conn().WaitForNotification(hear) // none comes, but it ends when the connection does
		silent := hear.Err() != nil
		end()
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil && !silent {
			return err
		}
		ask, end := context.WithTimeout(ctx, answerTime)
		err = o.conn.Ping(ask)
		end()
		if err != nil {
			return err
		}
	}
}

// Release gives the lock back, with its connection. A second one does nothing.
func (o *Owner) Release() {
	if o.conn == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	// In words, for a server takes notice of a connection's end when it comes to it. Over one that is broken nothing need be said.
	_, _ = o.conn.Exec(ctx, "select pg_advisory_unlock($1)", o.ID)
	o.conn.Hijack().Close(ctx)
	o.conn = nil
}

// Living is SQL for the numbers of the processes that live.
const Living = `select classid::bigint << 32 | objid::bigint from pg_locks where locktype = 'advisory' and objsubid = 1 and database = (select oid from pg_database where datname = current_database())`

// Lives is SQL that is true if the process lives whose number an expression gives.
func Lives(owner string) string {
	return `exists (select from pg_locks where locktype = 'advisory' and objsubid = 1 and database = (select oid from pg_database where datname = current_database())
		and classid::bigint = (` + owner + ` >> 32) and objid::bigint = (` + owner + ` & 4294967295))`
}
