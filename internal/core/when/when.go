// Package when reads schedule phrases, RFC 5545 rules and cron fields, and finds the moments that they name. All become
// one recurrence with a zone. It knows no clock: the moment to start from is a parameter.
package when

import (
	"strings"
	"time"
)

// Schedule is a recurrence in a zone, or an occasion: the boot of the service's host, the end of another policy's run.
type Schedule struct {
	text  string
	zone  *time.Location
	rules []rule

	boot   bool
	after  string // the policy
	anyway bool   // however that one's run ended
}

// horizon is how far a moment is looked for: 29 February on one weekday comes every 28 years, and across 2100 every 40.
const horizonYears = 45

// Parse reads a schedule: a phrase (docs/guide/schedules.md has all forms), an RFC 5545 rule with or without its start, or
// "cron" with five fields. zone is the one whose clock counts, unless the rule names another. Errors are of type
// [*phrase.Error] and point at the wrong word; a schedule that never comes is one.
func Parse(text string, zone *time.Location) (Schedule, error) {
	s := Schedule{text: strings.TrimSpace(text), zone: zone}
	p := newParser(text)
	var err error
	switch first := p.peek().text; {
	case isRFC5545(first):
		err = s.readRFC5545(p)
	case first == "cron":
		err = s.readCron(p)
	default:
		err = s.readPhrase(p)
	}
	if err == nil && len(s.rules) > 0 && s.Next(time.Unix(0, 0)).IsZero() {
		err = p.whole("it never comes: no day of the calendar is so")
	}
	return s, err
}

// String is the schedule as it was written.
func (s Schedule) String() string { return s.text }

// AtBoot reports whether it starts runs when the service's host has booted. Such a schedule has no moments.
func (s Schedule) AtBoot() bool { return s.boot }

// After is the policy whose runs' end starts this one's, or "". anyway says that it matters not how they ended.
func (s Schedule) After() (policy string, anyway bool) { return s.after, s.anyway }

// Next is the first moment strictly after t, or the zero time if none comes. A time that daylight saving skips counts
// once, read with the offset before the change; a time that occurs twice counts once, at the first.
func (s Schedule) Next(t time.Time) time.Time {
	var first time.Time
	for _, r := range s.rules {
		if at := r.next(t, s.zone); !at.IsZero() && (first.IsZero() || at.Before(first)) {
			first = at
		}
	}
	return first
}

// Has reports whether t is one of its moments.
func (s Schedule) Has(t time.Time) bool { return s.Next(t.Add(-1)).Equal(t) }
