package wire

import (
	"time"

	"keenlodge/internal/core/deed"
)

// Deed is what somebody did, a line of the trail.
type Deed struct {
	ID      int64       `json:"id"`
	At      time.Time   `json:"at"`
	Who     string      `json:"who" doc:"the name of the token with which it was done"`
	Address string      `json:"address" doc:"where the call came from"`
	Verb    string      `json:"verb" doc:"the operation"`
	Target  string      `json:"target" doc:"the path of what it was done to"`
	Reason  string      `json:"reason" doc:"why, in the words of who did it"`
	Result  deed.Result `json:"result" doc:"begun: its end is not known, for it goes on or its process died"`
	Why     string      `json:"why" doc:"why it was refused or failed"`
}

// DeedFilter narrows a listing of the trail; empty fields do not. Target is how the paths begin.
type DeedFilter struct {
	Who, Verb, Result, Target string
	// Since and Until bound when it was done: from one moment on, before the other.
	Since, Until time.Time
	Page
}

// TrailCheck is whether the trail is as it was written.
type TrailCheck struct {
	Lines  int64 `json:"lines"`
	Chains int64 `json:"chains"`
	Weaves int64 `json:"weaves"`
	Before int64 `json:"before" doc:"lines from before there were chains, which nothing vouches for"`
	// Found is what was taken out, changed or cut off; empty for a trail that is whole.
	Found  []string     `json:"found"`
	Stores []TrailStore `json:"stores"`
}

// TrailStore is what a store knows of the trail.
type TrailStore struct {
	Store  string `json:"store"`
	Weaves int    `json:"weaves" doc:"how many it keeps: the newest of each day"`
	Error  string `json:"error" doc:"why it could not be asked, or empty"`
}
