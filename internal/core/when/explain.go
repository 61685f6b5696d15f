package when

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Explanation tells what a schedule means.
type Explanation struct {
	// Phrase is the schedule in this package's words, or empty for a rule that no phrase tells.
	Phrase string `json:"phrase"`
	// Words say it as a person would.
	Words string `json:"words"`
	// RFC5545 is DTSTART and RRULE, empty for at boot and after.
	RFC5545 string      `json:"rfc5545"`
	Zone    string      `json:"zone"`
	Next    []time.Time `json:"next"`
	// Notes tell what may surprise: days that months lack, clocks that change this year.
	Notes []string `json:"notes"`
}

// Explain tells what the schedule means, with its next n moments after now.
func (s Schedule) Explain(now time.Time, n int) Explanation {
	e := Explanation{Words: s.Words(), Zone: s.zone.String(), Next: []time.Time{}, Notes: []string{}}
	e.Phrase, _ = s.Phrase()
	e.RFC5545, _ = s.RFC5545()
	for at := now; len(e.Next) < n; {
		if at = s.Next(at); at.IsZero() {
			break
		}
		e.Next = append(e.Next, at)
	}
	if len(s.rules) == 0 {
		return e
	}
	for _, r := range s.rules {
		e.Notes = append(e.Notes, r.lacking()...)
	}
	e.Notes = append(e.Notes, s.changes(now)...)
	return e
}

// Words says the schedule as a person would.
func (s Schedule) Words() string {
	switch {
	case s.boot:
		return "when the service starts for the first time after its host has booted"
	case s.after != "" && s.anyway:
		return "when a run of policy " + s.after + " has ended, however it ended"
	case s.after != "":
		return "when a run of policy " + s.after + " has ended well (done, or done with warnings)"
	}
	var parts []string
	if r, ok := s.merged(); ok {
		parts = []string{r.words(s.zone)}
	} else {
		for _, r := range s.rules {
			parts = append(parts, r.words(s.zone))
		}
	}
	return strings.Join(parts, ", and ")
}

func (r rule) words(zone *time.Location) string {
	ending := ""
	if r.count > 0 {
		ending = fmt.Sprintf(", %d times in all", r.count)
	}
	if !r.until.IsZero() {
		ending += ", until " + r.until.In(zone).Format("2 January 2006 15:04")
	}
	if elapsed[r.freq] > 0 {
		unit := map[frequency]string{hours: "hour", minutes: "minute", seconds: "second"}[r.freq]
		return fmt.Sprintf("every %s of time that passes, counted from %s%s", counted(r.interval, unit), r.start.In(zone).Format("2 January 2006 15:04"), ending)
	}
	text := map[frequency]string{daily: "every " + counted(r.interval, "day"), weekly: "every " + counted(r.interval, "week"),
		monthly: "every " + counted(r.interval, "month"), yearly: "every " + counted(r.interval, "year")}[r.freq]
	var on []string
	if len(r.days) > 0 {
		on = append(on, "on "+joinWords(r.days, nthDay.words))
	}
	if len(r.monthDays) > 0 {
		on = append(on, "on the "+joinWords(r.monthDays, dayFromEnd))
	}
	if len(on) == 0 { // then the day is the start's
		switch {
		case r.freq == weekly:
			on = []string{"on " + r.start.Weekday().String()}
		case r.freq == monthly || r.freq == yearly && len(r.months) > 0:
			on = []string{"on the " + ordinal(r.start.Day())}
		case r.freq == yearly:
			on = []string{"on " + r.start.Format("2 January")}
		}
	}
	if len(on) > 0 && r.freq == daily && r.interval == 1 {
		text = strings.Join(on, ", when that is ")
	} else if len(on) > 0 {
		text += " " + strings.Join(on, " ")
	}
	if len(r.months) > 0 {
		text += " in " + joinWords(r.months, time.Month.String)
	}
	if len(r.setPos) > 0 {
		text += ", of these the " + joinWords(r.setPos, fromEnd)
	}
	if len(r.times) > 6 {
		text += fmt.Sprintf(", %d times a day", len(r.times))
	} else {
		text += " at " + joinWords(r.times, clock.words)
	}
	if !r.start.IsZero() && (r.interval > 1 || r.start.After(anchor)) {
		text += ", from " + r.start.Format("2 January 2006") + " on"
	}
	return text + ending + ", by the clock of " + zone.String()
}

