package wire

import (
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
)

// SetPreview is what the next rotation of a set would do.
type SetPreview struct {
	Machine     string          `json:"machine"`
	MachineID   string          `json:"machine_id"`
	Store       string          `json:"store"`
	Scope       image.Scope     `json:"scope" doc:"machine, or disks where images cover only some; they are a set of their own"`
	SeparateSet bool            `json:"apart" doc:"images made by hand, a set of their own"`
	Rule        string          `json:"rule"`
	Guard       string          `json:"guard" doc:"why an unattended rotation would drop nothing, or empty"`
	Gives       int64           `json:"gives" doc:"bytes that the images to drop took when they were stored; in a pooled store others may need some of them still"`
	Images      []PreviewedFate `json:"images"`
}

// PreviewedFate is an image's verdict in a preview.
type PreviewedFate struct {
	ID      string           `json:"id"`
	Taken   time.Time        `json:"taken"`
	Capture image.Capture    `json:"capture"`
	Base    string           `json:"base"`
	Verdict rotation.Verdict `json:"verdict"`
	Why     string           `json:"why"`
	Stored  int64            `json:"stored"`
	// Store is where it lies: a policy that changed its store has images in the former one, too.
	Store string `json:"store"`
}
