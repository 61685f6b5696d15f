package line

import (
	"encoding/json"
	"time"

	"keenlodge/internal/core/back"
)

// The calls of the line, and what each is asked and answered with.
const (
	// CallAbout asks who the server is: nothing, [About].
	CallAbout = "about"
	// CallBegin begins a capture of disks: [Begin], [Begun].
	CallBegin = "begin"
	// CallRead reads a disk of a capture: [Read], then NBD: the export has the disk's target for a name, and what
	// changed is in its dirty bitmap [Bitmap].
	CallRead = "read"
	// CallSettle takes what was written to the disks of a capture since they were last read: [Settle], [Settled].
	CallSettle = "settle"
	// CallWalk begins a capture of files: [Walk], [Walked]. CallArchive reads it: [Archive], then what [files.NewReader] reads.
	CallWalk    = "walk"
	CallArchive = "archive"
	// CallCommand runs a command of the server's folder: [Command], [CommandEnded].
	CallCommand = "command"
	// CallParts lists the parts of the system state: [Parts], [PartsTold].
	CallParts = "parts"
	// CallOpen lists the captures that are open: nothing, [Known].
	CallOpen = "open"
	// CallEnd ends a capture: [End], nothing. CallClear ends one that its maker does not end any more: [End], [Cleared].
	CallEnd   = "end"
	CallClear = "clear"
	// CallKnown lists the captures since which the agent can tell what changed: nothing, [Known]. CallForget forgets some: [Known], [Known].
	CallKnown  = "known"
	CallForget = "forget"
	// CallThaw thaws what is frozen: nothing, nothing.
	CallThaw = "thaw"
	// CallPlan plans that files go back: [back.Order], then the list of them in [Chunks] → nothing, then [Planned], a JSON text a line.
	CallPlan = "plan"
	// CallPut carries a plan out: [Put], then what [files.NewReader] reads → nothing, then [Told].
	CallPut = "put"
	// CallUndo takes back what a restore of an ID did: the ID → nothing, then [Told].
	CallUndo = "undo"
	// CallMounts lists file systems: nothing, [Mounts].
	CallMounts = "mounts"
	// CallSnap takes a snapshot in place: [Snap], [Snapped]. CallSnaps lists them: nothing, [Snaps]. CallUnsnap removes one: [Unsnap], [Unsnapped].
	// CallBack goes back to one: [Unsnap], [WentBack].
	CallSnap   = "snap"
	CallSnaps  = "snaps"
	CallUnsnap = "unsnap"
	CallBack   = "back"
)

// Snap asks for a snapshot in place.
type Snap struct {
	ID   string `json:"id"`
	Note string `json:"note,omitempty"`
}

// Snapped is one that was taken. Of are the mount points that are in it, Left those that are not; Apart is how long its last part came after its first.
type Snapped struct {
	Ref   string        `json:"ref"`
	Taken time.Time     `json:"taken"`
	Of    []string      `json:"of"`
	Left  []string      `json:"left,omitempty"`
	Apart time.Duration `json:"apart"`
}

// SnapKept is a snapshot that is there. ID and Ref are empty for one that somebody else made.
type SnapKept struct {
	ID    string    `json:"id,omitempty"`
	Ref   string    `json:"ref,omitempty"`
	Name  string    `json:"name"`
	Note  string    `json:"note,omitempty"`
	Taken time.Time `json:"taken"`
}

// Snaps are those that are there.
type Snaps struct {
	Snaps []SnapKept `json:"snaps"`
}

// Unsnap names a snapshot, by its ID and its ref.
type Unsnap struct {
	ID  string `json:"id"`
	Ref string `json:"ref,omitempty"`
}

// Unsnapped tells whether there was one.
type Unsnapped struct {
	Was bool `json:"was"`
}

// WentBack tells what going back came to.
type WentBack struct {
	Told []string `json:"told"`
}

// Bitmap is the name of the bitmap that tells what changed on a disk.
const Bitmap = "since"

// Planned is a step of a plan, or, at last, its sum, or why there is none.
type Planned struct {
	Step   *back.Step `json:"step,omitempty"`
	Sum    *PlanSum   `json:"sum,omitempty"`
	Failed string     `json:"failed,omitempty"`
}

