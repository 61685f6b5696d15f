package image

import "slices"

// State is how far an image can be used.
type State string

const (
	// Writing is not there yet.
	Writing State = "writing"
	// Usable can be restored, as far as anybody knows.
	Usable State = "usable"
	// Doubtful was found damaged once: a repair may make it usable again, a second reading at another time that agrees makes it broken.
	Doubtful State = "doubtful"
	// Broken can't be restored whole.
	Broken State = "broken"
)

// States lists every state.
var States = []State{Writing, Usable, Doubtful, Broken}

// Scope is what an image covers.
type Scope string

const (
	// WholeMachine is every disk, and the machine's definition.
	WholeMachine Scope = "machine"
	// SomeDisks are disks that were chosen.
	SomeDisks Scope = "disks"
	// SystemState is what brings a server's system back, in parts.
	SystemState Scope = "system"
	// SomeFiles are folders of a server that were chosen.
	SomeFiles Scope = "files"
	// Exported is what an appliance hands out of itself.
	Exported Scope = "export"
)

// InPlace is what a policy covers that keeps snapshots in place: no image is of this scope.
const InPlace Scope = "inplace"

// Scopes lists every scope of images.
var Scopes = []Scope{WholeMachine, SomeDisks, SystemState, SomeFiles, Exported}

// OfFiles reports whether an image of this scope holds files, and no disks.
func (s Scope) OfFiles() bool { return s == SystemState || s == SomeFiles || s == Exported }

// Capture is how an image was read.
type Capture string

const (
	// Full read everything that the disks hold.
	Full Capture = "full"
	// Incremental read what changed since the newest image, Differential since the newest full one.
	Incremental  Capture = "incremental"
	Differential Capture = "differential"
)

// Captures lists every capture.
var Captures = []Capture{Full, Incremental, Differential}

// Level is how much a proof shows.
type Level string

const (
	// ByRead read every piece back and matched it.
	ByRead Level = "read"
	// ByMount opened the file systems, or the archive that an export is, and read what is in it.
	ByMount Level = "mount"
	// ByBoot started the machine and had it answer.
	ByBoot Level = "boot"
	// ByRestore wrote the machine, or its files, out whole and compared that.
	ByRestore Level = "restore"
)

// Levels lists every level of proof, from the least to the most that is shown.
var Levels = []Level{ByRead, ByMount, ByBoot, ByRestore}

// AtLeast reports whether a level shows as much as another. An unknown one shows nothing.
func (l Level) AtLeast(other Level) bool {
	mine, theirs := slices.Index(Levels, l), slices.Index(Levels, other)
	return mine >= 0 && theirs >= 0 && mine >= theirs
}

// Fits reports whether images of a scope can be proven by a level: those of files have no file systems that could be opened, and nothing that could start;
// an export is opened as what it is.
func (l Level) Fits(s Scope) bool {
	return !s.OfFiles() || l == ByRead || l == ByRestore || l == ByMount && s == Exported
}

// Consistency is the state of the data in an image.
type Consistency string

const (
	// Application means that scripts in the guest ran and the freeze held.
	Application Consistency = "application"
	// FileSystem means that the freeze held.
	FileSystem Consistency = "filesystem"
	// Crash means as after a power cut.
	Crash Consistency = "crash"
	// Off means that the machine was switched off, so that nothing could be half written.
	Off Consistency = "off"
	// EachFile means that each file is as it was at a moment of its own, while the machine ran.
	EachFile Consistency = "each file"
)

// Consistencies lists every consistency, from the best to the least.
var Consistencies = []Consistency{Application, FileSystem, Off, EachFile, Crash}

// Provable lists the levels of proof that this program can carry out.
var Provable = []Level{ByRead, ByMount, ByBoot, ByRestore}
