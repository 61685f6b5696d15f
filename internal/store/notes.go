package store

import (
	"time"

	"keenlodge/internal/core/image"
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
}

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
