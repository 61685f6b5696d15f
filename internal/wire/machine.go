package wire

import (
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
)

// Machine is a machine that a source told of.
type Machine struct {
	ID         string            `json:"id" doc:"its identity, which stays when it is renamed or moves"`
	Name       string            `json:"name"`
	Label      string            `json:"label" doc:"its name, or more of it where that is ambiguous, such as quay-1/web"`
	Hypervisor string            `json:"hypervisor"`
	UUID       string            `json:"uuid"`
	State      machine.State     `json:"state"`
	Tags       map[string]string `json:"tags"`
	Disks      []MachineDisk     `json:"disks"`
	Seen       time.Time         `json:"seen"`
	AlsoOn     string            `json:"also_on" doc:"another hypervisor that has a machine of the same UUID, or empty"`
	Notice     string            `json:"notice" doc:"what a person should look at, or empty"`
	Retired    *time.Time        `json:"retired" doc:"when it was taken down on purpose"`
	Keep       string            `json:"keep" doc:"rotation phrase for the images of a retired machine"`
	// Newest is its newest usable image, or null.
	Newest *NewestImage `json:"newest"`
	// CoveredBy lists the policies that select it.
	CoveredBy []string `json:"covered_by"`
}

// MachineDisk is a machine's disk. Size is in bytes.
type MachineDisk struct {
	Target string `json:"target"`
	Format string `json:"format"`
	Size   int64  `json:"size"`
}

// Found is what one source told.
type Found struct {
	Hypervisor string `json:"hypervisor"`
	Machines   int    `json:"machines"`
	// Error says why it could not be asked.
	Error string `json:"error"`
	// Copies are machines of which another hypervisor has one with the same UUID: copied definitions, or a machine on its way.
	Copies []string `json:"copies"`
}

// Thing is something that a hypervisor has beside its machines and that they need, as it was from Since until Seen, when it was last asked for.
type Thing struct {
	Kind       string    `json:"kind" doc:"network, pool or secret"`
	Name       string    `json:"name"`
	Definition string    `json:"definition" doc:"in the hypervisor's words; a secret's has no value"`
	Since      time.Time `json:"since"`
	Seen       time.Time `json:"seen"`
}

// NewestImage is what a list of machines tells of a machine's newest usable image.
type NewestImage struct {
	ID     string      `json:"id"`
	Taken  time.Time   `json:"taken"`
	Proven image.Level `json:"proven"`
	Failed bool        `json:"failed"`
}

// MachineFilter narrows a listing of machines; empty fields do not.
type MachineFilter struct {
	Hypervisor string
	State      machine.State
	// Text is what the label contains.
	Text string
	Page
}

// RetireBody says how the images of a machine are kept that is taken down.
type RetireBody struct {
	Keep string `json:"keep" doc:"rotation phrase for its images, such as: newest 2"`
	Try  bool   `json:"try,omitempty" doc:"only tell what would go"`
}

// ContinueBody names the machine that another one continues.
type ContinueBody struct {
	Old string `json:"old" doc:"the machine that is gone: its label or its identity"`
}
