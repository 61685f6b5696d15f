package wire

import "time"

// Lane is a machine over time: its newest images, those that rotation dropped too, and its next run.
type Lane struct {
	Machine Machine `json:"machine"`
	Images  []Image `json:"images"`
	// Late says that its newest image is older than Fresh, which its policies' schedules promise (in nanoseconds; 0 is any age), or that
	// it has none and a policy covers it.
	Late  bool          `json:"late"`
	Fresh time.Duration `json:"fresh"`
	Next  *NextRun      `json:"next"`
}
