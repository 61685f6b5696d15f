package reader

import (
	"time"

	"keenlodge/internal/core/files"
	"keenlodge/internal/mount"
)

// What the host asks, and the guest answers, on a line as agents have (package line).
const (
	// CallOpen has the guest open what lies on its disks: [Disks] → [Opened].
	CallOpen = "open"
	// CallList lists a folder, or one file: [Where] → nothing, then what [files.NewListReader] reads.
	CallList = "list"
	// CallRead reads a file: [Read] → [Found], then its bytes.
	CallRead = "read"
	// CallArchive reads files with all that lies below them: [Where] → nothing, then what [files.NewReader] reads.
	CallArchive = "archive"
	// CallCount reads a file system's files: its name → [mount.Count].
	CallCount = "count"
	// CallUnlock opens what is locked, and all that lies in it: [Unlock] → [Opened].
	CallUnlock = "unlock"
	// CallCheck has a file system checked by its own tool: its name → [Checked]. Nobody else may be reading.
	CallCheck = "check"
	// CallExecute runs a program of the machine's own in its tree, which can be written to from then on: [Execute] → [Executed]. Nobody else may be reading.
	CallExecute = "execute"
	// CallLocate finds which files lie in ranges of a file system's volume: [Locate] → for each range the paths.
	CallLocate = "locate"
	// CallFit changes what lies on the disks: [Fit] → what was done, in words. Nobody else may be reading.
	CallFit = "fit"
	// CallRest puts down all that was written, and leaves the disks alone until something else is asked: nothing → nothing.
	CallRest = "rest"
)

// Fit says how what lies on disks is made fit for another machine, or for disks of another size. It is done in the order of the fields.
type Fit struct {
	// Shrink makes file systems smaller, Copies copies files into partitions that have no file system yet, Grow has what lies in partitions take all of their
	// room.
	Shrink []Resize `json:"shrink,omitempty"`
	Copies []Copies `json:"copies,omitempty"`
	Grow   []string `json:"grow,omitempty"`
	// Identity, if not nil, makes the machine another one.
	Identity *Identity `json:"identity,omitempty"`
	// Boot, if not nil, has the machine start by other firmware than it did.
	Boot *Boot `json:"boot,omitempty"`
	// Findable has firmware find the boot loader that knows nothing of it yet: UEFI's, by the name at which it looks on a disk that is new to it.
	Findable bool `json:"findable,omitempty"`
}

// OldDisk begins the names of disks that are there for [Copies] only.
const OldDisk = "old-"

// Resize says how long a file system is to be, in bytes.
type Resize struct {
	FileSystem string `json:"file_system"`
	Bytes      int64  `json:"bytes"`
}

// Copies says that what lies in one file system is to lie in another one, which is made: it has its format, name and UUID.
type Copies struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Boot says how a machine shall start: by UEFI, with a boot loader in a partition that is there for it and empty, or by a PC's BIOS, from a disk, with the
// rest of its boot loader in such a partition, or before the first one where Partition is "".
type Boot struct {
	UEFI      bool   `json:"uefi"`
	Disk      string `json:"disk"`
	Partition string `json:"partition,omitempty"`
}

// Identity is by what a machine is told from another one with the same files. Host is its name, "" for the one it has. It has a machine ID and SSH host
// keys of its own, and no leases and random seeds of the other one.
type Identity struct {
	Host string `json:"host,omitempty"`
	// Cards are the hardware addresses of its network cards, by those that they had.
	Cards map[string]string `json:"cards,omitempty"`
}

// Unlock is what opens something that is locked.
type Unlock struct {
	FileSystem string `json:"file_system"`
	Key        []byte `json:"key"`
}

// Checked is what the tool of a file system says of it. Where there is none for its kind, or not on this host, Tool is "".
type Checked struct {
	Tool string `json:"tool,omitempty"`
	// Clean says that it found nothing; Said is what it said at the end.
	Clean bool   `json:"clean"`
	Said  string `json:"said,omitempty"`
}

// Execute is a program of the machine's own: words, the first its name or path, and how long it may take, in nanoseconds.
type Execute struct {
	Command []string      `json:"command"`
	Limit   time.Duration `json:"limit"`
}

// Executed is how a program ended: its code, the last 64 KiB of what it said, and whether it was ended because it took too long.
type Executed struct {
	Code int    `json:"code"`
	Said string `json:"said"`
	Late bool   `json:"late,omitempty"`
}

// Disks are the names of the guest's disks, in their order.
type Disks struct {
	Names []string `json:"names"`
}

// Opened is what was found on the disks. Tree says that the machine's own mount table was found, so that its files are one tree, as they were on it.
type Opened struct {
	FileSystems []FileSystem `json:"file_systems"`
	Tree        bool         `json:"tree"`
}

// FileSystem is a part of a disk, or a volume over some, with what lies in it. Sizes are in bytes.
type FileSystem struct {
	// Name is what it is called in paths: the disk's name, with the number of the partition; an array's, such as md0; a volume's, such as vg/data.
	Name string `json:"name"`
	// Disk and Offset are where it begins, Disk "" where it is not one stretch of a disk.
	Disk   string `json:"disk,omitempty"`
	Offset int64  `json:"offset,omitempty"`
	Format string `json:"format"`
	Label  string `json:"label,omitempty"`
	UUID   string `json:"uuid,omitempty"`
	Size   int64  `json:"size"`
	Used   int64  `json:"used"`
	// Mounted is where the machine has it, Why why it is not open.
	Mounted string `json:"mounted,omitempty"`
	Why     string `json:"why,omitempty"`
	// Locked says that a key opens it.
	Locked bool `json:"locked,omitempty"`
	// Refused says that the kernel knows the kind, and did not take what lies there.
	Refused bool `json:"refused,omitempty"`
}

// Locate asks which files lie in some ranges.
type Locate struct {
	FileSystem string        `json:"file_system"`
	Ranges     []mount.Range `json:"ranges"`
}

// Where is a place: a path in a file system of a name, or, where that is "", in the machine's tree.
type Where struct {
	FileSystem string `json:"file_system,omitempty"`
	Path       string `json:"path"`
	// Below, of a list, asks for all that lies below the folder, Self for the folder itself, too, and Full for all that is to be known of each: which
	// names are of one file, and attributes.
	Below bool `json:"below,omitempty"`
	Self  bool `json:"self,omitempty"`
	Full  bool `json:"full,omitempty"`
	// Also, of an archive, are further paths, Only those that are wanted of all of them, as [line.Files] has it.
	Also []string `json:"also,omitempty"`
	Only []string `json:"only,omitempty"`
}

// Read asks for a range of a file; Length below 0 is all of the rest.
type Read struct {
	Where
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// Found is the file that is read, and how many bytes follow.
type Found struct {
	Entry  files.Entry `json:"entry"`
	Length int64       `json:"length"`
}
