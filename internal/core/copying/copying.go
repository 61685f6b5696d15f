// Package copying decides which images a copy rule keeps in another store as well, and in which order they go. It does no I/O and knows no clock.
package copying

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
)

// Which says which images of a set are copied.
type Which string

const (
	// Each is every usable one.
	Each Which = "each"
	// FullOnes are those that were read whole.
	FullOnes Which = "full ones"
	// OfEachDay, OfEachWeek and OfEachMonth are the newest of each day, ISO week or month of the zone that is over; a machine of which there is no copy yet
	// has its newest one copied at once.
	OfEachDay   Which = "newest of each day"
	OfEachWeek  Which = "newest of each week"
	OfEachMonth Which = "newest of each month"
)

// Whiches lists all.
var Whiches = []Which{Each, FullOnes, OfEachDay, OfEachWeek, OfEachMonth}

// period names the day, week or month in which a moment of a zone lies.
func (w Which) period(at time.Time) string {
	switch w {
	case OfEachDay:
		return at.Format(time.DateOnly)
	case OfEachWeek:
		year, week := at.ISOWeek()
		return fmt.Sprintf("%d-W%02d", year, week)
	}
	return at.Format("2006-01")
}

// Set is the images of one machine under one policy, and what a rule has copied of them.
type Set struct {
	// Images are those in the store from which copies are made, oldest first. Origin is the image of which each is a copy, or itself.
	Images []Image
	// Copies are those in the other store that the rule has made, oldest first, as rotation there sees them. Known are the origins of all images that the
	// other store has, or had and let go, whoever put them there; those of broken ones are not among them, for they are worth another try.
	Copies []rotation.Image
	Known  map[string]bool
	// Rule rotates the copies.
	Rule rotation.Rule
}

// Image is one that may be copied.
type Image struct {
	rotation.Image
	Origin string
}

// Verdict says what becomes of an image, and why.
type Verdict struct {
	Image
	Copy bool
	Why  string
}

// Decide says of each image of a set whether it is copied at a moment, which carries its zone. What rotation over there would let go at once is not. force
// has the newest one copied although it is not due yet.
func Decide(which Which, s Set, now time.Time, force bool) []Verdict {
	out := make([]Verdict, len(s.Images))
	newest := -1
	for i, m := range s.Images {
		out[i] = Verdict{Image: m, Copy: true}
		if m.State == image.Usable {
			newest = i
		}
	}
	no := func(i int, format string, args ...any) {
		out[i].Copy, out[i].Why = false, fmt.Sprintf(format, args...)
	}
	last := map[string]int{} // the newest usable image of each period
	for i, m := range s.Images {
		if m.State == image.Usable {
			last[which.period(m.Taken.In(now.Location()))] = i
		}
	}
	for i, m := range s.Images {
		period := which.period(m.Taken.In(now.Location()))
		first := len(s.Copies) == 0 && i == newest
		switch {
		case m.State != image.Usable:
			no(i, "it is %s", m.State)
		case s.Known[m.Origin]:
			no(i, "it was copied before")
		case force && i == newest:
		case which == Each:
		case which == FullOnes:
			if m.Capture != image.Full {
				no(i, "it is %s, and full ones are copied", m.Capture)
			}
		case last[period] != i:
			no(i, "a newer one is of the same period, %s", period)
		case period == which.period(now) && !first:
			no(i, "it is the newest of %s so far, which is not over", period)
		}
	}
	// What the copies would be: those that rotation lets go at once are not made.
	future := slices.Clone(s.Copies)
	for i, v := range out {
		if v.Copy {
			m := s.Images[i].Image
			m.Base, m.Pinned, m.Proven, m.Locked = "", false, "", time.Time{}
			future = append(future, m)
		}
	}
	slices.SortStableFunc(future, func(a, b rotation.Image) int { return a.Taken.Compare(b.Taken) })
	fate := map[string]rotation.Decision{}
	for _, d := range rotation.Make(s.Rule, now, future).Decisions {
		fate[d.ID] = d
	}
	for i, v := range out {
		d := fate[v.ID]
		switch {
		case !v.Copy || force && i == newest:
		case d.Verdict == rotation.Drop:
			no(i, "the rotation of copies would let it go at once: %s", d.Why)
		default:
			out[i].Why = "it is not there yet"
		}
	}
	return out
}

// Order puts what is to be copied into the order in which it goes: of each machine the newest first, so that after an outage everything has one fresh copy
// before the backlog; then the rest, the oldest first, so that images find what they lean on.
func Order[T any](all []T, machine func(T) string, taken func(T) time.Time) []T {
	newest := map[string]time.Time{}
	for _, m := range all {
		if k := machine(m); taken(m).After(newest[k]) {
			newest[k] = taken(m)
		}
	}
	isFirst := func(m T) int {
		if taken(m).Equal(newest[machine(m)]) {
			return 0
		}
		return 1
	}
	out := slices.Clone(all)
	slices.SortStableFunc(out, func(a, b T) int {
		return cmp.Or(isFirst(a)-isFirst(b), taken(a).Compare(taken(b)), cmp.Compare(machine(a), machine(b)))
	})
	return out
}