// PlanSum sums a plan up. Short says what there is no room for, "" where all fits.
type PlanSum struct {
	Digest string                      `json:"digest"`
	Counts map[back.Action]back.Counts `json:"counts"`
	Short  string                      `json:"short,omitempty"`
}

// Put carries out the plan that was made last for a restore, if it has this digest.
type Put struct {
	ID     string `json:"id"`
	Digest string `json:"digest"`
}

// Told is how far a restore has come, or, at last, what was carried out, and where it ended before its end, why.
type Told struct {
	Progress *back.Progress `json:"progress,omitempty"`
	Done     *back.Done     `json:"done,omitempty"`
	Failed   string         `json:"failed,omitempty"`
}

// About is who a server is. Sizes are in bytes.
type About struct {
	Host    string    `json:"host"`
	Program string    `json:"program"`
	System  string    `json:"system"` // such as "Debian GNU/Linux 12 (bookworm)"
	Kernel  string    `json:"kernel"`
	Arch    string    `json:"arch"`
	Disks   []Disk    `json:"disks"`
	Now     time.Time `json:"now"` // by its clock
}

// Disk is a disk that an agent offers.
type Disk struct {
	Target string `json:"target"`
	Size   int64  `json:"size"`
	// Left says why the disk is in no image, "" for one that is.
	Left string `json:"left,omitempty"`
}

// Begin asks for a capture. ID is the image's; Since that of an earlier one, since which only changes are asked for, or "".
type Begin struct {
	ID    string   `json:"id"`
	Since string   `json:"since,omitempty"`
	Disks []string `json:"disks,omitempty"` // empty for all
	// Remember says that a later capture may ask for what changed since this one.
	Remember bool `json:"remember,omitempty"`
	// Holes says that what of a disk can't be read is to be zeros.
	Holes bool `json:"holes,omitempty"`
}

// Begun is a capture that has begun.
type Begun struct {
	Disks []BegunDisk `json:"disks"`
	// Layout is all that is needed to lay the machine out again, as JSON.
	Layout   json.RawMessage `json:"layout"`
	Warnings []string        `json:"warnings,omitempty"`
}

// BegunDisk is a disk of a capture. Since says that it tells what changed; where that was asked for and can't be, Why says why.
type BegunDisk struct {
	Target string `json:"target"`
	Size   int64  `json:"size"`
	Since  bool   `json:"since,omitempty"`
	Why    string `json:"why,omitempty"`
}

// Read asks for a disk of a capture, as it is in a round: 0 before the first [Settle], then as that says.
type Read struct {
	ID     string `json:"id"`
	Target string `json:"target"`
	Round  int    `json:"round"`
}

// Settle asks that a capture come nearer to one instant. Round counts from 1: the answer to the newest round is given again to who asks again.
// Freeze says that file systems are to stand still for it, for Longest at most, Required that nothing else will do.
type Settle struct {
	ID       string        `json:"id"`
	Round    int           `json:"round"`
	Freeze   bool          `json:"freeze"`
	Longest  time.Duration `json:"longest"` // nanoseconds
	Required bool          `json:"required,omitempty"`
	// Last says that this is the last try: what then is not one instant fails.
	Last bool `json:"last,omitempty"`
	// Applications are brought to rest before file systems stand still, in this order, and told to go on after, in the opposite one.
	Applications []Application `json:"applications,omitempty"`
}

// Application is a file in the server's folder of commands, which is called with "before" and "after". Within is how long each call may take.
type Application struct {
	Name   string        `json:"name"`
	Within time.Duration `json:"within"` // nanoseconds
}

// Rested is what became of an application. Before and After are how long its calls took.
type Rested struct {
	Name   string        `json:"name"`
	Before time.Duration `json:"before"` // nanoseconds
	After  time.Duration `json:"after"`
	Failed string        `json:"failed,omitempty"`
}

// Command runs a file of the server's folder of commands, without arguments, for so long at most.
type Command struct {
	Name   string        `json:"name"`
	Within time.Duration `json:"within"` // nanoseconds
}

