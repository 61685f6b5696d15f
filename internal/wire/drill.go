package wire

import "keenlodge/internal/core/drill"

// DrillOrder asks for a drill.
type DrillOrder struct {
	Names    []string `json:"names,omitempty" doc:"groups and machines"`
	Whole    bool     `json:"whole,omitempty" doc:"the whole site instead"`
	Together bool     `json:"together,omitempty" doc:"the machines start in one closed network, in their order, though they are no group"`
	WriteOut bool     `json:"writeOut,omitempty" doc:"write their disks out whole first, as a restore does; otherwise they start on disks that stay in the store"`
	Note     string   `json:"note,omitempty" doc:"what it is for"`
}

// Drill is what a drill showed.
type Drill struct {
	drill.Result
	Of  string    `json:"of" doc:"the groups and machines, in words"`
	Sum drill.Sum `json:"sum"`
}
