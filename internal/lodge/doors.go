package lodge

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/event"
	"keenlodge/internal/trail"
	"keenlodge/internal/wire"
)

// addDoors adds to a standing what a person should know of those who come in.
func (l *Lodge) addDoors(ctx context.Context, out *wire.Standing, now time.Time) error {
	ending, err := l.Access.Ending(ctx, now)
	for _, t := range ending {
		if len(out.Notices) < namesShown {
			out.Notices = append(out.Notices, wire.Notice{On: "token " + t.Name, Text: "it is in use, and ends on " + t.Expires.Format("Mon 2 Jan") + "; renew it: keenlodge token renew " + t.Name})
		}
	}
	if err != nil {
		return err
	}
	guesses, err := l.rec.Guesses(ctx, guessesTold)
	for _, g := range guesses {
		if len(out.Notices) < namesShown {
			out.Notices = append(out.Notices, wire.Notice{On: g.Address, Text: "wrong tokens were shown from there, last at " + g.At.Format("15:04") + "; look at: keenlodge audit list --did " + deed.Guess})
		}
	}
	return err
}

const (
	// guessesTold is how long people are told of wrong tokens.
	guessesTold = time.Hour
	// manyGuesses is how many within a minute are more than a slip of the hand.
	manyGuesses = 20
)

// noteStrangers puts into the trail how many wrong tokens came from where, and tells whoever wants to know where they are many.
func (l *Lodge) noteStrangers(ctx context.Context) error {
	var errs []error
	for _, t := range l.Access.Strangers.Take(time.Now()) {
		since := t.Since.Format("15:04:05")
		l.Trail.Note(ctx, trail.Deed{Address: t.Address, Verb: deed.Guess, Target: "/api/v1/session", Result: deed.Refused, Why: fmt.Sprintf("%d wrong tokens since %s", t.Count, since)})
		if t.Count >= manyGuesses {
			errs = append(errs, l.rec.Tell(ctx, event.Guessed(t.Address, t.Count, since)))
		}
	}
	return errors.Join(errs...)
}
