// Package source is what the lodge asks of whatever has machines: to list them, to capture a moment of one, to make one from an image,
// and to look after one from inside. Each is a small interface of its own, for not every source can do all of it; a source's package
// registers how it is dialled. Package libvirt does it for QEMU, package sourcetest has a fake and what every source must pass.
package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"slices"
	"time"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/export"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
)

// ErrNoMachine marks a guest that the hypervisor does not have.
var ErrNoMachine = errors.New("no such guest")

// ErrUnreachable marks a hypervisor that does not answer, ErrBusy a guest that has something else to do just now. Both may pass.
var (
	ErrUnreachable = errors.New("does not answer")
	ErrBusy        = errors.New("it is busy")
)

// ErrNotRunning marks a machine that would have to run for what was asked.
var ErrNotRunning = errors.New("it does not run")

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
	// UUID is the machine's, where that is known: another one of its name is [ErrNoMachine].
	UUID string
	// ID is the image's. All that the capture leaves on its source bears it, so that it can be found and cleared.
	ID string
	// Policy and Run are what it is taken by, and ByHand says that a person asked for it, for what a source can write beside it.
	Policy, Run string
	ByHand      bool
	Quiesce     machine.Quiesce
	// Since is the ID of an earlier capture: only what was written since then is asked for. "" asks for all.
	Since string
	// Checkpoint says that a later capture may ask for what is written after this one.
	Checkpoint bool
	// Starting is called before a guest that is off is started paused; an error stops the capture.
	Starting func() error
	// Disks narrows the capture to these targets; empty for all.
	Disks []string
	// Files asks for files in place of disks, where the source can give such: the capture is an [Archiver] then.
	Files *FilesWanted
	// Secrets asks for what the machine keeps of secrets beside its disks, too: the state of its TPM.
	Secrets bool
	// Moment is called at "frozen", while the file systems stand still, and at "thawed"; an error at frozen ends the capture.
	Moment func(ctx context.Context, m site.Moment) error
	// Alive tells whether whoever made the capture of an ID is at work still, and whether anything is known of it: what a dead process left on
	// the machine is cleared before this capture begins. nil knows of nothing.
	Alive func(ctx context.Context, id string) (alive, known bool, err error)
	// Tell is called with what a person should know while disks are read, such as that the line was cut and is back; nil tells nobody.
	Tell func(format string, args ...any)
	// Holes says that what of a disk can't be read is to be zeros, which the capture then tells of as a [Holed]; otherwise it is an error.
	Holes bool
	// LongestFreeze is how long file systems may stand still for it, where the source can keep to that; 0 is 10 seconds.
	LongestFreeze time.Duration
	// Rest, if not nil, brings applications in the machine to rest before a freeze, and returns what tells them to go on, which is called after it
	// however it ended. Where it fails, none of them rests any more.
	Rest func(ctx context.Context) (goOn func(context.Context) error, err error)
	// Applications are what Rest is about, for a source that does it by itself, and tells so as a [Rester].
	Applications []site.Application
	// Watch is called before a freeze: it sees to it that the guest is thawed even if this process dies or hangs.
	Watch func() (Watchdog, error)
}

// FilesWanted says which files of a machine are wanted: the system state in parts, an export of itself, or folders.
type FilesWanted struct {
	System, Export bool
	// Parts are chosen ones, empty for all; LeaveOut are left out.
	Parts, LeaveOut []string
	Folders         []string
	// Ignore are patterns as of gitignore(5), from the root of the file system on. Personal takes people's own folders, too.
	Ignore   []string
	Personal bool
}

// OfTheDead is nil where a capture that is open on the machine, for the image of an ID, is one that a dead process of this lodge left, which is to be
// cleared. Otherwise it is [ErrBusy], and says whose it is.
func (r Request) OfTheDead(ctx context.Context, id string) error {
	if r.Alive == nil {
		return fmt.Errorf("%w: the capture of image %s is open on it", ErrBusy, id)
	}
	alive, known, err := r.Alive(ctx, id)
	switch {
	case err != nil:
		return err
	case alive:
		return fmt.Errorf("%w: another run captures it just now, for image %s", ErrBusy, id)
	case !known:
		return fmt.Errorf("%w: another lodge captures it, for image %s, or did and died", ErrBusy, id)
	}
	return nil
}

