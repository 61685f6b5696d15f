package when

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/phrase"
)

// anchor is where "every N hours" begins to count if the phrase names no day.
var anchor = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// readPhrase reads all forms that begin with every, monthly, at and after.
func (s *Schedule) readPhrase(p *parser) error {
	first, err := p.want("every", "monthly", "at", "after", "cron", "RRULE:")
	if err != nil {
		return err
	}
	switch first {
	case "at":
		if _, err := p.want("boot"); err != nil {
			return err
		}
		s.boot = true
		return p.end()
	case "after":
		return s.readAfter(p)
	case "monthly":
		return s.readMonthly(p, 1)
	}
	return s.readEvery(p)
}

var policyName = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,62}$`)

func (s *Schedule) readAfter(p *parser) error {
	w := p.next()
	if !policyName.MatchString(w.text) {
		return p.bad(w, "a policy's name is expected here")
	}
	s.after = w.text
	if p.take("in") {
		for _, next := range []string{"any", "case"} {
			if _, err := p.want(next); err != nil {
				return err
			}
		}
		s.anyway = true
	}
	return p.end("in")
}

var units = []string{"days", "weeks", "months", "hours", "minutes"}

// readEvery reads what follows "every": a day, weekdays, or a number with a unit.
func (s *Schedule) readEvery(p *parser) error {
	r := rule{freq: daily, interval: 1, weekStart: time.Monday}
	w := p.next()
	n, counted := digits(w.text, 1, 9)
	unit := w.text
	if counted {
		if n < 1 || n > 1000 {
			return p.bad(w, "a number from 1 to 1000 is expected here")
		}
		r.interval = n
		u := p.next()
		if unit = u.text; !slices.Contains(units, unit) && !slices.Contains(units, unit+"s") {
			return p.bad(u, "days, weeks, months, hours or minutes are expected here", units...)
		}
	}
	switch strings.TrimSuffix(unit, "s") {
	case "hour":
		return s.readElapsed(p, r, hours)
	case "minute":
		return s.readElapsed(p, r, minutes)
	case "month":
		return s.readMonthly(p, r.interval)
	case "week":
		r.freq = weekly
		if _, err := p.want("on"); err != nil {
			return err
		}
		w = p.next()
		fallthrough
	default:
		days, err := p.weekdays(w)
		if err != nil {
			if _, ok := weekday(p.peek().text); ok && ordinals[w.text] != 0 {
				// What is meant is the 2nd tuesday of the month, or every other tuesday.
				return p.bad(w, fmt.Sprintf("a weekday is expected here; did you mean %q?", "monthly on the "+w.text+" "+p.peek().text[:3]+" at …"))
			}
			if r.freq == daily {
				err = p.bad(w.list()[0], `"day", weekdays or a number is expected here`, append([]string{"day", "week", "month", "hour", "minute"}, allDays...)...)
			}
			return err
		}
		r.freq = weekly
		for _, d := range days {
			r.days = append(r.days, nthDay{0, d})
		}
	case "day":
	}
	return s.readTimes(p, r)
}

// readTimes reads "at 23:00 and 05:00", and "from 2026-03-01", which a rule that passes days over needs.
func (s *Schedule) readTimes(p *parser, r rule) (err error) {
	if _, err := p.want("at"); err != nil {
		return err
	}
	if r.times, err = p.times(); err != nil {
		return err
	}
	if p.take("from") {
		if r.start, err = p.date(); err != nil {
			return err
		}
	} else if w := p.peek(); w.text == "" && r.interval > 1 {
		return p.bad(w, `"from" and a day are missing, such as from 2026-03-01: without them nobody knows which of the days it is`)
	}
	s.rules = []rule{r}
	return p.end("and", "from")
}

// readMonthly reads "on the 1st and 15th at 04:00", "on the last day at …", "on the last sun at …".
func (s *Schedule) readMonthly(p *parser, interval int) error {
	r := rule{freq: monthly, interval: interval, weekStart: time.Monday}
	for _, next := range []string{"on", "the"} {
		if _, err := p.want(next); err != nil {
			return err
		}
	}
	for {
		if err := p.dayOfMonth(&r); err != nil {
			return err
		}
		if !p.take("and") {
			break
		}
		p.take("the")
	}
	if len(r.days) > 0 && len(r.monthDays) > 0 {
		return p.whole(`days of the month and weekdays can't be mixed in one phrase; write two schedules`)
	}
	return s.readTimes(p, r)
}

func (p *parser) dayOfMonth(r *rule) error {
	first := p.next()
	for _, w := range first.list() {
		n, isOrdinal := ordinals[w.text]
		if !isOrdinal {
			return p.bad(w, "a day of the month is expected here, such as 1st or last", "1st", "2nd", "3rd", "last")
		}
		if day, ok := weekday(p.peek().text); ok {
			if n > 5 {
				return p.bad(w, "no month has so many of one weekday")
			}
			r.days = append(r.days, nthDay{n, day})
			continue
		}
		r.monthDays = append(r.monthDays, n)
	}
	w := p.peek()
	if _, ok := weekday(w.text); ok || w.text == "day" {
		p.next()
	} else if !slices.Contains([]string{"at", "and", ""}, w.text) {
		return p.bad(w, `a weekday, "day", "and" or "at" is expected here`, append([]string{"day", "and", "at"}, allDays...)...)
	}
	return nil
}

