package planning

import (
	"time"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/wire"
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
// What it promises in words holds before what its schedules imply.
func FreshnessLimit(s site.Site, policy string, now time.Time) time.Duration {
	if owed := s.Policies[policy].Owes().Age; owed > 0 {
		return owed
	}
	return longestGap(s, policy, now, 0)
}

// Sooner is the shorter of two promises; 0 is none.
func Sooner(a, b time.Duration) time.Duration {
	if a == 0 || b > 0 && b < a {
		return b
	}
	return a
}

// IsLate reports whether the newest image of a machine that is covered is older than what is promised, or missing.
func IsLate(newest *time.Time, promised time.Duration, now time.Time) bool {
	return newest == nil || promised > 0 && now.Sub(*newest) > promised
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

// NextRun is when a policy, or a copy rule, runs next, which has a next moment.
func NextRun(s site.Site, p records.PolicyStanding) *wire.NextRun {
	spec, _ := s.Planned(p.Name) // nothing has no next moment
	next := &wire.NextRun{Policy: p.Name, At: *p.NextDue, Says: []string{}, Rotation: spec.Rotation}
	for _, parsed := range spec.Parsed(s.Location()) {
		next.Says = append(next.Says, parsed.Words())
	}
	return next
}
