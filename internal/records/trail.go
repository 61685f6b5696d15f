package records

import (
	"context"
	"strconv"
	"time"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/records/db"
	"keenlodge/internal/records/listing"
)

// Deed is a line of the trail.
type Deed struct {
	ID int64     `db:"id"`
	At time.Time `db:"at"`
	// Who is the name of the token with which it was done, Address where the call came from.
	Who     string `db:"who"`
	Address string `db:"address"`
	// Verb is the operation, Target the path of what it was done to.
	Verb   string      `db:"verb"`
	Target string      `db:"target"`
	Result deed.Result `db:"result"`
	// Why is why it was refused or failed.
	Why string `db:"why"`
}

// AddDeed adds a line to the trail, with the database's clock.
func (r *Records) AddDeed(ctx context.Context, d Deed) error {
	return r.db.Exec(ctx, "insert into trail (who, address, verb, target, result, why) values ($1, $2, $3, $4, $5, $6)", d.Who, d.Address, d.Verb, d.Target, d.Result, d.Why)
}

// DeedFilter narrows a listing of the trail; empty fields do not. Target is how the paths begin.
type DeedFilter struct {
	Who, Verb, Result, Target string
	listing.Page
}

var deedList = listing.List[Deed]{Own: "-at", ID: "id", IDOf: func(d Deed) string { return strconv.FormatInt(d.ID, 10) }, Columns: map[string]listing.Column[Deed]{
	"at": {SQL: "at", Kind: "timestamptz", Value: func(d Deed) string { return d.At.Format(asTime) }},
}}

// Deeds reads a page of the trail, newest first, and the cursor of the next one.
func (r *Records) Deeds(ctx context.Context, f DeedFilter) (deeds []Deed, next string, err error) {
	var c listing.Conditions
	c.Add("who = $%d", f.Who)
	c.Add("verb = $%d", f.Verb)
	c.Add("result = $%d", f.Result)
	c.Add("starts_with(target, $%d)", f.Target)
	return db.Page(ctx, r.db, deedList, "select * from trail", c, f.Page)
}
