package db

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/sys/unix"
)

// ErrAway marks what could not be read or recorded because the database does not answer.
var ErrAway = errors.New("the database does not answer")

// Pool is the pool of connections, which waits for a database that does not answer: as long as the context of a statement lives, or as long as
// [Within] says. A service whose database is started anew goes on where it was.
type Pool struct {
	*pgxpool.Pool
	away, waited atomic.Bool
	// told is called when the database stops to answer, and when it answers again.
	told func(away bool, err error)
}

// NewPool makes a pool; told may be nil. It does not connect yet.
func NewPool(ctx context.Context, config *pgxpool.Config, told func(away bool, err error)) (*Pool, error) {
	config.ConnConfig.ConnectTimeout = connectTime
	if config.ConnConfig.Config.Host == "" || config.ConnConfig.Host[0] != '/' {
		dialer := &net.Dialer{Timeout: connectTime, KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: silence / 2, Interval: silence / 6, Count: 3},
			Control: func(_, _ string, c syscall.RawConn) error {
				var set error
				err := c.Control(func(fd uintptr) {
					set = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(silence.Milliseconds()))
				})
				return errors.Join(err, set)
			}}
		config.ConnConfig.DialFunc = dialer.DialContext
	}
	p, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	if told == nil {
		told = func(bool, error) {}
	}
	return &Pool{Pool: p, told: told}, nil
}

const (
	// connectTime bounds the making of a connection, silence how long a server may say nothing at all before its connection is given up.
	connectTime = 5 * time.Second
	silence     = 15 * time.Second
	// firstWait and longestWait are between tries to reach the database.
	firstWait, longestWait = 20 * time.Millisecond, time.Second
)

type patience struct{}

// Within has statements wait no longer than so for a database that does not answer; 0 is not at all.
func Within(ctx context.Context, limit time.Duration) context.Context {
	return context.WithValue(ctx, patience{}, limit)
}

// Away reports whether an error is that the database does not answer, or broke a connection: what was to be recorded may have been, or not.
func Away(err error) bool {
	if err == nil {
		return false
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		switch refused.Code {
		case "57P01", "57P02", "57P03", "53300": // it is stopped, crashed, is starting, has no connection left
			return true
		}
		return false
	}
	var dial *pgconn.ConnectError
	var network net.Error
	return errors.Is(err, ErrAway) || errors.As(err, &dial) || errors.As(err, &network) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) ||
		errors.Is(err, net.ErrClosed) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || strings.HasSuffix(err.Error(), "conn closed") // which has no sentinel
}

// Acquire takes a connection, once the database answers.
func (p *Pool) Acquire(ctx context.Context) (*pgxpool.Conn, error) {
	limit, limited := ctx.Value(patience{}).(time.Duration)
	if limited && limit == 0 && p.away.Load() {
		return nil, ErrAway // somebody else waits, and will say when it is back
	}
	begun := time.Now()
	for wait := firstWait; ; wait = min(2*wait, longestWait) {
		c, err := p.Pool.Acquire(ctx)
		if err == nil {
			if p.away.CompareAndSwap(true, false) {
				p.told(false, nil)
			}
			return c, nil
		}
		if ctx.Err() != nil || !Away(err) {
			return nil, err
		}
		p.waited.Store(true)
		if p.away.CompareAndSwap(false, true) {
			p.told(true, err)
		}
		if limited && time.Since(begun)+wait > limit {
			return nil, fmt.Errorf("%w: %w", ErrAway, err)
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("%w: %w", context.Cause(ctx), err)
		case <-time.After(wait):
		}
	}
}

// Waited reports whether the database did not answer at some time.
func (p *Pool) Waited() bool { return p.waited.Load() }

// Exec runs a statement.
func (p *Pool) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	c, err := p.Acquire(ctx)
	if err != nil {
		return pgconn.CommandTag{}, err
	}
	defer c.Release()
	return c.Exec(ctx, sql, args...)
}

// Query runs a query. Close its rows, or read them to their end.
func (p *Pool) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	if err := p.Reach(ctx); err != nil {
		return nil, err
	}
	return p.Pool.Query(ctx, sql, args...)
}

// QueryRow runs a query for one row.
func (p *Pool) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	if err := p.Reach(ctx); err != nil {
		return failedRow{err}
	}
	return p.Pool.QueryRow(ctx, sql, args...)
}

// Begin begins a transaction.
func (p *Pool) Begin(ctx context.Context) (pgx.Tx, error) { return p.BeginTx(ctx, pgx.TxOptions{}) }

// BeginTx begins a transaction.
func (p *Pool) BeginTx(ctx context.Context, o pgx.TxOptions) (pgx.Tx, error) {
	if err := p.Reach(ctx); err != nil {
		return nil, err
	}
	return p.Pool.BeginTx(ctx, o)
}

// Reach waits until a connection can be had. It is left in the pool for whoever asks next, who is the caller but for races that end in an
// error as they always may.
func (p *Pool) Reach(ctx context.Context) error {
	c, err := p.Acquire(ctx)
	if err == nil {
		c.Release()
	}
	return err
}

type failedRow struct{ err error }

func (r failedRow) Scan(...any) error { return r.err }

// Surely does what records something until it is recorded: as long as the database does not answer, and ctx lives. write may be carried out
// twice, for a connection that breaks does not say whether it was.
func Surely(ctx context.Context, write func(ctx context.Context) error) error {
	for wait := firstWait; ; wait = min(2*wait, longestWait) {
		err := write(ctx)
		if !Away(err) || ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%w: %w", context.Cause(ctx), err)
		case <-time.After(wait):
		}
	}
}
