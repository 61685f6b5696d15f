package wire

// RehearseRequest asks for a run of a policy that does everything but write.
type RehearseRequest struct {
	// Freeze asks for guests to be frozen and thawed, too, as the policy's quiesce says.
	Freeze bool `json:"freeze"`
}

// Rehearsal is what a rehearsal found.
type Rehearsal struct {
	Checks []RehearsalCheck `json:"checks"`
	// Reads and Adds are bytes: what a run would read, and is likely to add to the store.
	Reads int64 `json:"reads"`
	Adds  int64 `json:"adds"`
	// Drops are the images that rotation would drop after it.
	Drops []string `json:"drops"`
}

// RehearsalCheck is one line of a rehearsal.
type RehearsalCheck struct {
	What  string  `json:"what" doc:"what was tried, such as store or freeze"`
	On    string  `json:"on" doc:"on which machine, store or hypervisor"`
	State Verdict `json:"state"`
	Text  string  `json:"text"`
}

// Verdict is how a check of a rehearsal went.
type Verdict string

const (
	OK     Verdict = "ok"
	Warned Verdict = "warned"
	Failed Verdict = "failed"
)

// Verdicts lists every verdict.
var Verdicts = []Verdict{OK, Warned, Failed}
