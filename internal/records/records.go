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

	"keenlodge/internal/core/event"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records/around"
	"keenlodge/internal/records/copied"
	"keenlodge/internal/records/db"
	"keenlodge/internal/records/deeds"
	"keenlodge/internal/records/doors"
	"keenlodge/internal/records/inplace"
	"keenlodge/internal/records/listed"
	"keenlodge/internal/records/schema"
	"keenlodge/internal/records/secrets"
	"keenlodge/internal/records/trust"
	"keenlodge/internal/records/unread"
	"keenlodge/internal/records/upkeep"
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
	trust.Trust
	around.Around
	listed.Listed
	secrets.Secrets
	doors.Doors
	deeds.Deeds
	unread.Unread
	upkeep.Upkeep
	copied.Copied
	Snapshots inplace.InPlace
	db        *db.DB

	mu         sync.Mutex
	cachedSite site.Site // of the version, while that stays
	version    int64
}

// Open connects to a database, once it answers, and brings its tables up to date. url is a PostgreSQL URL; its password may come from
// PGPASSFILE. told, if one is given, hears when the database stops to answer, and when it answers again.
func Open(ctx context.Context, url string, told ...func(away bool, err error)) (*Records, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	config.MaxConns = 24
	config.MinIdleConns = 4 // or who opens the console after a quiet hour waits for connections to be made
	db.Plain(config)
	pool, err := db.NewPool(ctx, config, func(away bool, err error) {
		for _, t := range told {
			t(away, err)
		}
	})
	if err != nil {
		return nil, err
	}
	where := fmt.Sprintf("%s on %s:%d", config.ConnConfig.Database, config.ConnConfig.Host, config.ConnConfig.Port)
	if err = pool.Reach(ctx); err == nil {
		err = schema.Migrate(ctx, pool.Pool)
	}
	if err != nil {
		pool.Close()
		return nil, fmt.Errorf("database %s: %w", where, err)
	}
	jobs, err := river.NewClient(riverpgxv5.New(pool.Pool), &river.Config{})
	if err != nil {
		pool.Close()
		return nil, err
	}
	d := &db.DB{Pool: pool, Jobs: jobs}
	return &Records{Trust: trust.New(d), Around: around.New(d), Listed: listed.New(d), Secrets: secrets.New(d), Doors: doors.New(d), Deeds: deeds.New(d), Unread: unread.New(d), Upkeep: upkeep.New(d), Copied: copied.New(d), Snapshots: inplace.New(d), db: d}, nil
}

// Tell queues the telling of an event that changes nothing in the records.
func (r *Records) Tell(ctx context.Context, e event.Event) error {
	return pgx.BeginFunc(ctx, r.db.Pool, func(tx pgx.Tx) error { return r.db.Happen(ctx, tx, e) })
}

// Pool is the connection pool, for the queue's workers.
func (r *Records) Pool() *pgxpool.Pool { return r.db.Pool.Pool }

// Close closes all connections.
func (r *Records) Close() { r.db.Pool.Close() }

// What others need of the database.
type (
	// Owner is a process's sign of life.
	Owner = db.Owner
	// Happened is the queue's job of telling whoever wants to know of an event.
	Happened = db.Happened
	// Proof is evidence that an image can be trusted, or that it can't.
	Proof = trust.Proof
	// Place is what a run of trials takes of its host.
	Place = trust.Place
	// ProofStanding is how the proofs of a machine's images stand; KeyProof says that somebody has tried a key.
	ProofStanding = trust.ProofStanding
	KeyProof      = trust.KeyProof
	ImageStanding = trust.ImageStanding
	// Token is one that was made, Session a browser that signed in with one, Key what either opens doors with.
	Token   = doors.Token
	Session = doors.Session
	Key     = doors.Key
	// Agent is a server's agent, which joined or may join.
	Agent = doors.Agent
	// Deed is what was done, DeedFilter narrows a listing of them.
	Deed       = deeds.Deed
	DeedFilter = deeds.Filter
	// Thing is something that a host has beside its machines.
	Thing = around.Thing
	// Heard is how a source stands, Told what it told of itself.
	Heard = around.Heard
	Told  = around.Told
	// Locks tell when the locks of a store's objects were renewed.
	Locks = upkeep.Locks
	// Whereabouts are those of a store whose disk comes and goes.
	Whereabouts = upkeep.Whereabouts
	// Lying is an image as far as copying it asks for, Twin one that is the same as another, elsewhere.
	Lying = copied.Lying
	Twin  = copied.Twin
)

// ErrTaken marks a name that another token has.
var ErrTaken = doors.ErrTaken

// ErrMoved marks a chain of the trail that is not where it was taken to be.
var ErrMoved = deeds.ErrMoved

// ErrAway marks what could not be read or recorded because the database does not answer.
var ErrAway = db.ErrAway

// Within has statements wait no longer than so for a database that does not answer; otherwise they wait as long as their context lives.
func Within(ctx context.Context, limit time.Duration) context.Context { return db.Within(ctx, limit) }

// Away reports whether an error is that the database does not answer, or broke a connection.
func Away(err error) bool { return db.Away(err) }

// OfDatabase reports whether an error is the database's own, which tells people nothing.
func OfDatabase(err error) bool { return errors.As(err, new(*pgconn.PgError)) }

// Refused reports whether the database refused what was to be written, rather than to work: a value that it does not know, or can't keep.
func Refused(err error) bool { return db.Refused(err) }

// Surely does what records something until it is recorded, as long as the database does not answer and ctx lives.
func Surely(ctx context.Context, write func(ctx context.Context) error) error {
	return db.Surely(ctx, write)
}

// EventQueue is the queue of what is told to others.
const EventQueue = db.EventQueue

// Listen calls changed for what processes tell each other, until ctx ends or the connection breaks: "run ID", "runs", "cancel ID", "image ID"
// or "site".
func (r *Records) Listen(ctx context.Context, changed func(what string)) error {
	return r.db.Listen(ctx, changed)
}

// Waited reports whether the database did not answer at some time.
func (r *Records) Waited() bool { return r.db.Pool.Waited() }

// Own takes the lock of a process number, once the database answers.
func (r *Records) Own(ctx context.Context, id int64) (*Owner, error) { return r.db.Own(ctx, id) }
