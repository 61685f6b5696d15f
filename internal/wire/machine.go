package wire

import (
	"time"

	"keenlodge/internal/core/machine"
)

// Machine is a machine that a source told of.
type Machine struct {
	Name       string            `json:"name"`
	Hypervisor string            `json:"hypervisor"`
	UUID       string            `json:"uuid"`
	State      machine.State     `json:"state"`
	Tags       map[string]string `json:"tags"`
	Disks      []MachineDisk     `json:"disks"`
	Seen       time.Time         `json:"seen"`
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
	// Taken are machines that are left out because another hypervisor has one of the same name.
	Taken []string `json:"taken"`
}
