package wire

import (
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/site"
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
	// CoveredBy lists the policies that make images of it.
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

// Hypervisor is one of the site's, and how it stands. Free and Total are bytes of its storage pool, -1 where that is not known.
type Hypervisor struct {
	Name     string     `json:"name"`
	Kind     string     `json:"kind"`
	URI      string     `json:"uri"`
	Pool     string     `json:"pool" doc:"storage pool for restored disks; empty for its own choice"`
	Asked    *time.Time `json:"asked" doc:"when it was last asked for its guests"`
	Heard    *time.Time `json:"heard" doc:"when it last answered"`
	Error    string     `json:"error" doc:"why it did not answer when it was last asked, or empty"`
	Machines int        `json:"machines" doc:"how many guests it told of"`
	Version  string     `json:"version"`
	Host     string     `json:"host" doc:"what it calls itself"`
	Free     int64      `json:"free"`
	Total    int64      `json:"total"`
}

// HypervisorAddition describes a hypervisor to add to the site.
type HypervisorAddition struct {
	Spec   site.Hypervisor `json:"spec"`
	Anyway bool            `json:"anyway,omitempty" doc:"add it although a step of trying it failed"`
}

// HypervisorTrial describes a hypervisor to try; without a spec it is the site's.
type HypervisorTrial struct {
	Spec *site.Hypervisor `json:"spec,omitempty"`
}

// HypervisorAdded tells how trying a hypervisor went, and whether it is in the site now.
type HypervisorAdded struct {
	Added    bool         `json:"added"`
	Steps    []probe.Step `json:"steps"`
	Machines []string     `json:"machines" doc:"its guests"`
}

// Part is a part of a server's system state.
type Part struct {
	Name      string   `json:"name"`
	About     string   `json:"about"`
	Mandatory bool     `json:"mandatory" doc:"no policy can leave it out"`
	Paths     []string `json:"paths"`
	Files     int64    `json:"files" doc:"that it would hold now, where that was measured"`
	Bytes     int64    `json:"bytes"`
	Output    []string `json:"output" doc:"files that commands on the server make"`
	Trouble   []string `json:"trouble" doc:"what of it can't be had"`
}