// CommandEnded is what came of it: how it ended, and the first 64 KiB of what it said.
type CommandEnded struct {
	Code   int    `json:"code"`
	Output string `json:"output"`
}

// Settled is what a capture came to: the disks on which something was written since they were read, and how much. Once Done they are, with what
// was read before, as they were in one instant.
type Settled struct {
	Done    bool             `json:"done"`
	Changed map[string]int64 `json:"changed,omitempty"` // bytes by target
	// Frozen is how long file systems stood still, Held whether all of them that could did until all was read.
	Frozen   time.Duration `json:"frozen"`
	Held     bool          `json:"held"`
	Warnings []string      `json:"warnings,omitempty"`
	// Rested are the applications that were called.
	Rested []Rested `json:"rested,omitempty"`
	// Holes are places that could not be read, by target; zeros stand for what is there. They are told with Done.
	Holes map[string][]Range `json:"holes,omitempty"`
}

// Range is a range of a disk, in bytes.
type Range struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// Files says which files are wanted: the system state in parts, or folders.
type Files struct {
	System bool `json:"system,omitempty"`
	// Parts are chosen ones, empty for all; LeaveOut are left out.
	Parts    []string `json:"parts,omitempty"`
	LeaveOut []string `json:"leave_out,omitempty"`
	Folders  []string `json:"folders,omitempty"`
	// Ignore are patterns as of gitignore(5), from the root of the file system on. Personal takes people's own folders, too.
	Ignore   []string `json:"ignore,omitempty"`
	Personal bool     `json:"personal,omitempty"`
	// Only are the paths that are wanted of all that, relative to the root; empty for all. Names that are no texts are as [back.Text] has them.
	Only []string `json:"only,omitempty"`
}

// Walk asks for a capture of files. ID, Since and Remember are as in [Begin].
type Walk struct {
	ID       string `json:"id"`
	Since    string `json:"since,omitempty"`
	Remember bool   `json:"remember,omitempty"`
	Files    Files  `json:"files"`
}

// Walked is a capture of files that has begun. Since says that only what changed is told; where that was asked for and can't be, Why says why.
// Bytes is about how much is to be read, where that is known beforehand.
type Walked struct {
	Since    bool            `json:"since,omitempty"`
	Why      string          `json:"why,omitempty"`
	Bytes    int64           `json:"bytes,omitempty"`
	System   json.RawMessage `json:"layout"` // what it is that the files are of, as JSON
	Warnings []string        `json:"warnings,omitempty"`
}

// Archive asks for the archive of a capture of files, from a byte on.
type Archive struct {
	ID   string `json:"id"`
	From int64  `json:"from"`
}

// Parts asks for the parts of the system state; Measure asks how large each is.
type Parts struct {
	Measure bool `json:"measure,omitempty"`
}

// PartsTold are the parts of a server.
type PartsTold struct {
	Parts []Part `json:"parts"`
}

// Part is a part of the system state. Bytes and Files are of what it would hold now, Output the files that commands make; Trouble says what of it
// can't be had.
type Part struct {
	Name      string   `json:"name"`
	About     string   `json:"about"`
	Mandatory bool     `json:"mandatory,omitempty"`
	Paths     []string `json:"paths"`
	Files     int64    `json:"files"`
	Bytes     int64    `json:"bytes"`
	Output    []string `json:"output,omitempty"`
	Trouble   []string `json:"trouble,omitempty"`
}

// End ends a capture. Kept says that its image exists; what was remembered for the captures of Drop is forgotten.
type End struct {
	ID   string   `json:"id"`
	Kept bool     `json:"kept,omitempty"`
	Drop []string `json:"drop,omitempty"`
}

// Cleared is what a capture had left.
type Cleared struct {
	Found []string `json:"found,omitempty"`
}

// Known are the IDs of captures.
type Known struct {
	IDs []string `json:"ids"`
}

// Mounts are a server's file systems. Used and Total are bytes.
type Mounts struct {
	Mounts []Mount `json:"mounts"`
}

// Mount is a file system that is mounted.
type Mount struct {
	Mounted string `json:"mounted"`
	Kind    string `json:"kind"`
	Used    int64  `json:"used"`
	Total   int64  `json:"total"`
}
