package when

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/phrase"
	"keenlodge/internal/core/suggest"
)

// word is a word of a phrase and where it stands, in bytes.
type word struct {
	text string
	at   int
}

// parser hands out a phrase's words.
type parser struct {
	kind, text string
	words      []word
	last       word
}

func newParser(text string) *parser {
	p := &parser{kind: "schedule", text: text}
	for i := 0; i < len(text); {
		if text[i] <= ' ' {
			i++
			continue
		}
		from := i
		for i < len(text) && text[i] > ' ' {
			i++
		}
		p.words = append(p.words, word{text[from:i], from})
	}
	return p
}

// peek is the next word, empty at the end.
func (p *parser) peek() word {
	if len(p.words) == 0 {
		return word{"", len(p.text)}
	}
	return p.words[0]
}

func (p *parser) next() word {
	p.last = p.peek()
	p.words = p.words[min(1, len(p.words)):]
	return p.last
}

// take takes the next word if it is this one.
func (p *parser) take(text string) bool {
	if p.peek().text != text {
		return false
	}
	p.next()
	return true
}

// want takes the next word, which must be one of these.
func (p *parser) want(known ...string) (string, error) {
	w := p.next()
	if slices.Contains(known, w.text) {
		return w.text, nil
	}
	quoted := make([]string, len(known))
	for i, k := range known {
		quoted[i] = strconv.Quote(k)
	}
	return "", p.bad(w, strings.Join(quoted, " or ")+" is expected here", known...)
}

// bad says that a word is wrong, and which of those that are known was probably meant.
func (p *parser) bad(w word, why string, known ...string) error {
	if guess := suggest.Match(w.text, known); guess != "" {
		why += "; did you mean " + strconv.Quote(guess) + "?"
	}
	return &phrase.Error{Kind: p.kind, Phrase: p.text, At: w.at, Word: w.text, Why: why}
}

// whole says that a phrase is wrong as a whole.
func (p *parser) whole(why string) error {
	return &phrase.Error{Kind: p.kind, Phrase: p.text, At: 0, Word: p.text, Why: why}
}

// end makes sure that nothing follows.
func (p *parser) end(instead ...string) error {
	if w := p.peek(); w.text != "" {
		return p.bad(w, "the phrase should end before this", instead...)
	}
	return nil
}

// list splits a word at its commas.
func (w word) list() (out []word) {
	at := w.at
	for _, part := range strings.Split(w.text, ",") {
		out = append(out, word{part, at})
		at += len(part) + 1
	}
	return out
}

var (
	shortDays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}
	longDays  = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}
	allDays   = slices.Concat(shortDays, longDays)
)

func weekday(text string) (time.Weekday, bool) {
	i := slices.Index(shortDays, text)
	if i < 0 {
		i = slices.Index(longDays, text)
	}
	return time.Weekday(max(0, i)), i >= 0
}

// weekdays reads "mon", "mon,wed,fri" or "mon-fri,sun", in the order of a week that begins on Monday.
func (p *parser) weekdays(w word) (out []time.Weekday, err error) {
	have := map[time.Weekday]bool{}
	for _, part := range w.list() {
		from, to, isRange := strings.Cut(part.text, "-")
		first, ok := weekday(from)
		last, ok2 := weekday(to)
		if !ok || isRange && !ok2 {
			if ok {
				part = word{to, part.at + len(from) + 1}
			} else {
				part = word{from, part.at}
			}
			return nil, p.bad(part, "a weekday is expected here, such as mon or mon-fri", allDays...)
		}
		if !isRange {
			last = first
		}
		for d := first; ; d = (d + 1) % 7 {
			have[d] = true
			if d == last {
				break
			}
		}
	}
	for i := range 7 {
		if d := time.Weekday((i + 1) % 7); have[d] {
			out = append(out, d)
		}
	}
	return out, nil
}

// clockTime reads "23:00".
func clockTime(text string) (clock, bool) {
	h, m, ok := strings.Cut(text, ":")
	hour, ok1 := digits(h, 1, 2)
	minute, ok2 := digits(m, 2, 2)
	return clock{hour, minute, 0}, ok && ok1 && ok2 && hour < 24 && minute < 60
}

// digits reads a number of so many digits.
func digits(text string, least, most int) (int, bool) {
	if len(text) < least || len(text) > most || strings.Trim(text, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.Atoi(text)
	return n, err == nil
}

func (p *parser) clock() (clock, error) {
	w := p.next()
	c, ok := clockTime(w.text)
	if !ok {
		return c, p.bad(w, "a time from 00:00 to 23:59 is expected here")
	}
	return c, nil
}

// times reads "02:30 and 14:30".
func (p *parser) times() (out []clock, err error) {
	for {
		c, err := p.clock()
		if err != nil {
			return nil, err
		}
		out = append(out, c)
		if !p.take("and") {
			return rising(out), nil
		}
	}
}

// rising sorts times and takes each once.
func rising(times []clock) []clock {
	slices.SortFunc(times, func(a, b clock) int { return int(a.since() - b.since()) })
	return slices.Compact(times)
}

// date reads "2026-03-01".
func (p *parser) date() (time.Time, error) {
	w := p.next()
	day, err := time.Parse(time.DateOnly, w.text)
	if err != nil || day.Year() < 1970 || day.Year() > 9999 {
		return day, p.bad(w, "a day of the calendar is expected here, such as 2026-03-01")
	}
	return day, nil
}
