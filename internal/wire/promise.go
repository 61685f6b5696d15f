package wire

import (
	"time"

	"keenlodge/internal/core/promise"
)

// OwedMachine is what is owed to a machine, and how that stands.
type OwedMachine struct {
	MachineID string           `json:"machine_id"`
	Machine   string           `json:"machine"`
	Policies  []string         `json:"policies"`
	Promise   string           `json:"promise"`
	Standing  promise.Standing `json:"standing" doc:"how the worst of it stands: kept, overdue, impossible or failed"`
	Items     []promise.Item   `json:"items"`
	Held      []promise.Held   `json:"held" doc:"what stores have of it, and which of that counts as a copy"`
	Status    string           `json:"status" doc:"in one line how far its newest image can be trusted"`
}

// Owed is how what is owed to machines stands.
type Owed struct {
	Machines   int  `json:"machines" doc:"those to which something is owed"`
	Kept       int  `json:"kept"`
	Overdue    Some `json:"overdue"`
	Failed     Some `json:"failed"`
	Impossible Some `json:"impossible" doc:"those of which something can't be proven as things are"`
}

// KeyProof says whether a key that somebody typed opens a store.
type KeyProof struct {
	Store  string    `json:"store"`
	Opened bool      `json:"opened"`
	At     time.Time `json:"at"`
}
