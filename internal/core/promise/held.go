package promise

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/when"
)

// Held is what a store has of a machine.
type Held struct {
	Store  string `json:"store"`
	Medium string `json:"medium"`
	Place  string `json:"place" doc:"where the store is, or empty where nobody said"`
	// Carrier is what the store lies on: two stores on one disk, or in one object service, are lost together. "" is not known.
	Carrier string `json:"-"`
	// Newest is when its newest usable image was taken, Proven how far that one was shown to be good, Failed that its newest proof failed.
	Newest time.Time   `json:"newest"`
	Proven image.Level `json:"proven"`
	Failed bool        `json:"failed"`
	// Elsewhere says that it is at another place than the machine.
	Elsewhere bool `json:"elsewhere"`
	// Not says why it is no copy that counts, "" where it is one.
	Not string `json:"not" doc:"why it is no copy that counts, or empty"`
}

// Count tells which of the stores that have a machine count: those with a fresh image, one of each carrier. at is the machine's place, age how old its
// newest image may be, 0 for any. The newest come first, each with why it does not count.
func Count(held []Held, at string, age time.Duration, now time.Time) []Held {
	out := slices.Clone(held)
	slices.SortStableFunc(out, func(a, b Held) int { return b.Newest.Compare(a.Newest) })
	on := map[string]string{}
	for i := range out {
		h := &out[i]
		h.Elsewhere = h.Place != "" && h.Place != at
		other := on[h.Carrier]
		switch {
		case h.Failed:
			h.Not = "the newest proof of its image failed"
		case age > 0 && now.Sub(h.Newest) > age:
			h.Not = fmt.Sprintf("its newest image is %s old", when.Short(now.Sub(h.Newest)))
		case h.Carrier != "" && other != "":
			h.Not = fmt.Sprintf("it lies where %s does, and is lost with that", other)
		default:
			on[h.Carrier] = h.Store
		}
	}
	return out
}

// counts are how many copies, kinds of media and places elsewhere there are among what is held.
func counts(held []Held) (copies, media, elsewhere int) {
	kinds := map[string]bool{}
	for _, h := range held {
		if h.Not != "" {
			continue
		}
		copies++
		kinds[h.Medium] = true
		if h.Elsewhere {
			elsewhere++
		}
	}
	return copies, len(kinds), elsewhere
}

// heldWords tells of each store what it is to a clause.
func heldWords(clause string, held []Held, now time.Time) string {
	var all []string
	for _, h := range held {
		place := ""
		if h.Place != "" {
			place = " at " + h.Place
		}
		switch {
		case h.Not != "":
			all = append(all, fmt.Sprintf("%s does not count: %s", h.Store, h.Not))
		case clause == "media":
			all = append(all, fmt.Sprintf("%s is %s%s", h.Store, h.Medium, place))
		case clause == "elsewhere" && h.Place == "":
			all = append(all, fmt.Sprintf("where %s is nobody said (place)", h.Store))
		case clause == "elsewhere" && !h.Elsewhere:
			all = append(all, fmt.Sprintf("%s is at %s, where the machine is", h.Store, h.Place))
		default:
			proven := "not proven there"
			if h.Proven != "" {
				proven = "proven there by " + string(h.Proven)
			}
			all = append(all, fmt.Sprintf("%s%s, %s old, %s", h.Store, place, when.Short(now.Sub(h.Newest)), proven))
		}
	}
	return strings.Join(all, "; ")
}