// ClearDead clears what captures of these IDs left on the machine that dead processes of this lodge made; one of a living one, or of another lodge, is
// [ErrBusy]. warnings say what was found. Sources use it before a capture begins.
func (r Request) ClearDead(ctx context.Context, c Capturer, ids []string) (warnings []string, err error) {
	for _, id := range ids {
		if err := r.OfTheDead(ctx, id); err != nil {
			return warnings, fmt.Errorf("guest %s: %w", r.Machine, err)
		}
		found, err := c.Clear(ctx, r.Machine, id, false)
		for _, f := range found {
			warnings = append(warnings, "a service that died had left something behind: "+f)
		}
		if err != nil {
			return warnings, err
		}
	}
	return warnings, nil
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
	// Firmware is what the machine's firmware keeps beside the disks, as far as it was asked for.
	Firmware() []image.Firmware
	// Consistency returns what state the data is in, and how long the guest's file systems stood still.
	Consistency() (image.Consistency, time.Duration)
	// Warnings list what is not in the capture, and why.
	Warnings() []string
	// Checkpoints are the IDs of earlier captures whose checkpoints the machine had when this one began.
	Checkpoints() []string
	// Close ends the capture and removes all that it created on its source. If kept, its checkpoint stays. The checkpoints of the IDs
	// in drop go, too. A second Close does what the first one could not, and otherwise nothing.
	Close(ctx context.Context, kept bool, drop []string) error
}

// Settler is a capture of a machine that goes on writing to its disks while they are read: they are as in one instant only once it has settled.
// Until then its consistency is not known.
type Settler interface {
	// Settle takes what was written to the disks since they were last read, and returns the disks of which something was: all else of them is
	// [disk.Unchanged]. It is called again, after they were read, until done.
	Settle(ctx context.Context) (disks []CapturedDisk, done bool, err error)
}

// Holed is a capture of disks that can go on where some of a disk can't be read.
type Holed interface {
	// Holes are the places where zeros stand for what is there, by target, in order; once the capture has settled.
	Holes() map[string][]image.Range
}

// Archiver is a capture of files: it has no disks.
type Archiver interface {
	// Archive is what [files.NewReader] reads. Since says that it tells only what is not as in the image that was asked for; where it does not, why
	// says why. Bytes is about how much it will be, 0 where that is not known.
	Archive() (archive io.Reader, since bool, why string, bytes int64)
}

// PartOf is a part of a machine's system state. Files and Bytes are what it would hold now; Output are files that commands make; Trouble says what
// of it can't be had.
type PartOf struct {
	Name, About  string
	Mandatory    bool
	Paths        []string
	Files, Bytes int64
	Output       []string
	Trouble      []string
}

// Parter tells of a machine's system state.
type Parter interface {
	// Parts lists the parts, and where measured how large each is.
	Parts(ctx context.Context, name string, measured bool) ([]PartOf, error)
}

// ErrExport marks an export that can't be taken back: it can't be opened, or is not what it says.
var ErrExport = errors.New("the export can't be used")

// Exporter is a source of machines that hand out exports of themselves, and take them back. Their captures are [Archiver]s of one file, and what they are
// defined by is an [export.Told].
type Exporter interface {
	Parter
	// OpenExport opens an export, reads it to its end, and tells what is in it. An error that wraps [ErrExport] is a verdict on it.
	OpenExport(ctx context.Context, told export.Told, content io.Reader) (evidence []string, err error)
	// Holding tells whether a machine has nothing of its own, and by what mark it took back what it has, "" for none.
	Holding(ctx context.Context, name string) (fresh bool, mark string, err error)
	// CanTakeBack says why a machine can't take an export back, nil where it can.
	CanTakeBack(ctx context.Context, name string, told export.Told) error
	// TakeBack has a machine be what an export says, all of it or nothing, and looks whether it is. What it leaves there bears a mark.
	TakeBack(ctx context.Context, name, mark string, told export.Told, content io.Reader) error
	// ClearTakeBack removes what a TakeBack left on a machine that did not end, and returns what it found. reset has one that took an export back by that
	// mark be fresh again.
	ClearTakeBack(ctx context.Context, name, mark string, reset bool) (found []string, err error)
}

