// Package when reads schedule phrases and finds the moments that they name. It knows no clock: the moment to start from
// is a parameter.
package when

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/near"
	"keenlodge/internal/core/phrase"
)

// Schedule is a recurrence of wall-clock times in a zone.
type Schedule struct {
	phrase string
	zone   *time.Location
	times  []clock
}

type clock struct{ hour, minute int }

// Parse reads "every day at 23:00", with further times joined by "and". Errors are of type [*phrase.Error].
func Parse(text string, zone *time.Location) (Schedule, error) {
	s := Schedule{phrase: text, zone: zone}
	p := parser{text: text}
	for _, want := range []string{"every", "day", "at"} {
		if w := p.word(); w != want {
			return s, p.bad(`"`+want+`" is expected here`, near.Match(w, []string{want}))
		}
	}
	for {
		w := p.word()
		h, m, ok := strings.Cut(w, ":")
		hour, err1 := strconv.Atoi(h)
		minute, err2 := strconv.Atoi(m)
		if !ok || err1 != nil || err2 != nil || len(h) > 2 || len(m) != 2 || hour < 0 || hour > 23 || minute < 0 || minute > 59 {
			return s, p.bad("a time from 00:00 to 23:59 is expected here", "")
		}
		if c := (clock{hour, minute}); !slices.Contains(s.times, c) {
			s.times = append(s.times, c)
		}
		switch p.word() {
		case "":
			slices.SortFunc(s.times, func(a, b clock) int { return cmp.Compare(a.hour*60+a.minute, b.hour*60+b.minute) })
			return s, nil
		case "and":
		default:
			return s, p.bad(`"and" with another time, or the end, is expected here`, "")
		}
	}
}

// String is the phrase as it was written.
func (s Schedule) String() string { return s.phrase }

// Next is the first moment strictly after t. A time that daylight saving skips counts once, read with the offset before
// the change; a time that occurs twice counts once, at the first.
func (s Schedule) Next(t time.Time) time.Time {
	day := t.In(s.zone).AddDate(0, 0, -1)
	for {
		var best time.Time
		for _, c := range s.times {
			at := s.wall(day, c)
			if at.After(t) && (best.IsZero() || at.Before(best)) {
				best = at
			}
		}
		if !best.IsZero() {
			return best
		}
		day = day.AddDate(0, 0, 1)
	}
}

// wall is the moment at which a day's clock shows c.
func (s Schedule) wall(day time.Time, c clock) time.Time {
	y, m, d := day.Date()
	// time.Date leaves open which offset it takes in a gap or an overlap, so both sides are tried by hand.
	utc := time.Date(y, m, d, c.hour, c.minute, 0, 0, time.UTC)
	_, before := utc.Add(-26 * time.Hour).In(s.zone).Zone()
	at := utc.Add(-time.Duration(before) * time.Second).In(s.zone)
	if h, min, _ := at.Clock(); h == c.hour && min == c.minute {
		return at // with the earlier offset it is right: the only time, or the first of two
	}
	_, after := utc.Add(26 * time.Hour).In(s.zone).Zone()
	late := utc.Add(-time.Duration(after) * time.Second).In(s.zone)
	if h, min, _ := late.Clock(); h == c.hour && min == c.minute {
		return late
	}
	return at // skipped: read with the offset before the change
}

// parser hands out a phrase's words and remembers where the last one stood.
type parser struct {
	text  string
	at    int
	start int
}

func (p *parser) word() string {
	for p.at < len(p.text) && p.text[p.at] == ' ' {
		p.at++
	}
	p.start = p.at
	for p.at < len(p.text) && p.text[p.at] != ' ' {
		p.at++
	}
	return p.text[p.start:p.at]
}

func (p *parser) bad(why, guess string) error {
	if guess != "" {
		why += fmt.Sprintf("; did you mean %q?", guess)
	}
	return &phrase.Error{Kind: "schedule", Phrase: p.text, At: p.start, Word: p.text[p.start:p.at], Why: why}
}
