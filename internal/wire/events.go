package wire

// Hello is the first event of a stream: from here on nothing is missed.
type Hello struct {
	Program string `json:"program"`
}

// EventKind is what something happened to.
type EventKind string

const (
	// RunChanged is one run, with how it stands now; RunsChanged are many at once.
	RunChanged  EventKind = "run"
	RunsChanged EventKind = "runs"
	// ImageChanged is an image, SiteChanged the configuration.
	ImageChanged EventKind = "image"
	SiteChanged  EventKind = "site"
)

// EventKinds lists every kind.
var EventKinds = []EventKind{RunChanged, RunsChanged, ImageChanged, SiteChanged}

// Event is something that changed.
type Event struct {
	Kind EventKind `json:"kind"`
	Run  *Run      `json:"run,omitempty"`
}