func (c clock) words() string {
	if c.second > 0 {
		return fmt.Sprintf("%02d:%02d:%02d", c.hour, c.minute, c.second)
	}
	return fmt.Sprintf("%02d:%02d", c.hour, c.minute)
}

func (d nthDay) words() string {
	if d.n == 0 {
		return d.day.String()
	}
	return "the " + fromEnd(d.n) + " " + d.day.String()
}

func fromEnd(n int) string {
	switch {
	case n == -1:
		return "last"
	case n < 0:
		return ordinal(-n) + " from the end"
	}
	return ordinal(n)
}

func dayFromEnd(n int) string {
	if n == -1 {
		return "last day"
	}
	return fromEnd(n)
}

func counted(n int, unit string) string {
	if n == 1 {
		return unit
	}
	return fmt.Sprintf("%d %ss", n, unit)
}

func joinWords[T any](list []T, text func(T) string) string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = text(v)
	}
	if n := len(out); n > 1 {
		return strings.Join(out[:n-1], ", ") + " and " + out[n-1]
	}
	return strings.Join(out, "")
}

// lacking says which months a rule passes over.
func (r rule) lacking() (notes []string) {
	for _, n := range r.monthDays {
		months := map[int]string{29: "February, but for leap years", 30: "February", 31: "February, April, June, September and November"}[max(n, -n)]
		if months != "" {
			notes = append(notes, fmt.Sprintf("a day that a month lacks is passed over: the %s does not come in %s", fromEnd(n), months))
		}
	}
	if r.freq == monthly && slices.ContainsFunc(r.days, func(d nthDay) bool { return d.n == 5 || d.n == -5 }) {
		notes = append(notes, "a month that has only four of a weekday is passed over")
	}
	return notes
}

// changes tells what daylight saving does to the schedule in the year of now.
func (s Schedule) changes(now time.Time) (notes []string) {
	year := now.In(s.zone).Year()
	first := time.Date(year, 1, 1, 0, 0, 0, 0, s.zone)
	found := false
	for _, at := first.ZoneBounds(); !at.IsZero() && at.In(s.zone).Year() == year; _, at = at.ZoneBounds() {
		_, before := at.Add(-time.Second).In(s.zone).Zone()
		_, after := at.In(s.zone).Zone()
		if before != after {
			found = true
			notes = append(notes, s.change(at, time.Duration(before)*time.Second, time.Duration(after)*time.Second)...)
		}
	}
	if !found {
		notes = append(notes, fmt.Sprintf("the clock of %s does not change in %d", s.zone, year))
	}
	return notes
}

// change tells what one change of the offset does.
func (s Schedule) change(at time.Time, before, after time.Duration) []string {
	by := after - before
	which, from, to := "forward", asUTC(at.UTC().Add(before)), asUTC(at.UTC().Add(after))
	if by < 0 {
		which, from, to, by = "back", to, from, -by
	}
	head := fmt.Sprintf("on %s clocks go %s by %s: ", at.Add(-time.Second).In(s.zone).Format("2 January 2006"), which, span(by))
	if r := s.rules[0]; elapsed[r.freq] > 0 {
		next := r.next(at.Add(-time.Second), s.zone)
		return []string{head + "time that passes is counted, so by the clock it then starts at another time: next at " + next.Format("15:04") + " on " + next.Format("2 January")}
	}
	var hit []string
	for _, r := range s.rules {
		for wall := range r.walk(from) {
			if !wall.Before(to) {
				break
			}
			moved := onClock(wall, s.zone)
			if which == "forward" {
				hit = append(hit, fmt.Sprintf("%s does not exist and starts at %s", wall.Format("15:04"), moved.Format("15:04")))
			} else {
				hit = append(hit, fmt.Sprintf("%s comes twice and starts at the first (%s)", wall.Format("15:04"), moved.Format("15:04 -07:00")))
			}
		}
	}
	switch {
	case len(hit) == 0:
		return []string{head + "no time of this schedule is skipped or comes twice"}
	case len(hit) > 3:
		hit = append(hit[:3], fmt.Sprintf("and so on, %d times in all", len(hit)))
	}
	return []string{head + strings.Join(hit, "; ")}
}

func span(d time.Duration) string {
	if d == time.Hour {
		return "1 hour"
	}
	if d%time.Hour == 0 {
		return fmt.Sprintf("%d hours", d/time.Hour)
	}
	return fmt.Sprintf("%d minutes", d/time.Minute)
}
