// Package promise reads what a policy owes each of its machines ("26 hours, boot weekly, 3 copies") and tells what of it is kept. It does no I/O and knows
// no clock.
package promise

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/phrase"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/when"
)

// Promise is what is owed. Its zero value owes nothing.
type Promise struct {
	// Age is how old the newest image may be; 0 leaves that to the schedules.
	Age time.Duration
	// Proofs say how often an image is to be proven, by level.
	Proofs map[image.Level]time.Duration
	// Copies is in how many stores a machine is to have a fresh image, Media of how many kinds these are to be, Elsewhere how many of them are at another
	// place than the machine; 0 asks for nothing.
	Copies, Media, Elsewhere int
	// Key is how often a person is to show that the key kept on paper opens the store; 0 is never.
	Key time.Duration
	// Back is how long it may take to bring a machine back, Drill how often that is to be shown; 0 asks for nothing.
	Back, Drill time.Duration
	text        string
}

// often are the words for how often something is owed.
var often = map[string]time.Duration{"daily": 24 * time.Hour, "weekly": 7 * 24 * time.Hour, "monthly": 31 * 24 * time.Hour, "quarterly": 92 * 24 * time.Hour, "yearly": 366 * 24 * time.Hour}

// counted are the words for what is counted.
var counted = []string{"copies", "media", "elsewhere"}

// mostCounted bounds what is counted.
const mostCounted = 20

// String is the phrase as it was written.
func (p Promise) String() string { return p.text }

// Empty reports whether nothing is owed.
func (p Promise) Empty() bool { return p.text == "" }

// Parse reads a promise, such as "26 hours, boot weekly, restore monthly, 3 copies, 2 media, 1 elsewhere, key yearly, back in 4 hours, drill yearly". Nothing is owed by "". Errors are of
// type [*phrase.Error].
func Parse(text string) (Promise, error) {
	p := Promise{text: strings.TrimSpace(text), Proofs: map[image.Level]time.Duration{}}
	if p.text == "" {
		return Promise{}, nil
	}
	at := 0
	seen := map[string]bool{}
	for _, part := range strings.Split(text, ",") {
		words := strings.Fields(part)
		bad := func(word, why string) error {
			return &phrase.Error{Kind: "promise", Phrase: text, At: at + max(0, strings.Index(part, word)), Word: word, Why: why}
		}
		if len(words) == 0 {
			return Promise{}, bad("", `a clause is missing; write for example "26 hours" or "boot weekly"`)
		}
		what, err := p.clause(words, bad)
		if err != nil {
			return Promise{}, err
		}
		if seen[what] {
			return Promise{}, bad(words[0], "it is promised twice")
		}
		seen[what] = true
		at += len(part) + 1
	}
	return p, nil
}

// clause reads one, and returns what it is about.
func (p *Promise) clause(words []string, bad func(word, why string) error) (what string, err error) {
	level := image.Level(words[0])
	number, notNumber := strconv.Atoi(words[0])
	switch {
	case words[0] == "back":
		if len(words) < 2 || words[1] != "in" {
			return "", bad(words[0], `how long it may take is missing; write for example "back in 4 hours"`)
		}
		var err error
		if p.Back, err = when.ParseSpan(strings.Join(words[2:], " ")); err != nil {
			return "", bad(words[0], `"back in" is followed by a length of time, such as "4 hours"`)
		}
		return words[0], nil
	case words[0] == "key" || words[0] == "drill" || slices.Contains(image.Levels, level):
		every, err := frequency(words[1:], bad)
		switch {
		case err != nil:
			return "", err
		case words[0] == "key":
			p.Key = every
		case words[0] == "drill":
			p.Drill = every
		default:
			p.Proofs[level] = every
		}
		return words[0], nil
	case notNumber != nil:
		known := []string{"key", "drill", "back"}
		for _, l := range image.Levels {
			known = append(known, string(l))
		}
		return "", bad(words[0], "not a clause"+suggest.Hint(words[0], known))
	case len(words) == 1:
		return "", bad(words[0], `of what is missing; write for example "26 hours" or "3 copies"`)
	case len(words) > 2:
		return "", bad(words[2], "a clause has two words; put a comma before the next clause")
	}
	unit := words[1]
	if number == 1 && unit == "copy" {
		unit = "copies"
	}
	if number == 1 && unit == "medium" {
		unit = "media"
	}
	if slices.Contains(counted, unit) {
		if number < 1 || number > mostCounted {
			return "", bad(words[0], fmt.Sprintf("a whole number from 1 to %d is needed", mostCounted))
		}
		*map[string]*int{"copies": &p.Copies, "media": &p.Media, "elsewhere": &p.Elsewhere}[unit] = number
		return unit, nil
	}
	if p.Age, err = when.ParseSpan(strings.Join(words, " ")); err != nil {
		return "", bad(unit, "not a unit"+suggest.Hint(unit, append([]string{"minutes", "hours", "days", "weeks"}, counted...)))
	}
	return "age", nil
}

