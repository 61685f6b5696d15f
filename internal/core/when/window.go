package when

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Windows are the hours in which runs may start. Without any they always may.
type Windows struct {
	parts []window
}

// window is a span of the clock on some weekdays; one that reaches past midnight belongs to the day on which it begins.
type window struct {
	never    bool
	days     []time.Weekday
	from, to clock
}

// ParseWindows reads phrases such as "only 20:00-06:00", "only mon-fri 20:00-06:00" and "never sun 10:00-12:00". Runs may start
// within any "only", if there is one, and outside of every "never". Errors are of type [*phrase.Error]; windows that never open are one.
func ParseWindows(phrases []string) (Windows, error) {
	var w Windows
	for _, text := range phrases {
		p := newParser(text)
		p.kind = "window"
		v, err := p.window()
		if err != nil {
			return w, err
		}
		w.parts = append(w.parts, v)
	}
	if len(phrases) > 0 {
		if _, open := w.Opens(time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC)); !open {
			p := newParser(strings.Join(phrases, "; "))
			p.kind = "window"
			return w, p.whole("it never opens")
		}
	}
	return w, nil
}

func (p *parser) window() (v window, err error) {
	first, err := p.want("only", "never")
	if err != nil {
		return v, err
	}
	v.never = first == "never"
	v.days = []time.Weekday{0, 1, 2, 3, 4, 5, 6}
	if w := p.peek(); !strings.Contains(w.text, ":") && w.text != "" {
		p.next()
		if v.days, err = p.weekdays(w); err != nil {
			return v, err
		}
	}
	v.from, v.to, err = p.clockSpan()
	if err != nil {
		return v, err
	}
	return v, p.end()
}

// clockSpan reads "20:00-06:00"; 24:00 may end it.
func (p *parser) clockSpan() (from, to clock, err error) {
	w := p.next()
	a, b, ok := strings.Cut(w.text, "-")
	from, ok1 := clockTime(a)
	to, ok2 := clockTime(b)
	if b == "24:00" {
		to, ok2 = clock{24, 0, 0}, true
	}
	if !ok || !ok1 || !ok2 || from == to {
		return from, to, p.bad(w, "hours are expected here, such as 20:00-06:00")
	}
	return from, to, nil
}

// Open reports whether runs may start at a moment of the zone that it carries.
func (w Windows) Open(at time.Time) bool {
	any, in := false, false
	for _, v := range w.parts {
		switch has := v.has(at); {
		case v.never && has:
			return false
		case !v.never:
			any, in = true, in || has
		}
	}
	return in || !any
}

// has reports whether a moment lies within the window, by the clock.
func (v window) has(at time.Time) bool {
	now := clock{at.Hour(), at.Minute(), at.Second()}.since()
	from, to := v.from.since(), v.to.since()
	if from < to {
		return slices.Contains(v.days, at.Weekday()) && now >= from && now < to
	}
	yesterday := (at.Weekday() + 6) % 7
	return slices.Contains(v.days, at.Weekday()) && now >= from || slices.Contains(v.days, yesterday) && now < to
}

// Opens is the first moment from at on at which all of these windows are open; ok is false if there is none within nine days: then
// they never are.
func (w Windows) Opens(at time.Time, others ...Windows) (opens time.Time, ok bool) {
	return w.first(at, true, others)
}

// Closes is the first moment from at on at which one of these windows is not open; ok is false if they always are.
func (w Windows) Closes(at time.Time, others ...Windows) (closes time.Time, ok bool) {
	return w.first(at, false, others)
}

func (w Windows) first(at time.Time, wanted bool, others []Windows) (time.Time, bool) {
	all := append([]Windows{w}, others...)
	open := func(at time.Time) bool {
		return !slices.ContainsFunc(all, func(w Windows) bool { return !w.Open(at) })
	}
	if open(at) == wanted {
		return at, true
	}
	for _, edge := range edges(at, all) {
		if open(edge) == wanted {
			return edge, true
		}
	}
	return time.Time{}, false
}

// edges are the moments after at, for nine days, at which a window may open or close, in order.
func edges(at time.Time, all []Windows) (out []time.Time) {
	today := asUTC(at).Truncate(24 * time.Hour)
	for day := range 9 {
		wall := today.AddDate(0, 0, day)
		out = append(out, onClock(wall, at.Location()))
		for _, w := range all {
			for _, v := range w.parts {
				for _, c := range []clock{v.from, v.to} {
					out = append(out, onClock(wall.Add(c.since()), at.Location()))
				}
			}
		}
	}
	_, change := at.ZoneBounds()
	if !change.IsZero() && change.Before(at.AddDate(0, 0, 9)) {
		out = append(out, change.In(at.Location()))
	}
	out = slices.DeleteFunc(out, func(t time.Time) bool { return !t.After(at) })
	slices.SortFunc(out, func(a, b time.Time) int { return cmp.Compare(a.UnixNano(), b.UnixNano()) })
	return out
}
