// Package trail keeps what was done to a lodge, by whom, from where and with what result. It is only ever added to.
package trail

import (
	"context"
	"log/slog"
	"time"

	"keenlodge/internal/records"
)

// noteFor bounds how long it may take to note a deed whose caller has gone.
const noteFor = 5 * time.Second

// Trail is the lodge's.
type Trail struct {
	rec *records.Records
	log *slog.Logger
}

// New makes a Trail.
func New(rec *records.Records, log *slog.Logger) *Trail { return &Trail{rec, log} }

// Note adds a deed that is over. The end of ctx does not keep it from being noted. A deed that can't be noted goes to the service's log,
// whole.
func (t *Trail) Note(ctx context.Context, d records.Deed) {
	ctx, done := context.WithTimeout(context.WithoutCancel(ctx), noteFor)
	defer done()
	if err := t.rec.AddDeed(ctx, d); err != nil {
		t.log.Error("what was done could not be noted in the trail", "who", d.Who, "address", d.Address, "verb", d.Verb, "target", d.Target, "result", d.Result, "why", d.Why, "error", err)
	}
}

// List reads a page of the trail, newest first, and the cursor of the next one, "" for none.
func (t *Trail) List(ctx context.Context, f records.DeedFilter) ([]records.Deed, string, error) {
	return t.rec.Deeds(ctx, f)
}