// frequency reads how often something is owed: "weekly", or "every 10 days".
func frequency(words []string, bad func(word, why string) error) (time.Duration, error) {
	known := slices.Sorted(maps.Keys(often))
	switch {
	case len(words) == 0:
		return 0, bad("", "how often is missing; write one of "+strings.Join(known, ", ")+`, or for example "every 10 days"`)
	case words[0] == "every":
		d, err := when.ParseSpan(strings.Join(words[1:], " "))
		if err != nil {
			return 0, bad(words[0], `"every" is followed by a length of time, such as "10 days"`)
		}
		return d, nil
	case len(words) > 1:
		return 0, bad(words[1], "a clause has two words; put a comma before the next clause")
	}
	d, ok := often[words[0]]
	if !ok {
		return 0, bad(words[0], "not how often"+suggest.Hint(words[0], append(known, "every")))
	}
	return d, nil
}

// Stricter joins what two policies owe the same machine: each clause in its stricter form.
func (p Promise) Stricter(o Promise) Promise {
	sooner := func(a, b time.Duration) time.Duration {
		if a == 0 || b > 0 && b < a {
			return b
		}
		return a
	}
	out := Promise{Age: sooner(p.Age, o.Age), Key: sooner(p.Key, o.Key), Back: sooner(p.Back, o.Back), Drill: sooner(p.Drill, o.Drill), Copies: max(p.Copies, o.Copies), Media: max(p.Media, o.Media), Elsewhere: max(p.Elsewhere, o.Elsewhere), Proofs: map[image.Level]time.Duration{}}
	for _, l := range image.Levels {
		if every := sooner(p.Proofs[l], o.Proofs[l]); every > 0 {
			out.Proofs[l] = every
		}
	}
	out.text = strings.TrimPrefix(strings.TrimSuffix(p.text+"; "+o.text, "; "), "; ")
	if p.text == o.text {
		out.text = p.text
	}
	return out
}

// Standing is how a clause stands.
type Standing string

const (
	// Kept is kept, Overdue is not any more, or not yet. Failed says that the newest proof failed. Impossible can't be kept as things are.
	Kept       Standing = "kept"
	Overdue    Standing = "overdue"
	Failed     Standing = "failed"
	Impossible Standing = "impossible"
)

// Standings lists every standing, from the best to the worst.
var Standings = []Standing{Kept, Overdue, Impossible, Failed}

// Item is a clause, and how it stands.
type Item struct {
	// Clause is what is owed: "age", a level of proof, "copies", "media", "elsewhere", "key", "back" or "drill".
	Clause   string   `json:"clause"`
	Standing Standing `json:"standing"`
	// Why says it in words.
	Why string `json:"why"`
	// Last is when it was last as it should be, Due when it has to be again; nil where there is no such time.
	Last *time.Time `json:"last,omitempty"`
	Due  *time.Time `json:"due,omitempty"`
}

// Failure is a proof that failed.
type Failure struct {
	At  time.Time
	Why string
}

// Known is what is known of a machine.
type Known struct {
	// Newest is when its newest usable image was taken, the zero time for none. Since is when it began to be covered: until then nothing could be kept.
	Newest, Since time.Time
	// Proven is when an image of it last passed at a level or a higher one.
	Proven map[image.Level]time.Time
	// Failed are the levels of which the newest proof failed.
	Failed map[image.Level]Failure
	// Impossible says why a level can't be proven.
	Impossible map[image.Level]string
	// Held is what stores have of it, as [Count] has gone through it.
	Held []Held
	// KeyProven is when a person last opened the store with the key kept on paper; Sealed says that there is one.
	KeyProven time.Time
	Sealed    bool
	// Drilled is the newest drill that had the machine in it, nil for none.
	Drilled *Drilled
}

// Drilled is what became of a machine in a drill.
type Drilled struct {
	At time.Time
	// Back is how long it took, 0 where it did not come back; Why says why then.
	Back time.Duration
	Why  string
}

