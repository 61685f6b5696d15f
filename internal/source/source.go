// Package source is what the lodge asks of a host that runs guests. Package libvirt does it for QEMU.
package source

import (
	"context"
	"errors"
	"io"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
)

// ErrNoMachine marks a guest that the hypervisor does not have.
var ErrNoMachine = errors.New("no such guest")

// ErrUnreachable marks a hypervisor that does not answer, ErrBusy a guest that has something else to do just now. Both may pass.
var (
	ErrUnreachable = errors.New("does not answer")
	ErrBusy        = errors.New("it is busy")
)

// ErrExists marks a name that is taken.
var ErrExists = errors.New("the name is taken")

// Machine is a guest as its hypervisor describes it.
type Machine struct {
	Name  string            `json:"name"`
	UUID  string            `json:"uuid"`
	State machine.State     `json:"state"`
	Tags  map[string]string `json:"tags"`
	Disks []Disk            `json:"disks"`
}

// Disk is a guest's disk. Size is in bytes.
type Disk struct {
	Target string `json:"target"`
	Format string `json:"format"`
	Size   int64  `json:"size"`
}

// FileSystem is one that a guest has mounted. Used and Total are bytes; Total is 0 where the guest can't tell.
type FileSystem struct {
	Mounted, Kind string
	Used, Total   int64
}

// Request asks for a capture.
type Request struct {
	Machine string
	// Mark is the image's id. All that the capture leaves on the hypervisor bears it, so that it can be found and cleared.
	Mark    string
	Quiesce machine.Quiesce
	// Since is the mark of an earlier capture: only what was written since then is asked for. "" asks for all.
	Since string
	// Checkpoint says that a later capture may ask for what is written after this one.
	Checkpoint bool
	// Waking is called before a guest that is off is started paused; an error stops the capture.
	Waking func() error
	// Disks narrows the capture to these targets; empty for all.
	Disks []string
	// Moment is called at "frozen", while the file systems stand still, and at "thawed"; an error at frozen ends the capture.
	Moment func(ctx context.Context, name string) error
	// Watch is called before a freeze: it sees to it that the guest is thawed even if this process dies or hangs.
	Watch func() (Watchdog, error)
}

// Watchdog ends a freeze that nobody else ends.
type Watchdog interface {
	// Frozen says that the guest's file systems stand still: from now on it has 10 seconds.
	Frozen()
	// Thawed says that the guest is thawed, and ends the watch.
	Thawed()
}

// Capture is one moment of a guest, open for reading. Close it always.
type Capture interface {
	// Disks are the guest's disks at that moment, in its own order.
	Disks() []CapturedDisk
	// Definition describes the guest in the hypervisor's words.
	Definition() string
	// Consistency tells what state the data is in, and how long the guest's file systems stood still.
	Consistency() (image.Consistency, time.Duration)
	// Warnings tell what is not in the capture, and why.
	Warnings() []string
	// Marks are those of earlier captures whose checkpoints the guest had when this one began.
	Marks() []string
	// Close ends the capture and removes all that it made on the hypervisor but, where the image came to be (kept), its
	// checkpoint. The checkpoints of the marks in drop go, too.
	Close(ctx context.Context, kept bool, drop []string) error
}

// CapturedDisk is a disk of a capture.
type CapturedDisk struct {
	Target, Format string
	// Disk tells as unchanged what was not written since the capture that was asked for, if it can.
	disk.Disk
	// Whole is the same disk without that word, nil where Disk does not give it.
	Whole disk.Disk
	// Why says why it does not, where it was asked for.
	Why string
}

// NewGuest describes a guest to define from a definition of the same hypervisor kind.
type NewGuest struct {
	Name       string
	Definition string
	// Disks gives each disk's place by target, as CreateDisk returned it. All are qcow2. Disks of the definition that
	// are not named are left out.
	Disks map[string]string
	// Replace allows an existing guest of that name, which must be off, to be defined anew.
	Replace bool
}

// Hypervisor is a connection to a host. Close it.
type Hypervisor interface {
	// Machines lists the guests, by name.
	Machines(ctx context.Context) ([]Machine, error)
	// Capture takes a moment of a guest. Errors wrap [ErrNoMachine] where it fits.
	Capture(ctx context.Context, r Request) (Capture, error)
	// Clear removes what a capture left that nobody closed: the backup job, its checkpoint, a guest that it had started
	// paused (woken), a freeze. It says what it found.
	Clear(ctx context.Context, machine, mark string, woken bool) (found []string, err error)
	// Marks lists the marks of the captures whose checkpoints a guest has.
	Marks(ctx context.Context, machine string) ([]string, error)
	// DropMarks removes their checkpoints and tells which went. A guest that is off keeps them until its next capture.
	DropMarks(ctx context.Context, machine string, marks []string) (dropped []string, err error)
	// Thaw ends a freeze. A guest that is not frozen is none the worse for it.
	Thaw(ctx context.Context, machine string) error
	// CreateDisk makes a volume that holds content, a file of length bytes, and returns its place. An existing volume is
	// [ErrExists]. Pool may be empty for the first active one.
	CreateDisk(ctx context.Context, pool, name string, length int64, content io.Reader) (place string, err error)
	// RemoveDisk removes a volume that CreateDisk made.
	RemoveDisk(ctx context.Context, place string) error
	// Define makes a guest with a new identity. An existing one is [ErrExists] unless replaced.
	Define(ctx context.Context, g NewGuest) error
	// Start powers a guest on.
	Start(ctx context.Context, machine string) error
	// Ping asks the guest's agent for a sign of life.
	Ping(ctx context.Context, machine string) error
	// Execute runs a command in the guest, by its agent, and returns how it ended and the first 64 KiB of what it said. A command
	// that can't be started, or takes longer than limit, is an error; the latter goes on in the guest.
	Execute(ctx context.Context, machine string, command []string, limit time.Duration) (code int, output string, err error)
	// FileSystems lists the file systems that are mounted in the guest, by its agent.
	FileSystems(ctx context.Context, machine string) ([]FileSystem, error)
	// GuestMounts lists the mount points of the guest's disks, by its agent.
	GuestMounts(ctx context.Context, machine string) ([]string, error)
	// ReadGuestFile reads a file in the guest, by its agent, up to limit bytes.
	ReadGuestFile(ctx context.Context, machine, path string, limit int64) ([]byte, error)
	Close() error
}
