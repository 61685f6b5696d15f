package wire

import (
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/inplace"
)

// Snapshot is a moment that a source keeps of a machine on the machine's own storage: quick, and no copy.
type Snapshot struct {
	ID          string            `json:"id" doc:"empty for one that somebody else made: it is listed, and never touched"`
	Machine     string            `json:"machine"`
	MachineID   string            `json:"machine_id"`
	Source      string            `json:"source"`
	Name        string            `json:"name" doc:"what its source calls it, for one that somebody else made"`
	Policy      string            `json:"policy" doc:"empty for one that was taken by hand"`
	Run         string            `json:"run"`
	Region      string            `json:"region" doc:"where it is a copy of another one; empty where its machine is"`
	CopyOf      string            `json:"copy_of"`
	Note        string            `json:"note"`
	Taken       time.Time         `json:"taken"`
	Consistency image.Consistency `json:"consistency"`
	Frozen      int64             `json:"frozen" doc:"nanoseconds that file systems stood still for it"`
	Memory      bool              `json:"memory" doc:"it has the machine's memory, too"`
	Bytes       int64             `json:"bytes" doc:"what it takes, or what was written since; -1 where that is not known"`
	State       inplace.State     `json:"state"`
	Pinned      bool              `json:"pinned"`
	PinNote     string            `json:"pin_note"`
	Until       *time.Time        `json:"until,omitempty" doc:"when a person is asked about one that was taken by hand"`
	Passing     bool              `json:"passing,omitempty" doc:"it was taken before something was done to the machine, and goes by itself then"`
	Gone        *time.Time        `json:"gone,omitempty"`
	Why         string            `json:"why" doc:"why it went, or is to go"`
	Trouble     string            `json:"trouble" doc:"why it can't be removed"`
	Headline    string            `json:"headline" doc:"what a person has to hear of it, or empty"`
}

// SnapshotFilter narrows a list of snapshots; what is empty narrows nothing.
type SnapshotFilter struct {
	Machine string
	Policy  string
	Gone    bool
	Others  bool
}

// SnapshotBody asks for a snapshot by hand.
type SnapshotBody struct {
	Note   string `json:"note,omitempty" doc:"what it is for, such as: before the upgrade"`
	Memory bool   `json:"memory,omitempty" doc:"with the memory of a machine that runs, where its source can"`
	Keep   string `json:"keep,omitempty" doc:"after how long a person is asked about it, such as 2 days; default 7 days"`
}

// BackBody asks to go back to a snapshot.
type BackBody struct {
	Confirm string `json:"confirm" doc:"the machine's name: what was written since is lost"`
	Off     bool   `json:"off,omitempty" doc:"power a machine off that runs"`
}

// SnapshotLoss is what going back to a snapshot would lose.
type SnapshotLoss struct {
	Snapshot Snapshot   `json:"snapshot"`
	Runs     bool       `json:"runs" doc:"the machine runs: it has to be powered off"`
	Bytes    int64      `json:"bytes" doc:"what was written since, -1 where that is not known"`
	Later    []Snapshot `json:"later" doc:"snapshots that were taken since; sources that keep them as a chain lose them, too"`
	Newest   *Image     `json:"newest,omitempty" doc:"the newest image of the machine that was taken since: what is in it is not lost"`
}

// PinBody says why something is pinned.
type PinBody struct {
	Note string `json:"note,omitempty" doc:"why it is pinned"`
}