// Judge tells how each clause stands at a moment.
func (p Promise) Judge(k Known, now time.Time) (out []Item) {
	add := func(clause string, s Standing, last, due time.Time, format string, args ...any) {
		item := Item{Clause: clause, Standing: s, Why: fmt.Sprintf(format, args...)}
		if !last.IsZero() {
			item.Last = &last
		}
		if !due.IsZero() {
			item.Due = &due
		}
		out = append(out, item)
	}
	if p.Age > 0 {
		switch due := k.Newest.Add(p.Age); {
		case k.Newest.IsZero():
			add("age", Overdue, k.Newest, time.Time{}, "it has no usable image")
		case now.After(due):
			add("age", Overdue, k.Newest, due, "its newest image is %s old, and may be %s", when.Short(now.Sub(k.Newest)), when.Short(p.Age))
		default:
			add("age", Kept, k.Newest, due, "its newest image is %s old", when.Short(now.Sub(k.Newest)))
		}
	}
	for _, l := range image.Levels {
		every := p.Proofs[l]
		if every == 0 {
			continue
		}
		last := k.Proven[l]
		due := last.Add(every)
		if last.IsZero() {
			due = k.Since.Add(every) // what was never proven has as long as what was
		}
		failed, isFailed := k.Failed[l]
		switch {
		case isFailed:
			add(string(l), Failed, last, due, "its newest proof by %s failed %s ago: %s", l, when.Short(now.Sub(failed.At)), failed.Why)
		case k.Impossible[l] != "":
			add(string(l), Impossible, last, due, "%s", k.Impossible[l])
		case now.After(due) && last.IsZero():
			add(string(l), Overdue, last, due, "no image of it was proven by %s yet", l)
		case now.After(due):
			add(string(l), Overdue, last, due, "it was proven by %s %s ago, and is to be every %s", l, when.Short(now.Sub(last)), when.Short(every))
		case last.IsZero():
			add(string(l), Kept, last, due, "not proven by %s yet; due in %s", l, when.Short(due.Sub(now)))
		default:
			add(string(l), Kept, last, due, "proven by %s %s ago", l, when.Short(now.Sub(last)))
		}
	}
	copies, media, elsewhere := counts(k.Held)
	for _, c := range []struct {
		clause     string
		has, wants int
	}{{"copies", copies, p.Copies}, {"media", media, p.Media}, {"elsewhere", elsewhere, p.Elsewhere}} {
		says := ""
		if words := heldWords(c.clause, k.Held, now); words != "" {
			says = ": " + words
		}
		switch {
		case c.wants == 0:
		case c.has < c.wants:
			add(c.clause, Overdue, time.Time{}, time.Time{}, "%d of %d%s", c.has, c.wants, says)
		default:
			add(c.clause, Kept, time.Time{}, time.Time{}, "%d%s", c.has, says)
		}
	}
	if p.Key > 0 {
		due := k.KeyProven.Add(p.Key)
		switch {
		case !k.Sealed:
			add("key", Impossible, time.Time{}, time.Time{}, "its store is not sealed, so there is no key to keep")
		case k.KeyProven.IsZero():
			add("key", Overdue, time.Time{}, time.Time{}, "nobody has shown yet that the key kept on paper opens the store")
		case now.After(due):
			add("key", Overdue, k.KeyProven, due, "the key kept on paper was tried %s ago", when.Short(now.Sub(k.KeyProven)))
		default:
			add("key", Kept, k.KeyProven, due, "the key kept on paper was tried %s ago", when.Short(now.Sub(k.KeyProven)))
		}
	}
	if p.Back > 0 {
		switch d := k.Drilled; {
		case d == nil:
			add("back", Overdue, time.Time{}, time.Time{}, "no drill has shown yet how long it takes to bring it back")
		case d.Back == 0:
			add("back", Failed, d.At, time.Time{}, "it did not come back in the drill %s ago: %s", when.Short(now.Sub(d.At)), d.Why)
		case d.Back > p.Back:
			add("back", Overdue, d.At, time.Time{}, "it was back after %s in the drill %s ago, and may take %s", when.Short(d.Back), when.Short(now.Sub(d.At)), when.Short(p.Back))
		default:
			add("back", Kept, d.At, time.Time{}, "it was back after %s in the drill %s ago", when.Short(d.Back), when.Short(now.Sub(d.At)))
		}
	}
	if p.Drill > 0 {
		switch d := k.Drilled; {
		case d == nil && now.After(k.Since.Add(p.Drill)):
			add("drill", Overdue, time.Time{}, k.Since.Add(p.Drill), "it was in no drill yet")
		case d == nil:
			add("drill", Kept, time.Time{}, k.Since.Add(p.Drill), "it was in no drill yet; due in %s", when.Short(k.Since.Add(p.Drill).Sub(now)))
		case now.After(d.At.Add(p.Drill)):
			add("drill", Overdue, d.At, d.At.Add(p.Drill), "it was in a drill %s ago, and is to be every %s", when.Short(now.Sub(d.At)), when.Short(p.Drill))
		default:
			add("drill", Kept, d.At, d.At.Add(p.Drill), "it was in a drill %s ago", when.Short(now.Sub(d.At)))
		}
	}
	return out
}

// Worst is the worst standing of all, [Kept] where there is none.
func Worst(items []Item) Standing {
	worst := Kept
	for _, i := range items {
		if slices.Index(Standings, i.Standing) > slices.Index(Standings, worst) {
			worst = i.Standing
		}
	}
	return worst
}

// Due is when a proof of a level should be planned: before it is owed, and spread, so that machines that were proven in one night are not all due in one
// again. nth tells machines apart. What is due is planned at once where it was never proven.
func (p Promise) Due(l image.Level, last time.Time, nth uint32) time.Time {
	every := p.Proofs[l]
	if every == 0 || last.IsZero() {
		return time.Time{}
	}
	return last.Add(every*7/10 + every*2/10*time.Duration(nth%1000)/1000)
}
