package store

import (
	"regexp"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/trial"
)

// Proof is the outcome of a proof of an image, as it lies beside it: whoever adopts the store has it, too.
type Proof struct {
	Level    image.Level `json:"level"`
	Passed   bool        `json:"passed"`
	Began    time.Time   `json:"began"`
	Ended    time.Time   `json:"ended"`
	Program  string      `json:"program"`
	Evidence []string    `json:"evidence"`
	Error    string      `json:"error"`
	// Report is what a trial showed, nil for other proofs; the exhibits that it names lie beside the image, too.
	Report *trial.Report `json:"report,omitempty"`
}

// IsExhibit reports whether something can be the name of an exhibit: what a store or a report says may be anything.
func IsExhibit(name string) bool { return exhibitName.MatchString(name) }

var exhibitName = regexp.MustCompile(`^[a-z2-7]{10}\.(png|txt)$`)

// MaxExhibit bounds an exhibit, in bytes.
const MaxExhibit = 4 << 20

// Pin says that rotation never touches an image, and why.
type Pin struct {
	Note string    `json:"note"`
	At   time.Time `json:"at"`
}

// Notes are what is known of an image beside its manifest.
type Notes struct {
	Proofs []Proof // oldest first
	Pin    *Pin    // nil if it is not pinned
}
