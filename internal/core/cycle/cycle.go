// Package cycle decides when a full image is due: the phrase, the images of the set, the zone and the moment go in, and what
// to take comes out, with the reason in plain words.
package cycle

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/phrase"
	"keenlodge/internal/core/suggest"
)

// Rule is a parsed cycle phrase.
type Rule struct {
	text string
	kind string // "always", "once", "every" or "on"
	n    int
	days []time.Weekday
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// Always is the rule of who writes none: every image is full.
var Always = Rule{text: "always full", kind: "always"}

// Parse reads a cycle phrase: "always full", "full once", "full every 7th", "full on sun" or "full on sun,wed". The empty
// phrase is [Always]. Errors are of type [*phrase.Error].
func Parse(text string) (Rule, error) {
	r := Rule{text: text}
	words := strings.Fields(text)
	at := func(i int) (word string) {
		if i < len(words) {
			word = words[i]
		}
		return word
	}
	bad := func(word, why string) (Rule, error) {
		where := len(text) // of what is missing
		if word != "" {
			where = strings.Index(text, word)
		}
		return r, &phrase.Error{Kind: "cycle", Phrase: text, At: where, Word: word, Why: why}
	}
	most := 2
	switch {
	case len(words) == 0:
		return Always, nil
	case at(0) == "always":
		if r.kind = "always"; at(1) != "full" {
			return bad(at(1), `"full" is expected here`)
		}
	case at(0) != "full":
		return bad(at(0), `a cycle begins with "full" or "always full"`+suggest.Hint(at(0), []string{"full", "always"}))
	case at(1) == "once":
		r.kind = "once"
	case at(1) == "every":
		r.kind, most = "every", 3
		n, err := strconv.Atoi(strings.TrimRight(at(2), "stndrh"))
		if err != nil || n < 1 || n > 1000 || at(2) != phrase.Ordinal(n) {
			return bad(at(2), `a number from 1st to 1000th is expected here, such as "7th"`)
		}
		r.n = n
	case at(1) == "on":
		r.kind, most = "on", 3
		for _, day := range strings.Split(at(2), ",") {
			i := slices.Index(weekdays, day)
			if i < 0 {
				return bad(day, "a weekday is expected here"+suggest.Hint(day, weekdays))
			}
			r.days = append(r.days, time.Weekday(i))
		}
	default:
		return bad(at(1), `"once", "every" or "on" is expected here`+suggest.Hint(at(1), []string{"once", "every", "on"}))
	}
	if len(words) > most {
		return bad(words[most], "the phrase should end before this")
	}
	return r, nil
}

// String is the phrase as it was written.
func (r Rule) String() string { return r.text }

// AlwaysFull reports whether every image is full, so that nothing needs to be remembered for a later one.
func (r Rule) AlwaysFull() bool { return r.kind == "always" || r.kind == "every" && r.n == 1 }

// Image is what the cycle looks at of an image that was made, whether it still exists or not.
type Image struct {
	Taken time.Time
	Full  bool
}

// Due tells whether the next image is to be full, and why, or "" if it is not. made are the images of the set, oldest first;
// now carries the zone. Where the last full one is younger than now, by the clock's word, "on" takes it for today's.
func (r Rule) Due(made []Image, now time.Time) (why string) {
	last := -1
	for i, m := range made {
		if m.Full {
			last = i
		}
	}
	if r.kind == "always" {
		return "the policy's captures are always full"
	}
	if last < 0 {
		return "it is the first of its set"
	}
	switch r.kind {
	case "every":
		if n := len(made) - last; n >= r.n {
			return fmt.Sprintf("the cycle is %q, and %d came since the last full one began", r.text, n)
		}
	case "on":
		for back := range 7 {
			day := time.Date(now.Year(), now.Month(), now.Day()-back, 0, 0, 0, 0, now.Location())
			if slices.Contains(r.days, day.Weekday()) {
				if made[last].Taken.Before(day) {
					return fmt.Sprintf("the cycle is %q, and there is no full one since %s began", r.text, day.Format("Mon 2006-01-02"))
				}
				return ""
			}
		}
	}
	return ""
}

// Strength orders the captures that schedules ask for by what they cover, "" for what the cycle says: where several come due at once, the
// strongest counts.
func Strength(capture image.Capture) int {
	return slices.Index([]image.Capture{image.Incremental, "", image.Differential, image.Full}, capture)
}
