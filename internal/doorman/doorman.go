// Package doorman tells people of those who come in, or try to: tokens that end soon, and wrong ones.
package doorman

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/access"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/event"
	"keenlodge/internal/records"
	"keenlodge/internal/trail"
	"keenlodge/internal/wire"
)

// Doorman tells of tokens.
type Doorman struct {
	rec    *records.Records
	access *access.Access
	trail  *trail.Trail
}

// New makes a Doorman.
func New(rec *records.Records, a *access.Access, t *trail.Trail) *Doorman {
	return &Doorman{rec, a, t}
}

// Notices are what a person should look at now.
func (d *Doorman) Notices(ctx context.Context, now time.Time) (out []wire.Notice, err error) {
	ending, err := d.access.Ending(ctx, now)
	for _, t := range ending {
		out = append(out, wire.Notice{On: "token " + t.Name, Text: "it is in use, and ends on " + t.Expires.Format("Mon 2 Jan") + "; renew it: keenlodge token renew " + t.Name})
	}
	if err != nil {
		return nil, err
	}
	guesses, err := d.rec.Guesses(ctx, guessesTold)
	for _, g := range guesses {
		out = append(out, wire.Notice{On: g.Address, Text: "wrong tokens were shown from there, last at " + g.At.Format("15:04") + "; look at: keenlodge audit list --did " + deed.Guess})
	}
	return out, err
}

const (
	// guessesTold is how long people are told of wrong tokens.
	guessesTold = time.Hour
	// manyGuesses is how many within a minute are more than a slip of the hand.
	manyGuesses = 20
)

// Note puts into the trail how many wrong tokens came from where, and tells whoever wants to know where they are many.
func (d *Doorman) Note(ctx context.Context) error {
	var errs []error
	for _, t := range d.access.Strangers.Take(time.Now()) {
		since := t.Since.Format("15:04:05")
		d.trail.Note(ctx, trail.Deed{Address: t.Address, Verb: deed.Guess, Target: "/api/v1/session", Result: deed.Refused, Why: fmt.Sprintf("%d wrong tokens since %s", t.Count, since)})
		if t.Count >= manyGuesses {
			errs = append(errs, d.rec.Tell(ctx, event.Guessed(t.Address, t.Count, since)))
		}
	}
	return errors.Join(errs...)
}
