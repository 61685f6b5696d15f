package wire

import (
	"time"

	"keenlodge/internal/core/site"
)

// Policy is a policy as people see it.
type Policy struct {
	Name string `json:"name"`
	site.Policy
	NextDue *time.Time `json:"next_due"`
	// Notice is what a person must look at, or empty.
	Notice string `json:"notice"`
	// Covers lists machines that it selects now, the first few; Machines is how many they are.
	Covers  []string `json:"covers"`
	Covered int      `json:"covered" doc:"how many machines it selects"`
	// FreshnessLimit is how old the newest image of its machines may be, by its schedules, in nanoseconds; 0 where nothing starts it.
	FreshnessLimit time.Duration `json:"freshness_limit" doc:"how old a newest image may be by the schedules, in nanoseconds; 0 for any age"`
	// Says tells each schedule in plain words.
	Says []string `json:"says"`
	// Partly says that it covers what the caller's role does not reach, which therefore can't change it.
	Partly bool `json:"partly" doc:"it covers machines, too, that the caller's role does not reach: he can't run it"`
	// Paused says why and until when it is paused, or null.
	Paused *Pause `json:"paused"`
}

// Pause is why and until when a policy is paused.
type Pause struct {
	Since *time.Time `json:"since"`
	Until *time.Time `json:"until" doc:"null: until somebody resumes it"`
	Why   string     `json:"why"`
	By    string     `json:"by"`
}

// PauseBody says why and until when a policy is to be paused.
type PauseBody struct {
	Why   string     `json:"why,omitempty" maxLength:"500"`
	Until *time.Time `json:"until,omitempty" doc:"until somebody resumes it, if not given"`
}

// SigningKey is a secret that is told once.
type SigningKey struct {
	Key string `json:"key" doc:"Base64; nobody can ask for it again"`
}

// Feed is where a calendar feed can be subscribed to.
type Feed struct {
	Path string `json:"path" doc:"address below the lodge's own, with a token that is good for nothing else"`
}
