package wire

import (
	"time"

	"keenlodge/internal/core/image"
)

// Lane is a machine over time: its newest images, those that rotation dropped too, and its next run.
type Lane struct {
	Machine Machine     `json:"machine"`
	Images  []LaneImage `json:"images"`
	// Late says that its newest image is older than FreshnessLimit, which its policies' schedules promise (in nanoseconds; 0 is any age), or that
	// it has none and a policy covers it.
	Late           bool          `json:"late"`
	FreshnessLimit time.Duration `json:"freshness_limit"`
	Next           *NextRun      `json:"next"`
}

// LaneImage is what a lane tells of an image.
type LaneImage struct {
	ID          string            `json:"id"`
	Taken       time.Time         `json:"taken"`
	State       image.State       `json:"state"`
	Consistency image.Consistency `json:"consistency"`
	Proven      image.Level       `json:"proven"`
	Failed      bool              `json:"failed"`
	Gone        *time.Time        `json:"gone"`
	GoneWhy     string            `json:"gone_why"`
	Read        int64             `json:"read"`
	Stored      int64             `json:"stored"`
}
