package planning

import (
	"time"

	"keenlodge/internal/core/site"
)

const (
	// runTime is how long after its moment an image may be made before its machine counts as late.
	runTime = 2 * time.Hour
	// freshMoments and freshDays bound how far the longest gap between two moments is looked for.
	freshMoments = 200
	freshDays    = 400
)

// Fresh is how old the newest image of a policy's machines may be by its schedules: the longest time between two moments to come, and
// some time to make it in. A policy that follows another is as often as that one; 0 is for a policy that no clock starts.
func Fresh(s site.Site, policy string, now time.Time) time.Duration { return fresh(s, policy, now, 0) }

func fresh(s site.Site, policy string, now time.Time, depth int) (longest time.Duration) {
	if depth > len(s.Policies) {
		return 0 // Check has refused chains that come back to themselves
	}
	spec := s.Policies[policy]
	for _, parsed := range spec.Parsed(s.Location()) {
		if after, _ := parsed.After(); after != "" {
			longest = max(longest, fresh(s, after, now, depth+1))
		}
	}
	last := now
	for n := 0; n < 2 || n < freshMoments && last.Sub(now) < freshDays*24*time.Hour; n++ {
		next := spec.Next(last, s.Location())
		if next.IsZero() {
			break
		}
		if n > 0 {
			longest = max(longest, next.Sub(last)+runTime)
		}
		last = next
	}
	return longest
}
