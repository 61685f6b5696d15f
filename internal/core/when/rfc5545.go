package when

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Forms of time of RFC 5545, section 3.3.5.
const (
	localForm = "20060102T150405"
	utcForm   = "20060102T150405Z"
	dateForm  = "20060102"
)

var dayCodes = []string{"SU", "MO", "TU", "WE", "TH", "FR", "SA"}

func isRFC5545(first string) bool {
	return strings.HasPrefix(first, "RRULE:") || strings.HasPrefix(first, "DTSTART")
}

// readRFC5545 reads "RRULE:…", of which there may be several, with "DTSTART…" before them.
func (s *Schedule) readRFC5545(p *parser) error {
	var start time.Time
	var isUTC bool
	if w := p.peek(); strings.HasPrefix(w.text, "DTSTART") {
		p.next()
		var err error
		if start, isUTC, err = s.readStart(p, w); err != nil {
			return err
		}
	}
	for w := p.next(); ; w = p.next() {
		parts, ok := strings.CutPrefix(w.text, "RRULE:")
		if !ok {
			return p.bad(w, "RRULE: is expected here", "RRULE:")
		}
		r, err := s.readRule(p, word{parts, w.at + len("RRULE:")}, start, isUTC)
		if err != nil {
			return err
		}
		s.rules = append(s.rules, r)
		if p.peek().text == "" {
			return nil
		}
	}
}

// readStart reads DTSTART, with TZID, in UTC, or on the zone's clock.
func (s *Schedule) readStart(p *parser, w word) (start time.Time, isUTC bool, err error) {
	head, value, ok := strings.Cut(w.text, ":")
	at := word{value, w.at + len(head) + 1}
	if !ok {
		return start, false, p.bad(w, "a start is written as DTSTART;TZID=Europe/Lisbon:20260301T030000")
	}
	if zone, ok := strings.CutPrefix(head, "DTSTART;TZID="); ok {
		if s.zone, err = time.LoadLocation(zone); err != nil || zone == "" || zone == "Local" {
			return start, false, p.bad(word{zone, w.at + len("DTSTART;TZID=")}, "no such zone in the tz database")
		}
	} else if head != "DTSTART" {
		return start, false, p.bad(w, "only TZID may stand in DTSTART")
	}
	if start, err = time.Parse(utcForm, value); err == nil {
		return start, true, nil
	}
	if start, err = time.Parse(localForm, value); err == nil {
		return start, false, nil
	}
	return start, false, p.bad(at, "a start is written as 20260301T030000")
}

// readRule reads the parts of a RRULE.
func (s *Schedule) readRule(p *parser, w word, start time.Time, isUTC bool) (r rule, err error) {
	r = rule{interval: 1, weekStart: time.Monday, start: start}
	var byHour, byMinute, bySecond []int
	at := w.at
	seen := map[string]word{}
	for _, text := range strings.Split(w.text, ";") {
		name, value, ok := strings.Cut(text, "=")
		here, key := word{value, at + len(name) + 1}, word{name, at}
		at += len(text) + 1
		if _, twice := seen[name]; !ok || twice {
			return r, p.bad(word{text, key.at}, "a part of a rule is written once, as NAME=value")
		}
		seen[name] = key
		switch name {
		case "FREQ":
			r.freq = frequency(value)
			known := []string{string(daily), string(weekly), string(monthly), string(yearly), string(hours), string(minutes), string(seconds)}
			if !slices.Contains(known, value) {
				return r, p.bad(here, "known are "+strings.Join(known, ", "), known...)
			}
		case "INTERVAL":
			r.interval, err = p.one(here, 1, 100000)
		case "COUNT":
			r.count, err = p.one(here, 1, 100000)
		case "UNTIL":
			r.until, err = s.readUntil(p, here)
		case "BYHOUR":
			byHour, err = p.numbers(here, 0, 23)
		case "BYMINUTE":
			byMinute, err = p.numbers(here, 0, 59)
		case "BYSECOND":
			bySecond, err = p.numbers(here, 0, 59)
		case "BYMONTH":
			var months []int
			months, err = p.numbers(here, 1, 12)
			for _, m := range months {
				r.months = append(r.months, time.Month(m))
			}
		case "BYMONTHDAY":
			r.monthDays, err = p.numbers(here, -31, 31)
		case "BYSETPOS":
			r.setPos, err = p.numbers(here, -366, 366)
		case "BYDAY":
			r.days, err = p.dayList(here)
		case "WKST":
			i := slices.Index(dayCodes, value)
			if i < 0 {
				return r, p.bad(here, "a weekday is expected here, such as MO", dayCodes...)
			}
			r.weekStart = time.Weekday(i)
		default:
			return r, p.bad(key, "this part is not taken here", "FREQ", "INTERVAL", "COUNT", "UNTIL", "BYHOUR", "BYMINUTE", "BYSECOND", "BYMONTH", "BYMONTHDAY", "BYDAY", "BYSETPOS", "WKST")
		}
		if err != nil {
			return r, err
		}
	}
	return r, s.complete(p, w, &r, seen, isUTC, [3][]int{byHour, byMinute, bySecond})
}

