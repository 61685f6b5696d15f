// Package rotation decides which images of a set stay. It does no I/O and knows no clock: the images, the rule, the zone
// and the moment go in, and a verdict with its reason comes out for every image.
package rotation

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

// Rule is a parsed rotation phrase: an image stays if any clause keeps it.
type Rule struct {
	clauses []clause
	text    string
}

// clause keeps some of the candidates, which are usable, unpinned and ordered from the newest to the oldest.
type clause struct {
	text string
	n    int
	unit string // "newest", "first", "last proven", an age ("days") or a tier ("daily")
	// level is that of "last proven".
	level image.Level
}

var ages = []string{"hours", "days", "weeks", "months", "years"}
var tiers = []string{"hourly", "daily", "weekly", "monthly", "yearly"}

// Parse reads a rotation phrase such as "newest 7" or "7 daily, 4 weekly, first". Errors are of type [*phrase.Error].
func Parse(text string) (Rule, error) {
	rule := Rule{text: text}
	at := 0
	for _, part := range strings.Split(text, ",") {
		c, err := parseClause(text, part, at)
		if err != nil {
			return Rule{}, err
		}
		rule.clauses = append(rule.clauses, c)
		at += len(part) + 1
	}
	return rule, nil
}

// String is the phrase as it was written.
func (r Rule) String() string { return r.text }

func parseClause(text, part string, at int) (clause, error) {
	words := strings.Fields(part)
	bad := func(word, why string) (clause, error) {
		return clause{}, &phrase.Error{Kind: "rotation", Phrase: text, At: at + max(0, strings.Index(part, word)), Word: word, Why: why}
	}
	c := clause{text: strings.Join(words, " ")}
	var number, unit string
	switch {
	case len(words) == 0:
		return bad("", `a clause is missing; write for example "newest 7" or "30 days"`)
	case words[0] == "first":
		if len(words) > 1 {
			return bad(words[1], `"first" stands alone; put a comma before the next clause`)
		}
		c.unit = "first"
		return c, nil
	case words[0] == "last":
		return lastProven(c, words, bad)
	case len(words) > 2:
		return bad(words[2], "a clause has two words; put a comma before the next clause")
	case words[0] == "newest":
		if len(words) == 1 {
			return bad("newest", `how many is missing; write for example "newest 7"`)
		}
		unit, number = words[0], words[1]
	case words[0][0] >= '0' && words[0][0] <= '9' || words[0][0] == '-':
		if len(words) == 1 {
			return bad(words[0], `of what is missing; write for example "30 days" or "7 daily"`)
		}
		number, unit = words[0], words[1]
	default:
		known := append([]string{"newest", "first", "last"}, append(ages, tiers...)...)
		return bad(words[0], "not a clause"+suggest.Hint(words[0], known))
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > 100000 {
		return bad(number, "a whole number from 1 to 100000 is needed")
	}
	if c.n = n; n == 1 && slices.Contains(ages, unit+"s") {
		unit += "s"
	}
	if unit != "newest" && !slices.Contains(ages, unit) && !slices.Contains(tiers, unit) {
		return bad(words[1], "not a unit"+suggest.Hint(unit, append(ages, tiers...)))
	}
	c.unit = unit
	return c, nil
}

// lastProven reads the clause that keeps the newest image with a proof of a level or higher.
func lastProven(c clause, words []string, bad func(word, why string) (clause, error)) (clause, error) {
	const form = `write for example "last proven boot"`
	switch {
	case len(words) == 1 || len(words) == 2 && words[1] == "proven":
		return bad(words[len(words)-1], "by what it was proven last is missing; "+form)
	case words[1] != "proven":
		return bad(words[1], `"last" is followed by "proven"; `+form)
	case len(words) > 3:
		return bad(words[3], "a clause ends with the level of the proof; put a comma before the next clause")
	}
	if c.unit, c.level = "last proven", image.Level(words[2]); !slices.Contains(image.Levels, c.level) {
		return bad(words[2], "not a level of proof"+suggest.Hint(c.level, image.Levels))
	}
	return c, nil
}

// since is the moment n units before now, in now's zone: a day that a month lacks becomes its last one.
func since(now time.Time, n int, unit string) time.Time {
	switch unit {
	case "hours":
		return now.Add(-time.Duration(n) * time.Hour)
	case "days":
		return now.AddDate(0, 0, -n)
	case "weeks":
		return now.AddDate(0, 0, -7*n)
	case "years":
		n *= 12
	}
	year, month, day := now.Date()
	first := time.Date(year, month-time.Month(n), 1, 0, 0, 0, 0, now.Location())
	last := time.Date(first.Year(), first.Month()+1, 0, 0, 0, 0, 0, now.Location()).Day()
	h, m, s := now.Clock()
	return time.Date(first.Year(), first.Month(), min(day, last), h, m, s, now.Nanosecond(), now.Location())
}

// localClock is what a zone's clock shows at a moment: seconds since 1970 as if it were UTC, and its offset.
type localClock struct{ seconds, offset int64 }

func clockOf(t time.Time) localClock {
	_, offset := t.Zone()
	return localClock{t.Unix() + int64(offset), int64(offset)}
}

// periodNumber tells the periods of a tier apart, as [period] names them: two moments have the same number if and only if they are in
// the same one.
func periodNumber(c localClock, tier string) int64 {
	switch tier {
	case "hourly":
		return floorDiv(c.seconds, 3600)<<18 | (c.offset + 1<<17) // an hour that the clock repeats is two
	case "daily":
		return floorDiv(c.seconds, 24*3600)
	case "weekly":
		return floorDiv(floorDiv(c.seconds, 24*3600)+3, 7) // 1970 began on a Thursday
	}
	year, month, _ := time.Unix(c.seconds, 0).UTC().Date()
	if tier == "monthly" {
		return int64(year)*12 + int64(month)
	}
	return int64(year)
}

func floorDiv(a, n int64) int64 {
	if a < 0 {
		return (a - n + 1) / n
	}
	return a / n
}

// period names the hour, day … in which t lies. An hour that the clock repeats is two, so the offset belongs to it.
func period(t time.Time, tier string) string {
	switch tier {
	case "hourly":
		return t.Format("2006-01-02 15h -07:00")
	case "daily":
		return t.Format("2006-01-02")
	case "weekly":
		year, week := t.ISOWeek()
		return fmt.Sprintf("%d week %d", year, week)
	case "monthly":
		return t.Format("January 2006")
	}
	return t.Format("2006")
}
