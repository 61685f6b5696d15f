// Package unusual compares an image with its forerunners and says what is out of the ordinary, with the numbers.
package unusual

import (
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
)

// Kind is what is unusual.
type Kind string

const (
	Larger     Kind = "larger"
	Smaller    Kind = "smaller"
	Slower     Kind = "slower"
	Unpackable Kind = "does not compress"
	Renamed    Kind = "renamed"
	Rewritten  Kind = "rewritten"
	Deleted    Kind = "gone"
	Noted      Kind = "same file everywhere"
	NoText     Kind = "no text"
)

// Kinds lists every kind.
var Kinds = []Kind{Larger, Smaller, Slower, Unpackable, Renamed, Rewritten, Deleted, Noted, NoText}

// Grave reports whether data may be lost: the images from before should stay until a person has looked.
func (k Kind) Grave() bool { return k != Larger && k != Slower }

// Sign is something unusual, in words with the figures.
type Sign struct {
	Kind Kind
	Text string
}

// Grave are those of the signs after which a person should look.
func Grave(signs []Sign) []Sign {
	return slices.DeleteFunc(slices.Clone(signs), func(s Sign) bool { return !s.Kind.Grave() })
}

// Figures are an image's, as far as they are compared: the bytes that the source gave, the bytes that were stored, how long it took, and of how many bytes that
// were new to the store what was stored is.
type Figures struct {
	Read, Stored int64
	Took         time.Duration
	Fresh        int64
}

// left is which share of what was new was left after compression.
func (f Figures) left() float64 { return float64(f.Stored) / float64(max(1, f.Fresh)) }

const (
	// Fewest is how many forerunners are needed before anything is said: with less, everything is unusual.
	Fewest = 4
	// Most is how many are looked at: older ones tell of another time.
	Most = 20

	// far is how many times the usual spread something must be away from the middle. For figures that scatter as a bell does, a
	// spread beyond 5 is one in two million; real ones have fatter tails, so the factors below must be exceeded, too.
	far    = 5
	larger = 2.0
	slower = 3.0
	// What does not compress is as encrypted data is: so much of it must be left, of so much at least, and by so much more than usual.
	leftOver, leftBytes, leftMore = 0.9, 32 << 20, 0.2
	// leastBytes and leastTime are differences that are not worth a person's look, however unusual.
	leastBytes = 64 << 20
	leastTime  = time.Minute
)

// Compare says what is far larger, far smaller or far slower than the forerunners, which are images of the same capture in the
// same set, newest first.
//
// The middle is the median and the spread the median absolute deviation, times 1.4826 so that it equals the standard deviation
// of a bell (F. R. Hampel, "The Influence Curve and its Role in Robust Estimation", 1974). Mean and standard deviation would be
// pulled by the very figure that should have been reported last week; up to half of the forerunners may be odd before these are.
func Compare(now Figures, before []Figures) (signs []Sign) {
	before = before[:min(len(before), Most)]
	if len(before) < Fewest {
		return nil
	}
	say := func(k Kind, format string, args ...any) { signs = append(signs, Sign{k, fmt.Sprintf(format, args...)}) }
	of := func(get func(Figures) int64) (x, middle, spread float64) {
		all := make([]float64, len(before))
		for i, f := range before {
			all[i] = float64(get(f))
		}
		middle, spread = robust(all)
		return float64(get(now)), middle, spread
	}
	for _, c := range []struct {
		what string
		get  func(Figures) int64
	}{
		{"read", func(f Figures) int64 { return f.Read }},
		{"stored", func(f Figures) int64 { return f.Stored }},
	} {
		x, middle, spread := of(c.get)
		size := func(v float64) string { return humanize.IBytes(uint64(max(0, v))) }
		tail := fmt.Sprintf("the last %d of its kind had %s in the middle, give or take %s", len(before), size(middle), size(spread))
		switch {
		case x-middle > max(far*spread, leastBytes) && x > larger*middle:
			say(Larger, "far larger than usual: %s %s; %s", size(x), c.what, tail)
		case middle-x > max(far*spread, leastBytes) && larger*x < middle:
			say(Smaller, "far smaller than usual: %s %s; %s", size(x), c.what, tail)
		}
	}
	if text := incompressible(now, before); text != "" {
		say(Unpackable, "%s", text)
	}
	x, middle, spread := of(func(f Figures) int64 { return int64(f.Took) })
	if x-middle > max(far*spread, float64(leastTime)) && x > slower*middle {
		round := func(v float64) time.Duration { return time.Duration(v).Round(time.Second) }
		say(Slower, "far slower than usual: it took %s; the last %d of its kind took %s in the middle, give or take %s", round(x), len(before), round(middle), round(spread))
	}
	return signs
}

// incompressible says that most of what is new does not compress, which before it did.
func incompressible(now Figures, before []Figures) string {
	var all []float64
	for _, f := range before {
		if f.Fresh >= leftBytes/8 { // of little a share says little
			all = append(all, f.left())
		}
	}
	if len(all) < Fewest || now.Fresh < leftBytes {
		return ""
	}
	n := len(all)
	middle, spread := robust(all)
	if x := now.left(); x > leftOver && x-middle > max(far*spread, leftMore) {
		return fmt.Sprintf("most of what is new does not compress: %.0f %% of %s was left; the last %d of its kind left %.0f %% in the middle, give or take %.0f %%: data that somebody encrypted is like that, and so are archives and media that were added",
			100*x, humanize.IBytes(uint64(now.Fresh)), n, 100*middle, 100*spread)
	}
	return ""
}

// robust is the median and the median absolute deviation, scaled to a bell's standard deviation.
func robust(all []float64) (middle, spread float64) {
	middle = median(all)
	for i := range all {
		all[i] = max(all[i]-middle, middle-all[i])
	}
	return middle, 1.4826 * median(all)
}

func median(all []float64) float64 {
	slices.Sort(all)
	n := len(all)
	return (all[(n-1)/2] + all[n/2]) / 2
}
