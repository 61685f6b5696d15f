// Package records keeps what a lodge knows in PostgreSQL. Nothing else knows SQL. Work is queued in the same transaction
// as the record that causes it.
package records

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records/listing"
	"keenlodge/internal/records/schema"
)

// Errors that callers decide on.
var (
	// ErrRunning marks a second run of a policy while one is going.
	ErrRunning = errors.New("a run of this policy is going")
	// ErrOver marks a run that has ended.
	ErrOver = errors.New("the run is over")
)

// Records is an open database.
type Records struct {
	pool *pgxpool.Pool
	jobs *river.Client[pgx.Tx]

	mu         sync.Mutex
	cachedSite site.Site // of the version, while that stays
	version    int64
}

// Open connects to a database and brings its tables up to date. url is a PostgreSQL URL; its password may come from
// PGPASSFILE.
func Open(ctx context.Context, url string) (*Records, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	config.MaxConns = 24
	config.MinIdleConns = 4 // or who opens the console after a quiet hour waits for connections to be made
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	where := fmt.Sprintf("%s on %s:%d", config.ConnConfig.Database, config.ConnConfig.Host, config.ConnConfig.Port)
	if err := schema.Migrate(ctx, pool); err != nil {
		pool.Close()
		return nil, fmt.Errorf("database %s: %w", where, err)
	}
	jobs, err := river.NewClient(riverpgxv5.New(pool), &river.Config{})
	if err != nil {
		pool.Close()
		return nil, err
	}
	return &Records{pool: pool, jobs: jobs}, nil
}

// Pool is the connection pool, for the queue's workers.
func (r *Records) Pool() *pgxpool.Pool { return r.pool }

// Close closes all connections.
func (r *Records) Close() { r.pool.Close() }

// all runs a query and collects its rows into structs by their db tags.
func all[T any](ctx context.Context, q querier, sql string, args ...any) ([]T, error) {
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

// pageOf reads a page of a list, and the cursor of the next one.
func pageOf[T any](ctx context.Context, r *Records, list listing.List[T], sql string, c listing.Conditions, p listing.Page) (rows []T, next string, err error) {
	sql, args, err := list.Query(sql, c.Where, c.Args, p)
	if err != nil {
		return nil, "", err
	}
	if rows, err = all[T](ctx, r.pool, sql, args...); err != nil {
		return nil, "", err
	}
	rows, next = list.Cut(rows, p)
	return rows, next, nil
}

// column reads the only column of rows.
func column[T any](ctx context.Context, q querier, sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[T])
}

// one is all for exactly one row; none is [fault.ErrNotFound].
func one[T any](ctx context.Context, q querier, sql string, args ...any) (T, error) {
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

type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

func (r *Records) exec(ctx context.Context, sql string, args ...any) error {
	_, err := r.pool.Exec(ctx, sql, args...)
	return err
}

// breaks reports whether an error is the breach of a unique index.
func breaks(err error, index string) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "23505" && e.ConstraintName == index
}

// channel is where processes tell each other what changed.
const channel = "keenlodge"

// notify tells every process that something changed: "run ID", "runs", "cancel ID", "image ID" or "site".
func (r *Records) notify(ctx context.Context, what string) error {
	return r.exec(ctx, "select pg_notify($1, $2)", channel, what)
}

// Listen calls changed for what notify tells, until ctx ends or the connection breaks.
func (r *Records) Listen(ctx context.Context, changed func(what string)) error {
	conn, err := r.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "listen "+channel); err != nil {
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

// Own takes the lock of a process number.
func (r *Records) Own(ctx context.Context, id int64) (*Owner, error) {
	conn, err := r.pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, "select pg_advisory_lock($1)", id); err != nil {
		conn.Release()
		return nil, err
	}
	return &Owner{id, conn}, nil
}

// Alive asks whether the lock is still held: its connection answers.
func (o *Owner) Alive(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	return o.conn.Ping(ctx)
}

// Release gives the lock back.
func (o *Owner) Release() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	o.conn.Exec(ctx, "select pg_advisory_unlock($1)", o.ID)
	o.conn.Release()
}