// Rester is a capture that brings applications to rest by itself.
type Rester interface {
	// Rested tells what became of them.
	Rested() []image.Rested
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
	// Moving says that it is written to while it is read, by a [Settler]: what was compared may be something else already.
	Moving bool
	// Forgets says that the source keeps no list of what is written to it after this capture, though one was asked for: who wants to know
	// what changed has to compare.
	Forgets bool
}

// NewGuest describes a guest to define from a definition of the same hypervisor kind.
type NewGuest struct {
	Name       string
	Definition string
	// Disks gives each disk's place by target, as CreateDisk returned it. All are qcow2. Disks of the definition that
	// are not named are left out.
	Disks map[string]string
	// Variables is the place of its UEFI variables, as CreateDisk returned it; "" gives it fresh ones.
	Variables string
	// TPM is what its TPM keeps; nil gives it a fresh one.
	TPM []byte
	// Replace allows an existing guest of that name, which must be off, to be defined anew.
	Replace bool
	// Take names what of the definition is taken over though it reaches beyond the guest, as Define names what it leaves out.
	Take []string
	// Pausing has the guest stopped, and not told, where its disks can't be read or written; Unplugged leaves its network without a link.
	Pausing, Unplugged bool
	// Cards are the addresses of its network cards, by those in the definition, in small letters; one that is not named gets a fresh one.
	Cards map[string]string
	// Say, where it is not nil, is told what is another than in the definition, for the host can't run it as it is there.
	Say func(format string, args ...any)
}

// Pulling is how far a machine's disk has come to need nothing below it. Going says that its hypervisor is at it.
type Pulling struct {
	Target      string
	Going       bool
	Done, Total int64 // bytes
}

// Borrower runs machines on disks that are lent to it, with files over them.
type Borrower interface {
	// PoolFolder is the folder of a pool ("" for the source's own choice), in which disks lie over lent ones; far says that it is on another host, where
	// only the source itself can listen and look.
	PoolFolder(ctx context.Context, pool string) (folder string, far bool, err error)
	// ListenAt listens at a Unix socket of a far host, for what runs machines there and may open the file of a disk beside it. It ends with the line to
	// that host.
	ListenAt(ctx context.Context, socket, beside string) (net.Listener, error)
}

// Puller has machines that run on lent disks get the rest of these.
type Puller interface {
	Borrower
	// Below says over what the file of a disk lies on a far host, "" for nothing. One that is not there is [fs.ErrNotExist].
	Below(ctx context.Context, place string) (string, error)
	// Pull begins to pull what lies below a machine's disk, unless that is going on.
	Pull(ctx context.Context, name, target string) error
	// Pulled tells how far the disks of a machine have come, of these targets. Errors wrap [ErrNotRunning] where it fits: then nothing is pulled.
	Pulled(ctx context.Context, name string, targets []string) ([]Pulling, error)
	// GoOn has a machine go on that its hypervisor stopped for an error of a disk, and tells whether it was.
	GoOn(ctx context.Context, name string) (stopped bool, err error)
	// Discard makes a machine unknown that is off, with these files for disks and no others; one that is not there is no error. One that runs is
	// [ErrBusy].
	Discard(ctx context.Context, name string, places []string) error
}

// Source is a connection to something that has machines. Close it. What else it can do is asked with [As].
type Source interface {
	// Machines lists the machines, by name.
	Machines(ctx context.Context) ([]Machine, error)
	Close() error
}

// Capturer captures machines.
type Capturer interface {
	// Capture takes a moment of a machine. Errors wrap [ErrNoMachine] where it fits.
	Capture(ctx context.Context, r Request) (Capture, error)
	// Clear removes what a capture left that nobody closed: its job, its checkpoint, a guest that it had started paused, a freeze. It
	// returns what it found.
	Clear(ctx context.Context, name, id string, started bool) (found []string, err error)
	// Checkpoints lists the IDs of the captures whose checkpoints a machine has.
	Checkpoints(ctx context.Context, name string) ([]string, error)
	// DropCheckpoints removes checkpoints, as far as that can be done now, and returns those that are gone.
	DropCheckpoints(ctx context.Context, name string, ids []string) (removed []string, err error)
	// Thaw ends a freeze; a machine that is not frozen is no error.
	Thaw(ctx context.Context, name string) error
}

