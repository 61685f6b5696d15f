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

// FreshnessLimit is how old the newest image of a policy's machines may be by its schedules: the longest time between two moments to come, and
// some time to make it in. A policy that follows another is as often as that one; 0 is for a policy that no clock starts.
func FreshnessLimit(s site.Site, policy string, now time.Time) time.Duration {
	return longestGap(s, policy, now, 0)
}

func longestGap(s site.Site, policy string, now time.Time, depth int) (longest time.Duration) {
	if depth > len(s.Policies) {
		return 0 // Check has refused chains that come back to themselves
	}
	spec := s.Policies[policy]
	for _, parsed := range spec.Parsed(s.Location()) {
		if after, _ := parsed.After(); after != "" {
			longest = max(longest, longestGap(s, after, now, depth+1))
		}
	}
	first := spec.Next(now, s.Location())
	last := first
	for range freshMoments {
		if last.IsZero() || last != first && last.Sub(now) >= freshDays*24*time.Hour {
			break // one gap is looked at in any case
		}
		next := spec.Next(last, s.Location())
		longest = max(longest, next.Sub(last)+runTime)
		last = next
	}
	return longest
}
