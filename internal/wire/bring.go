package wire

// What travels while disks are brought that become an image: the client asks for an upgrade to [Import] and offers a line, on which the lodge calls as it calls
// agents (docs/agent-line.md).
const (
	Import = "keenlodge-import"
	// CallBrought asks what is brought: → [Brought]. CallDisk asks for a disk: its target → nothing, then the stream is NBD's, with an export of that name.
	// CallTaken tells what became of it: [Taken] → nothing.
	CallBrought, CallDisk, CallTaken = "brought", "disk", "taken"
)

// Brought are disks that are to become an image of a machine.
type Brought struct {
	Disks []BroughtDisk `json:"disks"`
	// System is what ran on it, in words; UEFI says that it boots by that, nil that this is not known.
	System string `json:"system"`
	UEFI   *bool  `json:"uefi,omitempty"`
	// CPUs and Memory, in bytes, are what it had, 0 where that is not known.
	CPUs   int   `json:"cpus,omitempty"`
	Memory int64 `json:"memory,omitempty"`
}

// BroughtDisk is one of them. Size is in bytes.
type BroughtDisk struct {
	Target string `json:"target"`
	Size   int64  `json:"size"`
}

// Taken is what became of what was brought: the image, or why there is none.
type Taken struct {
	Image  string `json:"image,omitempty"`
	Stored int64  `json:"stored,omitempty"`
	Why    string `json:"why,omitempty"`
}
