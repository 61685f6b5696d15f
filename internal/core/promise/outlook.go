package promise

import (
	"fmt"
	"math"
	"slices"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/when"
)

const (
	week = 7 * 24 * time.Hour
	// early is after which share of its time a proof is planned, in the middle (see [Promise.Due]).
	early = 0.8
	// guessed is how long a proof is taken to last of which there is no experience.
	guessed = 10 * time.Minute
	// tick is how often proofs are planned: a place is taken for a whole number of these.
	tick = time.Minute
	// full is of how much of what there is it is said that a promise can be kept: the rest is for what goes wrong, and for people.
	full = 0.8
)

// Means are what proofs of a level have: how long one takes, as the newest ones did, 0 where there were none; and for how long places are open to them in a
// week, all together.
type Means struct {
	Each, Open time.Duration
}

// Outlook says whether the proofs of a level can be carried out that are owed. Durations are in nanoseconds.
type Outlook struct {
	Level image.Level `json:"level"`
	// Machines are those to which it is owed, Weekly how many proofs that makes a week.
	Machines int     `json:"machines"`
	Weekly   float64 `json:"weekly"`
	// Each is how long one takes, Guessed that nothing is known of that; Needs is what all of them need of Open, a week.
	Each    time.Duration `json:"each"`
	Guessed bool          `json:"guessed"`
	Needs   time.Duration `json:"needs"`
	Open    time.Duration `json:"open"`
	Kept    bool          `json:"kept"`
	Why     string        `json:"why"`
}

// Outlooks tell of each level that is owed to any of the machines whether the means suffice. A proof of a level counts as one of each lower level.
func Outlooks(owed []Promise, means map[image.Level]Means) (out []Outlook) {
	weekly := map[image.Level]float64{}
	machines := map[image.Level]int{}
	for _, p := range owed {
		higher := 0.0
		for _, l := range slices.Backward(image.Levels) {
			if p.Proofs[l] == 0 {
				continue
			}
			machines[l]++
			rate := max(0, float64(week)/(early*float64(p.Proofs[l]))-higher)
			weekly[l] += rate
			higher += rate
		}
	}
	for _, l := range image.Levels {
		if machines[l] > 0 {
			out = append(out, outlook(l, machines[l], weekly[l], means[l]))
		}
	}
	return out
}

func outlook(l image.Level, machines int, weekly float64, m Means) Outlook {
	o := Outlook{Level: l, Machines: machines, Weekly: weekly, Each: m.Each, Guessed: m.Each == 0, Open: m.Open}
	if o.Guessed {
		o.Each = guessed
	}
	held := max(tick, (o.Each + tick - 1).Truncate(tick))
	o.Needs = time.Duration(min(weekly*float64(held), math.MaxInt64/2))
	o.Kept = float64(o.Needs) <= full*float64(o.Open)
	about := fmt.Sprintf("%.0f a week of %s each", math.Ceil(weekly), when.Short(o.Each))
	if o.Guessed {
		about += " (a guess: there were none yet)"
	}
	switch {
	case o.Open == 0:
		o.Why = about + ", and no place is open to them"
	case o.Kept:
		o.Why = fmt.Sprintf("%s take %.1f %% of what is open to them", about, 100*float64(o.Needs)/float64(o.Open))
	default:
		o.Why = fmt.Sprintf("%s need %s of places a week, and %s are open to them; allow more at once or more hours, or owe less", about, when.Short(o.Needs), when.Short(o.Open))
	}
	return o
}
