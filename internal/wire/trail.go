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
	Result  deed.Result `json:"result"`
	Why     string      `json:"why" doc:"why it was refused or failed"`
}

// DeedFilter narrows a listing of the trail; empty fields do not. Target is how the paths begin.
type DeedFilter struct {
	Who, Verb, Result, Target string
	Page
}
