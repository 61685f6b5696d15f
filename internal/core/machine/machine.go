// Package machine has the words of machines: their kinds and states, and how a machine is quiesced, with one list of each. A word that
// is not in its list was written by another version, or told by a source that knows more: it is kept and shown, and never acted on.
package machine

// State is how a machine stands.
type State string

const (
	Running State = "running"
	Paused  State = "paused"
	// Off is not running; its disks stand still.
	Off State = "off"
	// Silent is a server whose agent does not call: it may be off, or cut off.
	Silent State = "silent"
	// Gone is not known to its source any more; images of it are left.
	Gone State = "gone"
)

// States lists every state.
var States = []State{Running, Paused, Off, Silent, Gone}

// Quiesce says whether a capture freezes a machine's file systems.
type Quiesce string

const (
	// Required: a capture without a freeze fails.
	Required Quiesce = "required"
	// Preferred: without a freeze the image is marked as crash-consistent.
	Preferred Quiesce = "preferred"
	// NoFreeze: none is tried.
	NoFreeze Quiesce = "off"
)

// Quiesces lists every way.
var Quiesces = []Quiesce{Required, Preferred, NoFreeze}
