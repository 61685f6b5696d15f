package wire

import (
	"keenlodge/internal/core/site"
)

// Applied is what applying a site changed, or would change.
type Applied struct {
	Changes []site.Change `json:"changes"`
	// Warnings tell what could not be looked at, such as a hypervisor that does not answer.
	Warnings []string `json:"warnings"`
	// Rotation shows, for a policy whose rule changes, what the new rule would drop from today's images.
	Rotation []string `json:"rotation"`
}
