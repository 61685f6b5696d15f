// Package event has the names of what can happen in a lodge outside of a policy's own hooks, with one list of them. Whatever happens is
// recorded together with what it changes (records.Happened), so that it is told of exactly when it is so; who wants to hear of it names
// it in the site (webhooks). One more event is one more name here, and one call where it happens.
package event

// Name is what happened.
type Name string

const (
	// RunDone, RunWarned and RunFailed are the ends of a run of any kind; one that was skipped or cancelled is told of to nobody.
	RunDone   Name = "run-done"
	RunWarned Name = "run-warned"
	RunFailed Name = "run-failed"
	// ImageBroken is an image that a check or a proof found not to be restorable.
	ImageBroken Name = "image-broken"
	// RotationHeld is a rotation that the guard holds back until a person confirms it.
	RotationHeld Name = "rotation-held"
	// FloorMissed is a store that rotation can't bring up to its floor.
	FloorMissed Name = "floor-missed"
	// MachinesFound are machines that a source has and the lodge did not know.
	MachinesFound Name = "machines-found"
)

// Names lists every name.
var Names = []Name{RunDone, RunWarned, RunFailed, ImageBroken, RotationHeld, FloorMissed, MachinesFound}

// Event is what happened, to what. What does not apply is empty.
type Event struct {
	Name    Name   `json:"name"`
	Run     string `json:"run,omitempty"`
	Policy  string `json:"policy,omitempty"`
	Machine string `json:"machine,omitempty"`
	Image   string `json:"image,omitempty"`
	Store   string `json:"store,omitempty"`
	Source  string `json:"source,omitempty"`
	// Text says it in a sentence, for people.
	Text string `json:"text"`
}

// Subject is the narrowest of the things that it is about.
func (e Event) Subject() string {
	for _, s := range []string{e.Image, e.Machine, e.Store, e.Source, e.Policy, e.Run} {
		if s != "" {
			return s
		}
	}
	return ""
}
