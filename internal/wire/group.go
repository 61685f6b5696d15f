package wire

import (
	"time"

	"keenlodge/internal/core/image"
)

// Group is machines that need each other, in the order in which they start.
type Group struct {
	Name    string        `json:"name"`
	Note    string        `json:"note"`
	Members []GroupMember `json:"members"`
}

// GroupMember is a machine of a group, with the newest image from which it could start.
type GroupMember struct {
	Machine string      `json:"machine"`
	Image   string      `json:"image" doc:"empty where there is none"`
	Taken   *time.Time  `json:"taken"`
	Proven  image.Level `json:"proven" doc:"the best level of a passed proof of it, or empty"`
	Failed  bool        `json:"failed" doc:"its newest proof failed"`
	Why     string      `json:"why" doc:"why there is no image"`
}
