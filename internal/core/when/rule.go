package when

import (
	"iter"
	"slices"
	"time"
)

// frequency is the FREQ of a rule. The clock's frequencies count on the wall clock, elapsed ones in time that passes.
type frequency string

const (
	yearly  frequency = "YEARLY"
	monthly frequency = "MONTHLY"
	weekly  frequency = "WEEKLY"
	daily   frequency = "DAILY"
	hours   frequency = "HOURLY"
	minutes frequency = "MINUTELY"
	seconds frequency = "SECONDLY"
)

// elapsed is the unit of frequencies that count in time that passes.
var elapsed = map[frequency]time.Duration{hours: time.Hour, minutes: time.Minute, seconds: time.Second}

// clock is a time of day.
type clock struct{ hour, minute, second int }

func (c clock) since() time.Duration {
	return time.Duration(c.hour)*time.Hour + time.Duration(c.minute)*time.Minute + time.Duration(c.second)*time.Second
}

// nthDay is a weekday, or the n-th one of a month or year, from its end if n is negative.
type nthDay struct {
	n   int
	day time.Weekday
}

// rule is a recurrence rule (RFC 5545, section 3.3.10). Wall-clock times are written as if they were in UTC.
type rule struct {
	freq      frequency
	interval  int
	start     time.Time // on the wall clock; an instant where freq counts what passes; zero for none
	count     int       // 0 for no end
	until     time.Time // an instant; zero for no end
	months    []time.Month
	monthDays []int
	days      []nthDay
	setPos    []int
	weekStart time.Weekday
	times     []clock // rising
}

// turmoil is the time around a change of a zone's offset in which the order of wall-clock times and that of moments may
// differ; the largest change so far was by 24 hours.
const turmoil = 26 * time.Hour

// next is the first moment strictly after t.
func (r rule) next(t time.Time, zone *time.Location) time.Time {
	if unit := elapsed[r.freq]; unit > 0 {
		return r.nextElapsed(t, time.Duration(r.interval)*unit).In(zone)
	}
	calm := calmAround(t, zone)
	from := asUTC(t.In(zone))
	if !calm.has(t) {
		from = from.Add(-turmoil)
	}
	if r.count > 0 {
		from = r.start
	}
	var best, bestWall time.Time
	n := 0
	for wall := range r.walk(from) {
		if n++; r.count > 0 && n > r.count || !best.IsZero() && wall.After(bestWall.Add(turmoil)) {
			break
		}
		at, steady := calm.onClock(wall)
		if !r.until.IsZero() && at.After(r.until) {
			if at.After(r.until.Add(turmoil)) {
				break
			}
			continue
		}
		if at.After(t) && (best.IsZero() || at.Before(best)) {
			if best, bestWall = at, wall; steady || calmAround(at, zone).has(at) {
				break
			}
		}
	}
	return best
}

func (r rule) nextElapsed(t time.Time, step time.Duration) time.Time {
	n := int64(0)
	if !t.Before(r.start) {
		n = int64(t.Sub(r.start)/step) + 1
	}
	at := r.start.Add(time.Duration(n) * step)
	if r.count > 0 && n >= int64(r.count) || !r.until.IsZero() && at.After(r.until) {
		return time.Time{}
	}
	return at
}

// calm is a time in which a zone keeps its offset, without the turmoil at its ends. Nearly all moments lie in it, and there the order
// of wall-clock times is that of moments.
type calm struct {
	zone     *time.Location
	offset   time.Duration
	from, to time.Time // zero for no end
}

func calmAround(t time.Time, zone *time.Location) calm {
	local := t.In(zone)
	_, offset := local.Zone()
	from, to := local.ZoneBounds()
	c := calm{zone: zone, offset: time.Duration(offset) * time.Second}
	if !from.IsZero() {
		c.from = from.Add(turmoil)
	}
	if !to.IsZero() {
		c.to = to.Add(-turmoil)
	}
	return c
}

func (c calm) has(t time.Time) bool {
	return (c.from.IsZero() || t.After(c.from)) && (c.to.IsZero() || t.Before(c.to))
}

// onClock is [onClock]; steady says that the moment lies in the calm.
func (c calm) onClock(wall time.Time) (at time.Time, steady bool) {
	if at = wall.Add(-c.offset); c.has(at) {
		return at.In(c.zone), true
	}
	return onClock(wall, c.zone), false
}

// asUTC writes a wall-clock time as if it were in UTC.
func asUTC(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
}

// onClock is the moment at which a zone's clock shows a time that is written as if it were in UTC: the first of two, and
// where the clock skips it, the moment that the offset before the change makes of it.
func onClock(wall time.Time, zone *time.Location) time.Time {
	_, before := wall.Add(-turmoil).In(zone).Zone()
	at := wall.Add(-time.Duration(before) * time.Second).In(zone)
	if asUTC(at).Equal(wall) {
		return at // with the earlier offset it is right: the only time, or the first of two
	}
	_, after := wall.Add(turmoil).In(zone).Zone()
	late := wall.Add(-time.Duration(after) * time.Second).In(zone)
	if asUTC(late).Equal(wall) {
		return late
	}
	return at
}

