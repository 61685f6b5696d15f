// Package deeds has the records of the trail: what was done, by whom. Lines are only ever added.
package deeds

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/records/db"
	"keenlodge/internal/records/listing"
)

// Deeds is that part of the records.
type Deeds struct{ db *db.DB }

// New is over an open database.
func New(d *db.DB) Deeds { return Deeds{d} }

// Deed is what was done, with its end where that is known.
type Deed struct {
	ID int64     `db:"id"`
	At time.Time `db:"at"`
	// Who is the name of the token with which it was done, Address where the call came from.
	Who     string `db:"who"`
	Address string `db:"address"`
	// Verb is the operation, Target the path of what it was done to, Reason why, in the words of who did it.
	Verb   string      `db:"verb"`
	Target string      `db:"target"`
	Reason string      `db:"reason"`
	Result deed.Result `db:"result"`
	// Why is why it was refused or failed.
	Why string `db:"why"`
}

// Filter narrows a listing of the trail; empty fields do not. Target is how the paths begin.
type Filter struct {
	Who, Verb, Result, Target string
	// Since and Until bound when it was done: from one moment on, before the other. Zero times do not.
	Since, Until time.Time
	listing.Page
}

const asTime = time.RFC3339Nano

var deedList = listing.List[Deed]{Own: "-at", ID: "t.id", IDOf: func(d Deed) string { return strconv.FormatInt(d.ID, 10) }, Columns: map[string]listing.Column[Deed]{
	"at": {SQL: "t.at", Kind: "timestamptz", Value: func(d Deed) string { return d.At.Format(asTime) }},
}}

// DeedPage reads a page of the trail, newest first, and the cursor of the next one.
func (s Deeds) DeedPage(ctx context.Context, f Filter) (deeds []Deed, next string, err error) {
	c := listing.Conditions{Where: []string{"t.of is null"}}
	c.Add("t.who = $%d", f.Who)
	c.Add("t.verb = $%d", f.Verb)
	c.Add("coalesce(e.result, t.result) = $%d", f.Result)
	c.Add("starts_with(t.target, $%d)", f.Target)
	c.Add("t.at >= $%d::timestamptz", bound(f.Since))
	c.Add("t.at < $%d::timestamptz", bound(f.Until))
	return db.Page(ctx, s.db, deedList, `select t.id, t.at, t.who, t.address, t.verb, t.target, t.reason, coalesce(e.result, t.result) as result, coalesce(e.why, t.why) as why
		from trail t left join trail e on e.chain = t.chain and e.of = t.seq and t.seq is not null`, c, f.Page)
}

// Guess is an address from which wrong tokens were shown, and when last.
type Guess struct {
	Address string    `db:"address"`
	At      time.Time `db:"at"`
}

// Guesses lists the addresses from which wrong tokens were shown within so long, the latest first.
func (s Deeds) Guesses(ctx context.Context, within time.Duration) ([]Guess, error) {
	return db.All[Guess](ctx, s.db.Pool, "select address, max(at) as at from trail where at > now() - $1::interval and who = '' and verb = '"+deed.Guess+"' group by address order by 2 desc limit 20", within)
}

// bound is a moment as a condition's argument, "" for none.
func bound(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.Format(asTime)
}

// ErrMoved marks a chain that is not where it was taken to be.
var ErrMoved = errors.New("the chain has moved on")

// Append adds lines to a chain, all or none. make is given the database's time, to the microsecond.
func (s Deeds) Append(ctx context.Context, make func(now time.Time) []deed.Line) error {
	err := pgx.BeginFunc(ctx, s.db.Pool, func(tx pgx.Tx) error {
		var now time.Time
		if err := tx.QueryRow(ctx, "select clock_timestamp()").Scan(&now); err != nil {
			return err
		}
		var batch pgx.Batch
		for _, l := range make(now.UTC()) {
			var of *int64
			if l.Of != 0 {
				of = &l.Of
			}
			batch.Queue("insert into trail (chain, seq, at, who, address, verb, target, reason, result, why, of, prev, digest) values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)",
				l.Chain, l.Seq, l.At, l.Who, l.Address, l.Verb, l.Target, l.Reason, l.Result, l.Why, of, l.Prev, l.Digest())
		}
		return tx.SendBatch(ctx, &batch).Close()
	})
	if db.Breaks(err, "trail_by_chain") {
		return ErrMoved
	}
	return err
}

