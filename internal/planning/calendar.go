package planning

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"keenlodge/internal/core/forecast"
	"keenlodge/internal/core/run"
	"keenlodge/internal/records"
	"keenlodge/internal/records/listing"
)

const (
	// calendarDays is how far a calendar feed looks back and ahead.
	calendarDays = 31
	// calendarRuns bounds how many past runs are in it.
	calendarRuns = 2000
)

// Entry is a run in a calendar: one that was or is, or one that is to come.
type Entry struct {
	ID, Title, Text string
	From, Until     time.Time
	Coming          bool
}

// Calendar lists the runs of policies and copy rules of the last month, and those that are to come in the next.
func (pl *Planning) Calendar(ctx context.Context) ([]Entry, error) {
	s, err := pl.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now().In(s.Location())
	var runs []records.Run
	for _, kind := range []run.Kind{run.Backup, run.Copy} {
		found, err := pl.rec.Runs(ctx, records.RunFilter{Kind: string(kind), Page: listing.Page{Limit: calendarRuns}})
		if err != nil {
			return nil, err
		}
		runs = append(runs, found...)
	}
	var out []Entry
	for _, run := range runs {
		if run.Made.Before(now.AddDate(0, 0, -calendarDays)) {
			continue
		}
		out = append(out, pastEntry(run, now))
	}
	known, err := pl.experience(ctx, s)
	if err != nil {
		return nil, err
	}
	r := forecast.Request{Now: now, Days: calendarDays}
	for _, name := range names(s) {
		p, _, err := known.policy(s, name)
		if err != nil {
			return nil, err
		}
		r.Policies = append(r.Policies, p)
	}
	for _, p := range forecast.Make(r).Policies {
		for _, day := range p.Days {
			for _, run := range day.Runs {
				spec, err := s.Planned(p.Policy)
				if err != nil {
					return nil, err
				}
				text := fmt.Sprintf("%d full and %d other images into %s; then %q", run.Full, run.Between, spec.Store, spec.Rotation)
				if rule, ok := s.Copies[p.Policy]; ok {
					text = fmt.Sprintf("copies of %d images from %s into %s; then %q", run.Full+run.Between, rule.From, rule.To, rule.Rotation)
				}
				out = append(out, Entry{ID: fmt.Sprintf("%s-%d", p.Policy, run.At.Unix()), Title: p.Policy, From: run.At, Until: run.Ends, Coming: true, Text: text})
			}
		}
	}
	return out, nil
}

func pastEntry(run records.Run, now time.Time) Entry {
	e := Entry{ID: run.ID, Title: fmt.Sprintf("%s: %s", run.Policy, run.State), From: run.Made, Until: now}
	if run.Started != nil {
		e.From = *run.Started
	}
	if run.Ended != nil {
		e.Until = *run.Ended
	}
	lines := []string{"run " + run.ID + ", started by " + cmp.Or(run.Who, string(run.Cause))}
	for _, t := range run.Tasks {
		line := t.Machine + ": " + string(t.State)
		if text := t.Error + t.Why; text != "" {
			line += ": " + text
		}
		lines = append(lines, line)
	}
	if run.Error != "" {
		lines = append(lines, run.Error)
	}
	e.Text = strings.Join(lines, "\n")
	return e
}
