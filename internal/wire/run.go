package wire

import (
	"encoding/json"
	"time"

	"keenlodge/internal/core/run"
)

// Run is one carrying-out of a policy, a proof, a restore or the like.
type Run struct {
	ID        string          `json:"id"`
	Kind      run.Kind        `json:"kind"`
	Policy    string          `json:"policy"`
	Cause     run.Cause       `json:"cause"`
	Who       string          `json:"who" doc:"the token's name, of a run that a person started"`
	Request   json.RawMessage `json:"request"`
	State     run.State       `json:"state"`
	Waits     string          `json:"waits" doc:"what a queued run waits for"`
	NotBefore *time.Time      `json:"not_before"`
	Cancel    string          `json:"cancel" doc:"who wants it to end, and why"`
	Due       *time.Time      `json:"due"`
	Made      time.Time       `json:"made"`
	Started   *time.Time      `json:"started"`
	Ended     *time.Time      `json:"ended"`
	Error     string          `json:"error"`
	// Result is what a check, a sweep or a rehearsal found.
	Result json.RawMessage `json:"result,omitempty"`
	Note   string          `json:"note" doc:"what it is for; its images bear it"`
	// Machines is how many tasks it has, Moved and Stored what they moved and stored, in bytes.
	Machines int   `json:"machines"`
	Moved    int64 `json:"moved"`
	Stored   int64 `json:"stored"`
	// Tasks are its first tasks: in a list a few, of one run up to 1,000.
	Tasks []Task `json:"tasks"`
}

// Over reports whether the run has ended.
func (r Run) Over() bool { return r.State.Over() }

// Task is the part of a run for one machine. Done, Total, NewBytes and Stored are bytes: worked off, to work off, new to the store before
// and after compression.
type Task struct {
	ID         int64      `json:"id"`
	Run        string     `json:"run"`
	Machine    string     `json:"machine"`
	MachineID  string     `json:"machine_id"`
	Hypervisor string     `json:"hypervisor"`
	Store      string     `json:"store"`
	State      run.State  `json:"state"`
	Why        string     `json:"why" doc:"why it was skipped, or what it waits for"`
	Tries      int        `json:"tries"`
	Steps      []TaskStep `json:"steps"`
	Step       string     `json:"step"`
	Image      string     `json:"image"`
	Started    *time.Time `json:"started"`
	Ended      *time.Time `json:"ended"`
	Done       int64      `json:"done"`
	Total      int64      `json:"total"`
	NewBytes   int64      `json:"fresh"`
	Stored     int64      `json:"stored"`
	Frozen     int64      `json:"frozen" doc:"nanoseconds"`
	Warnings   []string   `json:"warnings"`
	Error      string     `json:"error"`
}

// TaskStep is a step of a task that has ended. Took is in nanoseconds.
type TaskStep struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
	Took int64     `json:"took"`
}

// LogLine is a line of a run's log.
type LogLine struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Machine string    `json:"machine"`
	Kind    run.Line  `json:"kind" doc:"what the line is: a note, a warning, why something failed, or evidence"`
	Text    string    `json:"text"`
}

// RunFilter narrows a listing of runs; empty fields do not.
type RunFilter struct {
	// ID is how the runs' IDs begin.
	ID, Policy, Kind string
	Page
}