// Restorer makes machines.
type Restorer interface {
	// CreateDisk makes a disk's file, of length bytes of content, in a pool ("" for the source's own choice) and returns its place. If it
	// fails, nothing stays.
	CreateDisk(ctx context.Context, pool, name string, length int64, content io.Reader) (place string, err error)
	// RemoveDisk takes back what CreateDisk made, or has begun, and tells whether there was anything; what a machine has stays.
	RemoveDisk(ctx context.Context, pool, name string) (removed bool, err error)
	// Define makes a machine known, off, as a machine of its own. It tells what of the definition it left out, for it would reach the host: the
	// definition is the word of whoever could write to a store. Admit tells the same, and does nothing.
	Define(ctx context.Context, g NewGuest) (left []string, err error)
	Admit(g NewGuest) (left []string, err error)
	// Start powers a machine on.
	Start(ctx context.Context, name string) error
}

// Attacher gives a machine further disks.
type Attacher interface {
	// Attach gives a machine files as further disks, as CreateDisk returned their places, and tells what the disks are called. One that runs has them at
	// once.
	Attach(ctx context.Context, name string, places []string) (targets []string, err error)
}

// Reverter has a machine be again what it was.
type Reverter interface {
	// Described is how a machine is defined, for Revert.
	Described(ctx context.Context, name string) (string, error)
	// Revert defines a machine that is off as it was described: with the disks that it had then. One that runs is [ErrBusy].
	Revert(ctx context.Context, name, described string) error
}

// PlanSum sums up what becomes of files. Short says what there is no room for, "" where all fits; Notices are what a person should know before.
type PlanSum struct {
	Digest  string
	Counts  map[back.Action]back.Counts
	Short   string
	Notices []string
}

// Unpacker takes files back on a running machine.
type Unpacker interface {
	// PlanFiles says what would become of the files of a list. It changes nothing.
	PlanFiles(ctx context.Context, name string, o back.Order, list io.Reader, visit func(back.Step) error) (PlanSum, error)
	// PutFiles carries out the plan of a restore, with what [files.NewReader] reads. Its error says where it stopped: what was written stays, and the
	// restore may be planned and carried out again.
	PutFiles(ctx context.Context, name, id, digest string, archive io.Reader, progress func(back.Progress)) (back.Done, error)
	// UndoFiles takes a restore back.
	UndoFiles(ctx context.Context, name, id string, progress func(back.Progress)) (back.Done, error)
}

// Comparer compares a machine with what a definition of this source tells of.
type Comparer interface {
	// OtherSystem says in what the system that a machine runs now differs from that of a definition, "" where it is of the same release.
	OtherSystem(ctx context.Context, name, definition string) (string, error)
}

// Insider looks after a machine from inside, by an agent in it.
type Insider interface {
	// Ping asks the agent for a sign of life.
	Ping(ctx context.Context, name string) error
	// Execute runs a command and returns how it ended and the first 64 KiB of its output. A command that can't be started, or takes
	// longer than limit, is an error; the latter goes on in the machine.
	Execute(ctx context.Context, name string, command []string, limit time.Duration) (code int, output string, err error)
	// FileSystems lists the file systems that are mounted.
	FileSystems(ctx context.Context, name string) ([]FileSystem, error)
	// GuestMounts lists the mount points of the machine's disks.
	GuestMounts(ctx context.Context, name string) ([]string, error)
	// ReadGuestFile reads a file, up to limit bytes.
	ReadGuestFile(ctx context.Context, name, path string, limit int64) ([]byte, error)
}

// Addresser tells what addresses a machine has in its networks, by an agent in it: those of IPv4, without that of its own loopback.
type Addresser interface {
	Addresses(ctx context.Context, name string) ([]netip.Addr, error)
}

