// Package estimate says how long it takes until bytes have moved, and what limits that, from how fast each part of their way is known to be.
package estimate

import (
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Part is a part of a way that all bytes take, at the same time as its other parts. Known says how its speed, in bytes a second, is known; a speed of 0
// is not known.
type Part struct {
	Name  string
	Speed float64
	Known string
}

// Estimate is how long it takes. Took is 0 where nothing is known; Limit is the slowest part of those that are known, Unknown are the others, for which
// it may take longer.
type Estimate struct {
	Bytes, Paths int64
	Took         time.Duration
	Limit        Part
	Unknown      []string
}

// PerPath is what each path costs beside its bytes, about: it is looked at, opened, named and dressed. 20,000 small files took 1.9 s on two processors.
const PerPath = 100 * time.Microsecond

// little is how many bytes are little: whatever they go through is no matter.
const little = 1 << 20

// Of estimates how long it takes until bytes in so many paths have gone through parts; paths are 0 for disks.
func Of(bytes, paths int64, parts ...Part) Estimate {
	e := Estimate{Bytes: bytes, Paths: paths}
	if bytes <= little {
		e.Took = time.Second + time.Duration(paths)*PerPath
		return e
	}
	for _, p := range parts {
		switch {
		case p.Speed <= 0:
			e.Unknown = append(e.Unknown, p.Name)
		case e.Limit.Speed == 0 || p.Speed < e.Limit.Speed:
			e.Limit = p
		}
	}
	if e.Limit.Speed > 0 {
		e.Took = time.Duration(float64(bytes)/e.Limit.Speed*float64(time.Second)) + time.Duration(paths)*PerPath
	}
	return e
}

// String is the estimate in a sentence.
func (e Estimate) String() string {
	amount := humanize.IBytes(uint64(max(0, e.Bytes)))
	if e.Bytes <= little {
		return fmt.Sprintf("%s for %s", About(e.Took), amount)
	}
	if e.Limit.Speed == 0 {
		return fmt.Sprintf("how long it takes for %s is not known: nothing is known yet of %s", amount, strings.Join(e.Unknown, " and "))
	}
	text := fmt.Sprintf("%s for %s; %s limits it, at %s/s (%s)", About(e.Took), amount, e.Limit.Name, humanize.IBytes(uint64(e.Limit.Speed)), e.Limit.Known)
	if byPaths := time.Duration(e.Paths) * PerPath; byPaths > e.Took/2 && e.Took > time.Second {
		text = fmt.Sprintf("%s for %s; the number of paths limits it, %s", About(e.Took), amount, humanize.Comma(e.Paths))
	}
	if len(e.Unknown) > 0 {
		text += ", and nothing is known yet of " + strings.Join(e.Unknown, " and ")
	}
	return text
}

// About says a duration as people do who estimate.
func About(d time.Duration) string {
	switch {
	case d < 5*time.Second:
		return "a few seconds"
	case d < 55*time.Second:
		return fmt.Sprintf("about %d s", int(d.Round(5*time.Second).Seconds()))
	case d < 10*time.Minute:
		return fmt.Sprintf("about %d min", max(1, int(d.Round(time.Minute).Minutes())))
	case d < 55*time.Minute:
		return fmt.Sprintf("about %d min", int(d.Round(5*time.Minute).Minutes()))
	case d < 10*time.Hour:
		d = d.Round(10 * time.Minute)
		if minutes := int(d.Minutes()) % 60; minutes > 0 {
			return fmt.Sprintf("about %d h %d min", int(d.Hours()), minutes)
		}
		return fmt.Sprintf("about %d h", int(d.Hours()))
	}
	return fmt.Sprintf("about %d h", int(d.Round(time.Hour).Hours()))
}
