package source

import (
	"context"
	"time"
)

// TrialMark begins the name of all that a throwaway guest has on its host.
const TrialMark = "keenlodge-trial-"

// Throwaway describes a guest that is started from a definition for a while. It has no network but cards that are given to it, and nothing of its host.
type Throwaway struct {
	// ID is what all is called by that it takes on its host, after [TrialMark].
	ID string
	// Definition is a hypervisor's, or a server's layout.
	Definition string
	// Disks are files that its disks are, by target. All are qcow2. Variables is that of its UEFI variables, "" for fresh ones.
	Disks     map[string]string
	Variables string
	// Memory bounds its memory, in bytes; 0 gives it what it had.
	Memory int64
	// Clock is what time it is in the guest when it starts; the zero time is now.
	Clock time.Time
	// Plug gives each card of it a place in a closed network: UDP ports of its host's loopback, to which it sends and at which it gets what it gets. nil
	// leaves its cards without a link.
	Plug func() (here, there int, err error)
}

// Standing is how a throwaway guest stands.
type Standing string

// What a throwaway guest may be.
const (
	// Up runs. PoweredOff was powered off by its own system, and Crashed told its host that it can't go on. Gone ended otherwise: its hypervisor ended it.
	Up         Standing = "up"
	PoweredOff Standing = "powered off"
	Crashed    Standing = "crashed"
	Gone       Standing = "gone"
	// Starved was stopped by its hypervisor, for a disk of it can't be read or written.
	Starved Standing = "starved"
)

// Sight is what is to be seen of a throwaway guest from outside. Serial is what it said on its first serial line so far, up to the last MiB; Screen what
// stands on its screen where that shows text. Both are the guest's words.
type Sight struct {
	Standing       Standing
	Serial, Screen string
	// Written is how many bytes its disks take on the host.
	Written int64
}

// Trying is a throwaway guest. Close it: then nothing of it is left but the files of its disks.
type Trying interface {
	// Name is what it is called, for [Insider].
	Name() string
	// Adapted says in what it differs from its definition.
	Adapted() []string
	// Look looks at it. An error says that its host could not be asked.
	Look(ctx context.Context) (Sight, error)
	// Picture is what is on its screen, as PNG.
	Picture(ctx context.Context) ([]byte, error)
	// GoOn has it go on where it is [Starved].
	GoOn(ctx context.Context) error
	Close(ctx context.Context) error
}

// Spare is what a host has left for throwaway guests. All are bytes; Idle is the share of its processors that had nothing to do just now, from 0 to 1.
type Spare struct {
	Memory, Room int64
	Idle         float64
}

// Trier starts throwaway guests.
type Trier interface {
	// Try starts one, which ends with this process however that ends.
	Try(ctx context.Context, t Throwaway) (Trying, error)
	// CanTry says in what a guest would differ from its definition, or why it can't be tried here.
	CanTry(ctx context.Context, t Throwaway) (adapted []string, err error)
	// Outline tells how much memory a guest would have, in bytes, and whether it has a place for QEMU's guest agent.
	Outline(t Throwaway) (memory int64, agent bool)
	// ClearTrial ends what a process that died left of the guest of an ID, and removes its files from a pool. It returns what it found.
	ClearTrial(ctx context.Context, id, pool string) (found []string, err error)
	// Spare tells what the host has left.
	Spare(ctx context.Context, pool string) (Spare, error)
}