// ordinals are "1st" to "31st", and "last".
var ordinals = func() map[string]int {
	out := map[string]int{"last": -1}
	for n := 1; n <= 31; n++ {
		out[ordinal(n)] = n
	}
	return out
}()

// ordinal is how a day of the month is named; -1 is the last.
func ordinal(n int) string {
	if n == -1 {
		return "last"
	}
	return phrase.Ordinal(n)
}

// readElapsed reads "from 00:20" or "from 2026-03-01 00:20".
func (s *Schedule) readElapsed(p *parser, r rule, freq frequency) error {
	r.freq = freq
	if _, err := p.want("from"); err != nil {
		return err
	}
	day := anchor
	if strings.Contains(p.peek().text, "-") {
		var err error
		if day, err = p.date(); err != nil {
			return err
		}
	}
	c, err := p.clock()
	if err != nil {
		return err
	}
	r.start = onClock(day.Add(c.since()), s.zone)
	s.rules = []rule{r}
	return p.end()
}

// Phrase is the schedule in this package's words, as far as they go; ok is false for a rule that no phrase tells.
func (s Schedule) Phrase() (text string, ok bool) {
	switch {
	case s.boot:
		return "at boot", true
	case s.anyway:
		return "after " + s.after + " in any case", true
	case s.after != "":
		return "after " + s.after, true
	}
	r, ok := s.merged()
	if !ok || r.count > 0 || !r.until.IsZero() || len(r.months) > 0 || len(r.setPos) > 0 {
		return "", false
	}
	if elapsed[r.freq] > 0 {
		return r.elapsedPhrase(s.zone)
	}
	days, ok := r.dayPhrase()
	if !ok || slices.ContainsFunc(r.times, func(c clock) bool { return c.second != 0 }) || len(r.times) > 24 {
		return "", false
	}
	var times []string
	for _, c := range r.times {
		times = append(times, fmt.Sprintf("%02d:%02d", c.hour, c.minute))
	}
	text = days + " at " + strings.Join(times, " and ")
	if !r.start.IsZero() && r.start.Equal(r.start.Truncate(24*time.Hour)) {
		text += " from " + r.start.Format(time.DateOnly)
	} else if !r.start.IsZero() {
		return "", false
	}
	return text, true
}

// merged is the one rule that all of the schedule's are, their times joined.
func (s Schedule) merged() (r rule, ok bool) {
	if len(s.rules) == 0 {
		return r, false
	}
	r = s.rules[0]
	r.times = slices.Clone(r.times)
	for _, o := range s.rules[1:] {
		if len(r.setPos)+len(o.setPos) > 0 || r.count+o.count > 0 || r.text() != o.text() || !r.start.Equal(o.start) || elapsed[o.freq] > 0 {
			return r, false
		}
		r.times = append(r.times, o.times...)
	}
	r.times = rising(r.times)
	return r, true
}

func (r rule) elapsedPhrase(zone *time.Location) (string, bool) {
	unit := map[frequency]string{hours: "hour", minutes: "minute"}[r.freq]
	from := r.start.In(zone)
	if unit == "" || from.Second() != 0 || !onClock(asUTC(from), zone).Equal(r.start) {
		return "", false
	}
	if r.interval > 1 {
		unit = fmt.Sprintf("%d %ss", r.interval, unit)
	}
	day := ""
	if asUTC(from).Truncate(24*time.Hour) != anchor {
		day = from.Format(time.DateOnly) + " "
	}
	return fmt.Sprintf("every %s from %s%s", unit, day, from.Format("15:04")), true
}

// dayPhrase tells a rule's days.
func (r rule) dayPhrase() (string, bool) {
	every := func(unit string) string {
		if r.interval == 1 {
			return "every " + unit
		}
		return fmt.Sprintf("every %d %ss", r.interval, unit)
	}
	plain := !slices.ContainsFunc(r.days, func(d nthDay) bool { return d.n != 0 })
	switch {
	case r.freq == daily && len(r.days)+len(r.monthDays) == 0:
		return every("day"), true
	case (r.freq == weekly || r.freq == daily && r.interval == 1) && len(r.days) > 0 && plain && len(r.monthDays) == 0:
		names := dayNames(r.days)
		if r.interval == 1 {
			return "every " + names, r.weekStart == time.Monday || r.start.IsZero()
		}
		return every("week") + " on " + names, r.weekStart == time.Monday
	case r.freq == monthly || r.freq == daily && r.interval == 1 && len(r.monthDays) > 0 && len(r.days) == 0:
		on, ok := r.monthDayNames()
		if r.interval == 1 {
			return "monthly on the " + on, ok
		}
		return every("month") + " on the " + on, ok
	}
	return "", false
}

func (r rule) monthDayNames() (string, bool) {
	var on []string
	for _, n := range r.monthDays {
		if n == -1 {
			on = append(on, "last day")
			continue
		}
		if n < 1 {
			return "", false
		}
		on = append(on, ordinal(n))
	}
	for _, d := range r.days {
		if d.n == 0 || d.n < -1 || len(r.monthDays) > 0 {
			return "", false
		}
		on = append(on, ordinal(d.n)+" "+shortDays[d.day])
	}
	return strings.Join(on, " and the "), len(on) > 0
}

func dayNames(days []nthDay) string {
	var names []string
	for i := range 7 {
		d := time.Weekday((i + 1) % 7)
		if slices.ContainsFunc(days, func(n nthDay) bool { return n.day == d }) {
			names = append(names, shortDays[d])
		}
	}
	return strings.Join(names, ",")
}