// complete takes from the start what the rule leaves open (RFC 5545, section 3.8.5.3), and refuses what means nothing.
func (s *Schedule) complete(p *parser, w word, r *rule, seen map[string]word, isUTC bool, by [3][]int) error {
	noStart := r.start.IsZero()
	has := func(names ...string) string {
		for _, name := range names {
			if _, ok := seen[name]; ok {
				return name
			}
		}
		return ""
	}
	numbered := slices.ContainsFunc(r.days, func(d nthDay) bool { return d.n != 0 })
	switch {
	case r.freq == "":
		return p.bad(w, "FREQ is missing")
	case has("COUNT") != "" && has("UNTIL") != "":
		return p.bad(seen["UNTIL"], "a rule ends by COUNT or by UNTIL, not by both")
	case elapsed[r.freq] > 0:
		if name := has("BYHOUR", "BYMINUTE", "BYSECOND", "BYMONTH", "BYMONTHDAY", "BYDAY", "BYSETPOS"); name != "" {
			return p.bad(seen[name], fmt.Sprintf("%s counts in time that passes, so it has no hours or days to choose; write FREQ=DAILY with BYHOUR and BYMINUTE", r.freq))
		}
		if noStart {
			r.start = anchor
		}
		if !isUTC {
			r.start = onClock(r.start, s.zone)
		}
		return nil
	case noStart && (r.interval > 1 || r.count > 0):
		return p.bad(w, "INTERVAL and COUNT count from a start: write DTSTART:20260301T030000 before RRULE:")
	case noStart && len(by[0]) == 0:
		return p.bad(w, "the time of day is missing: write BYHOUR and BYMINUTE, or DTSTART:20260301T030000 before RRULE:")
	case noStart && (r.freq == weekly && len(r.days) == 0 || r.freq == monthly && len(r.days)+len(r.monthDays) == 0 || r.freq == yearly && len(r.days)+len(r.monthDays) == 0):
		return p.bad(w, "the day is missing: write BYDAY or BYMONTHDAY, or DTSTART:20260301T030000 before RRULE:")
	case numbered && (r.freq == daily || r.freq == weekly):
		return p.bad(seen["BYDAY"], "a numbered weekday is one of a month or a year: write FREQ=MONTHLY or FREQ=YEARLY")
	case len(r.monthDays) > 0 && r.freq == weekly:
		return p.bad(seen["BYMONTHDAY"], "a week has no days of the month: write FREQ=MONTHLY")
	case len(r.setPos) > 0 && has("BYHOUR", "BYMINUTE", "BYSECOND", "BYMONTH", "BYMONTHDAY", "BYDAY") == "":
		return p.bad(seen["BYSETPOS"], "it chooses among what other BY parts name, and there are none")
	}
	if isUTC {
		s.zone = time.UTC
	}
	defaults := [3]int{r.start.Hour(), r.start.Minute(), r.start.Second()}
	for i := range by {
		if len(by[i]) == 0 {
			by[i] = []int{defaults[i]}
		}
	}
	for _, h := range by[0] {
		for _, m := range by[1] {
			for _, sec := range by[2] {
				r.times = append(r.times, clock{h, m, sec})
			}
		}
	}
	r.times = rising(r.times)
	return nil
}

func (s *Schedule) readUntil(p *parser, w word) (time.Time, error) {
	if at, err := time.Parse(utcForm, w.text); err == nil {
		return at, nil
	}
	if at, err := time.Parse(localForm, w.text); err == nil {
		return onClock(at, s.zone), nil
	}
	if day, err := time.Parse(dateForm, w.text); err == nil {
		return onClock(day.AddDate(0, 0, 1), s.zone).Add(-time.Second), nil
	}
	return time.Time{}, p.bad(w, "an end is written as 20261231T235959Z")
}

// one reads a number.
func (p *parser) one(w word, least, most int) (int, error) {
	n, err := strconv.Atoi(w.text)
	if err != nil || n < least || n > most || n == 0 && least < 0 {
		return 0, p.bad(w, fmt.Sprintf("a number from %d to %d is expected here", least, most))
	}
	return n, nil
}

