package image

import (
	"time"

	"keenlodge/internal/core/plain"
)

// Rested is what became of an application that was to be brought to rest for an image.
type Rested struct {
	Name string `json:"name"`
	// Before and After are how long the calls took, in nanoseconds.
	Before time.Duration `json:"before"`
	After  time.Duration `json:"after"`
	// Failed says what went wrong, "" where all of it held.
	Failed string `json:"failed,omitempty"`
}

// Held reports whether all applications were at rest, and there were some.
func Held(all []Rested) bool {
	for _, r := range all {
		if r.Failed != "" {
			return false
		}
	}
	return len(all) > 0
}

// mostRested bounds the applications of an image.
const mostRested = 100

func cleanRested(all []Rested) []Rested {
	all = all[:min(len(all), mostRested)]
	for i := range all {
		all[i].Name, all[i].Failed = plain.Text(all[i].Name, 100), plain.Text(all[i].Failed, mostText)
	}
	return all
}
