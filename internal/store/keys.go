package store

import (
	"time"
)

// NewKey says how a key is to open: with a passphrase, or with the identity of any of the recipients.
type NewKey struct {
	// Label is a person's word for the key, such as "safe in the harbour office". It is sealed, too.
	Label      string   `json:"label,omitempty"`
	Passphrase string   `json:"passphrase,omitempty"`
	Recipients []string `json:"recipients,omitempty" doc:"age recipients, age1…"`
}

// Key is one of a sealed store's keys.
type Key struct {
	ID    string    `json:"id"`
	Kind  string    `json:"kind" enum:"passphrase,recipients"`
	Label string    `json:"label"`
	Made  time.Time `json:"made"`
}