// walk goes through the rule's wall-clock times from a wall-clock time on, in order, for as long as its horizon reaches.
func (r rule) walk(from time.Time) iter.Seq[time.Time] {
	if from.Before(r.start) {
		from = r.start
	}
	return func(yield func(time.Time) bool) {
		last := r.period(from.AddDate(horizonYears, 0, 0))
		n := r.period(from)
		if off := mod(n-r.period(r.start), r.interval); off > 0 && !r.start.IsZero() {
			n += r.interval - off
		}
		for ; n <= last; n += r.interval {
			i, inPeriod := 0, r.expand(n)
			size := len(inPeriod) * len(r.times)
			for _, day := range inPeriod {
				for _, c := range r.times {
					i++
					if len(r.setPos) > 0 && !slices.Contains(r.setPos, i) && !slices.Contains(r.setPos, i-size-1) {
						continue
					}
					if wall := day.Add(c.since()); !wall.Before(from) && !yield(wall) {
						return
					}
				}
			}
		}
	}
}

func mod(a, n int) int { return ((a % n) + n) % n }

// period numbers the days, weeks, months or years that the rule counts.
func (r rule) period(t time.Time) int {
	day := floorDiv(int(t.Unix()), 24*60*60)
	switch r.freq {
	case daily:
		return day
	case weekly:
		return floorDiv(day+4-int(r.weekStart), 7) // 1970 began on a Thursday
	case monthly:
		return t.Year()*12 + int(t.Month()) - 1
	}
	return t.Year()
}

func floorDiv(a, n int) int { return (a - mod(a, n)) / n }

// expand lists the days of a period that the rule names.
func (r rule) expand(n int) []time.Time {
	switch r.freq {
	case daily:
		return r.pick(dayNumber(n), 1, r.ofMonth)
	case weekly:
		return r.pick(dayNumber(7*n-4+int(r.weekStart)), 7, func(day time.Time) bool {
			if len(r.days) == 0 && day.Weekday() != r.start.Weekday() {
				return false
			}
			return r.ofMonth(day)
		})
	case monthly:
		first := time.Date(n/12, time.Month(n%12+1), 1, 0, 0, 0, 0, time.UTC)
		return r.pick(first, daysIn(first), r.nthOfMonth)
	}
	first := time.Date(n, 1, 1, 0, 0, 0, 0, time.UTC)
	length := first.AddDate(1, 0, -1).YearDay()
	return r.pick(first, length, func(day time.Time) bool {
		switch {
		case len(r.months) > 0 || len(r.monthDays) > 0:
			return r.nthOfMonth(day)
		case len(r.days) > 0:
			return slices.ContainsFunc(r.days, func(d nthDay) bool { return d.is(day, day.YearDay(), length) })
		}
		return day.Month() == r.start.Month() && day.Day() == r.start.Day()
	})
}

func dayNumber(n int) time.Time { return time.Unix(int64(n)*24*60*60, 0).UTC() }

func daysIn(month time.Time) int { return month.AddDate(0, 1, -month.Day()).Day() }

func (r rule) pick(first time.Time, n int, is func(time.Time) bool) (out []time.Time) {
	for i := range n {
		if day := first.AddDate(0, 0, i); is(day) {
			out = append(out, day)
		}
	}
	return out
}

// ofMonth reports whether a day fits the rule's months, days of the month and weekdays, whatever their number.
func (r rule) ofMonth(day time.Time) bool {
	if len(r.months) > 0 && !slices.Contains(r.months, day.Month()) {
		return false
	}
	if len(r.monthDays) > 0 && !slices.Contains(r.monthDays, day.Day()) && !slices.Contains(r.monthDays, day.Day()-daysIn(day)-1) {
		return false
	}
	return len(r.days) == 0 || slices.ContainsFunc(r.days, func(d nthDay) bool { return d.day == day.Weekday() })
}

// nthOfMonth is ofMonth with weekdays counted in the month; without any day it is the start's.
func (r rule) nthOfMonth(day time.Time) bool {
	if !r.ofMonth(day) {
		return false
	}
	if len(r.days) > 0 {
		return slices.ContainsFunc(r.days, func(d nthDay) bool { return d.is(day, day.Day(), daysIn(day)) })
	}
	return len(r.monthDays) > 0 || day.Day() == r.start.Day()
}

// is reports whether a day, the n-th of so many, is this one.
func (d nthDay) is(day time.Time, n, of int) bool {
	return d.day == day.Weekday() && (d.n == 0 || d.n == (n+6)/7 || d.n == -(of-n+7)/7)
}