// SystemTeller tells what system a machine runs, with its kernel, in words, by an agent in it.
type SystemTeller interface {
	System(ctx context.Context, name string) (string, error)
}

// WriteTimer tells how a machine's own writes go.
type WriteTimer interface {
	// WriteTimes tells how many writes and flushes a machine's disks have carried out since it was powered on, and how long all of them
	// together took. Errors wrap [ErrNotRunning] where it fits.
	WriteTimes(ctx context.Context, name string) (writes int64, took time.Duration, err error)
}

// ThingKind says what a host has beside its machines.
type ThingKind string

// What a host may have.
const (
	Network ThingKind = "network"
	Pool    ThingKind = "pool"
	Secret  ThingKind = "secret"
)

// Thing is something that a host has beside its machines, and that they need. Definition is in the hypervisor's words; a secret's has no value.
type Thing struct {
	Kind       ThingKind
	Name       string
	Definition string
}

// Surveyor tells what stands around the machines of a host.
type Surveyor interface {
	// Around lists networks, storage pools and secrets.
	Around(ctx context.Context) ([]Thing, error)
}

// Facts are what a host tells of itself. Free and Total are bytes of its pool.
type Facts struct {
	// Version is that of what is spoken to, such as "libvirt 9.0.0, QEMU 7.2.19"; Host is what the host calls itself.
	Version, Host string
	// Pool is where disks are made that are restored, "" where there is none.
	Pool        string
	Free, Total int64
}

// Describer tells of the host itself.
type Describer interface {
	// Describe tells what the host is.
	Describe(ctx context.Context) (Facts, error)
}

// As is a source as far as it can do something, such as [Capturer]; what names that for the error, such as "capture machines".
func As[T any](s Source, what string) (T, error) {
	t, ok := s.(T)
	if !ok {
		return t, fmt.Errorf("%w: a source of this kind can't %s", fault.ErrConflict, what)
	}
	return t, nil
}

// Dialer connects to a source.
type Dialer func(ctx context.Context, spec site.Hypervisor) (Source, error)

// Prober tries a source step by step, before it is used. It ends at the first step without which the others make no sense.
type Prober func(ctx context.Context, spec site.Hypervisor) []probe.Step

type driver struct {
	dial  Dialer
	probe Prober
}

var drivers = map[string]driver{}

// Register makes a kind of source known. A source's package calls it when the program starts. p may be nil: then it is tried by listing its
// machines.
func Register(kind string, d Dialer, p Prober) {
	if p == nil {
		p = func(ctx context.Context, spec site.Hypervisor) []probe.Step { return list(ctx, d, spec) }
	}
	drivers[kind] = driver{d, p}
	site.RegisterSource(kind)
}

// list tries a source by listing its machines.
func list(ctx context.Context, dial Dialer, spec site.Hypervisor) []probe.Step {
	var steps probe.Steps
	s, err := dial(ctx, spec)
	if err != nil {
		steps.Tell("reach", probe.Failed, "%v", err)
		return steps
	}
	defer s.Close()
	steps.Tell("reach", probe.OK, "it answers")
	found, err := s.Machines(ctx)
	if err != nil {
		steps.Tell("machines", probe.Failed, "%v", err)
		return steps
	}
	steps.Tell("machines", probe.OK, "it has %d", len(found))
	return steps
}

// Dial connects to a source of the site.
func Dial(ctx context.Context, spec site.Hypervisor) (Source, error) {
	d, err := driverOf(spec)
	if err != nil {
		return nil, err
	}
	return d.dial(ctx, spec)
}

// Probe tries a source step by step.
func Probe(ctx context.Context, spec site.Hypervisor) ([]probe.Step, error) {
	d, err := driverOf(spec)
	if err != nil {
		return nil, err
	}
	return d.probe(ctx, spec), nil
}

func driverOf(spec site.Hypervisor) (driver, error) {
	d, ok := drivers[spec.SourceKind()]
	if !ok {
		known := slices.Sorted(maps.Keys(drivers))
		return d, fmt.Errorf("a source of kind %q is not known to this program%s", spec.SourceKind(), suggest.Hint(spec.SourceKind(), known))
	}
	return d, nil
}