// numbers reads a list of numbers, each once and rising; 0 is none of them where negative ones are allowed.
func (p *parser) numbers(w word, least, most int) (out []int, err error) {
	for _, part := range w.list() {
		n, err := p.one(part, least, most)
		if err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// dayList reads "MO,2SA,-1SU".
func (p *parser) dayList(w word) (out []nthDay, err error) {
	for _, part := range w.list() {
		code := part.text[max(0, len(part.text)-2):]
		i := slices.Index(dayCodes, code)
		if i < 0 {
			return nil, p.bad(part, "a weekday is expected here, such as MO or -1SU", dayCodes...)
		}
		d := nthDay{0, time.Weekday(i)}
		if number := part.text[:len(part.text)-2]; number != "" {
			if d.n, err = p.one(word{strings.TrimPrefix(number, "+"), part.at}, -53, 53); err != nil {
				return nil, err
			}
		}
		out = append(out, d)
	}
	return out, nil
}

// RFC5545 is the schedule as DTSTART and RRULE lines; ok is false for at boot and after. Parse reads it back to the same
// moments, from the start on.
func (s Schedule) RFC5545() (text string, ok bool) {
	if len(s.rules) == 0 {
		return "", false
	}
	start := "DTSTART;TZID=" + s.zone.String() + ":" + s.firstWall().Format(localForm)
	if s.zone == time.UTC {
		start = "DTSTART:" + s.firstWall().Format(utcForm)
	}
	if r := s.rules[0]; elapsed[r.freq] > 0 {
		start = "DTSTART:" + r.start.UTC().Format(utcForm)
	}
	lines := []string{start}
	for _, r := range s.rules {
		for _, minute := range r.byMinute() {
			line := "RRULE:" + r.text()
			if len(minute) > 0 {
				line += ";BYHOUR=" + joined(minute, func(c clock) string { return strconv.Itoa(c.hour) }) +
					fmt.Sprintf(";BYMINUTE=%d;BYSECOND=%d", minute[0].minute, minute[0].second)
			}
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n"), true
}

// firstWall is where the recurrence starts on the wall clock: where it is said, or at its first moment of this century.
func (s Schedule) firstWall() time.Time {
	if r := s.rules[0]; !r.start.IsZero() && (r.interval > 1 || r.count > 0 || r.start.After(anchor)) {
		return r.start
	}
	var first time.Time
	for _, r := range s.rules {
		for wall := range r.walk(anchor) {
			if first.IsZero() || wall.Before(first) {
				first = wall
			}
			break
		}
	}
	return first
}

// byMinute groups a rule's times so that each group is all of some hours at one minute: BYHOUR and BYMINUTE multiply. A
// rule with BYSETPOS is not to be taken apart.
func (r rule) byMinute() (groups [][]clock) {
	if elapsed[r.freq] > 0 {
		return [][]clock{nil}
	}
	at := map[[2]int]int{}
	for _, c := range r.times {
		k := [2]int{c.minute, c.second}
		i, ok := at[k]
		if !ok {
			i = len(groups)
			at[k], groups = i, append(groups, nil)
		}
		groups[i] = append(groups[i], c)
	}
	return groups
}

// text is the rule without its times.
func (r rule) text() string {
	parts := []string{"FREQ=" + string(r.freq)}
	add := func(name, value string) { parts = append(parts, name+"="+value) }
	if r.interval > 1 {
		add("INTERVAL", strconv.Itoa(r.interval))
	}
	if r.count > 0 {
		add("COUNT", strconv.Itoa(r.count))
	}
	if !r.until.IsZero() {
		add("UNTIL", r.until.UTC().Format(utcForm))
	}
	if len(r.months) > 0 {
		add("BYMONTH", joined(r.months, func(m time.Month) string { return strconv.Itoa(int(m)) }))
	}
	if len(r.monthDays) > 0 {
		add("BYMONTHDAY", joined(r.monthDays, strconv.Itoa))
	}
	if len(r.days) > 0 {
		add("BYDAY", joined(r.days, func(d nthDay) string {
			if d.n == 0 {
				return dayCodes[d.day]
			}
			return strconv.Itoa(d.n) + dayCodes[d.day]
		}))
	}
	if len(r.setPos) > 0 {
		add("BYSETPOS", joined(r.setPos, strconv.Itoa))
	}
	if r.weekStart != time.Monday {
		add("WKST", dayCodes[r.weekStart])
	}
	return strings.Join(parts, ";")
}

func joined[T any](list []T, text func(T) string) string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = text(v)
	}
	return strings.Join(out, ",")
}