// Head is how far a chain is; the zero value for one that has not begun.
func (s Deeds) Head(ctx context.Context, chain string) (h deed.Head, err error) {
	err = s.db.Pool.QueryRow(ctx, "select seq, digest from trail where chain = $1 and seq is not null order by seq desc limit 1", chain).Scan(&h.Seq, &h.Digest)
	if errors.Is(err, pgx.ErrNoRows) {
		return deed.Head{}, nil
	}
	return h, err
}

// weave is a row of weaves.
type weave struct {
	N      int64                `db:"n"`
	At     time.Time            `db:"at"`
	Heads  map[string]deed.Head `db:"heads"`
	Prev   []byte               `db:"prev"`
	Digest []byte               `db:"digest"`
}

// Verify gives a verifier all lines and all weaves, as they were at one moment. It returns how many lines are from before there were chains.
func (s Deeds) Verify(ctx context.Context, v *deed.Verifier) (before int64, err error) {
	err = pgx.BeginTxFunc(ctx, s.db.Pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		if err := tx.QueryRow(ctx, "select count(*) from trail where seq is null").Scan(&before); err != nil {
			return err
		}
		rows, err := tx.Query(ctx, `select chain, seq, at, who, address, verb, target, reason, result, why, coalesce(of, 0) as of, coalesce(prev, '') as prev, digest
			from trail where seq is not null order by chain, seq`)
		if err != nil {
			return err
		}
		var l deed.Line
		var digest []byte
		if _, err = pgx.ForEachRow(rows, []any{&l.Chain, &l.Seq, &l.At, &l.Who, &l.Address, &l.Verb, &l.Target, &l.Reason, &l.Result, &l.Why, &l.Of, &l.Prev, &digest}, func() error {
			own := l
			own.Prev = slices.Clone(l.Prev) // the next row is read into the same
			v.Line(own, slices.Clone(digest))
			return nil
		}); err != nil {
			return err
		}
		weaves, err := db.All[weave](ctx, tx, "select * from weaves order by n")
		for _, w := range weaves {
			v.Weave(deed.Weave{N: w.N, At: w.At, Heads: w.Heads, Prev: w.Prev}, w.Digest)
		}
		return err
	})
	return before, err
}

// Newest is the newest weave, with its digest; of none, the zero value.
func (s Deeds) Newest(ctx context.Context) (deed.Weave, []byte, error) {
	w, err := db.One[weave](ctx, s.db.Pool, "select * from weaves order by n desc limit 1")
	if errors.Is(err, fault.ErrNotFound) {
		return deed.Weave{}, nil, nil
	}
	return deed.Weave{N: w.N, At: w.At, Heads: w.Heads, Prev: w.Prev}, w.Digest, err
}

// recently is how far back of the newest weave chains are looked for that went on: lines that were recorded at the same time as a weave may
// not be in it.
const recently = "10 minutes"

// Weave adds a weave of the chains that went on, and reports whether there was anything to weave. Of processes that weave at the same time
// one does.
func (s Deeds) Weave(ctx context.Context) (woven bool, err error) {
	err = pgx.BeginFunc(ctx, s.db.Pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "lock table weaves in share row exclusive mode"); err != nil {
			return err
		}
		type row struct {
			Chain  string `db:"chain"`
			Seq    int64  `db:"seq"`
			Digest []byte `db:"digest"`
		}
		last, err := db.All[weave](ctx, tx, "select * from weaves order by n desc limit 1")
		if err != nil {
			return err
		}
		next := weave{N: 1, Heads: map[string]deed.Head{}, Prev: []byte{}}
		from := time.Time{}
		if len(last) > 0 {
			next.N, next.Prev, from = last[0].N+1, last[0].Digest, last[0].At
		}
		rows, err := db.All[row](ctx, tx, `select distinct on (chain) chain, seq, digest from trail where seq is not null and at > $1::timestamptz - interval '`+recently+`' order by chain, seq desc`, from)
		if err != nil {
			return err
		}
		for _, r := range rows { // what stays as it is, is woven in again as long as it is near: the next one compares with this one
			woven = woven || len(last) == 0 || last[0].Heads[r.Chain].Seq != r.Seq
			next.Heads[r.Chain] = deed.Head{Seq: r.Seq, Digest: r.Digest}
		}
		if !woven {
			return nil
		}
		if err := tx.QueryRow(ctx, "select clock_timestamp()").Scan(&next.At); err != nil {
			return err
		}
		digest := deed.Weave{N: next.N, At: next.At, Heads: next.Heads, Prev: next.Prev}.Digest()
		_, err = tx.Exec(ctx, "insert into weaves (n, at, heads, prev, digest) values ($1, $2, $3, $4, $5)", next.N, next.At, next.Heads, next.Prev, digest)
		return err
	})
	return woven, err
}
