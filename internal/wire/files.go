package wire

import (
	"time"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
)

// NBD is what a connection is upgraded to on which a disk of an image is offered.
const NBD = "nbd"

// OpenedDisks are what lies on the disks of an image. Tree says that the machine's own mount table was found, so that its files are one tree.
type OpenedDisks struct {
	FileSystems []FileSystem `json:"file_systems"`
	Tree        bool         `json:"tree" doc:"the machine's mount table was found: its files are one tree, from / on"`
}

// FileSystem is a part of a disk with what lies in it. Sizes are in bytes.
type FileSystem struct {
	Name    string `json:"name" doc:"the disk's, with the number of the partition"`
	Format  string `json:"format"`
	Label   string `json:"label,omitempty"`
	UUID    string `json:"uuid,omitempty"`
	Size    int64  `json:"size"`
	Used    int64  `json:"used"`
	Mounted string `json:"mounted,omitempty" doc:"where the machine has it"`
	Why     string `json:"why,omitempty" doc:"why it is not open"`
	Locked  bool   `json:"locked" doc:"a key opens it"`
}

// FilesBack says which files of an image go back onto a machine, and how.
type FilesBack struct {
	Paths    []string      `json:"paths,omitempty" doc:"paths from / on, or NAME:PATH for those in a file system; none, of an image of system state, is all of it"`
	Parts    []string      `json:"parts,omitempty" doc:"of an image of system state, only these parts"`
	Machine  string        `json:"machine,omitempty" doc:"where to; by default the machine of which the image is"`
	At       string        `json:"at,omitempty" doc:"a folder into which they go; by default where they were"`
	Existing back.Existing `json:"existing,omitempty" doc:"what becomes of another file that is there; by default keep-both, and replace for system state"`
	Delete   bool          `json:"delete,omitempty" doc:"what lies in a folder of the paths and is not in the image's is deleted"`
	Forget   bool          `json:"forget,omitempty" doc:"what is replaced or deleted is not kept for a day"`
	Snapshot bool          `json:"snapshot,omitempty" doc:"a snapshot in place of the whole machine is taken before, and goes by itself after two days"`
	Personal bool          `json:"personal,omitempty" doc:"of system state: people's own folders, too"`
	Look     bool          `json:"look,omitempty" doc:"of a preview: in what the machine differs from the image now, also where nothing may be written"`
	Digest   string        `json:"digest,omitempty" doc:"that of the plan that was shown; where the machine is another by then, nothing is done"`
}

// FilesPlan is what becomes of files that go back. What is there as it is in the image is only counted.
type FilesPlan struct {
	Machine string        `json:"machine"`
	Digest  string        `json:"digest" doc:"tells this plan from others"`
	Counts  []ActionCount `json:"counts"`
	Steps   []FileStep    `json:"steps" doc:"the first of them, in the order in which they are carried out"`
	Short   string        `json:"short" doc:"what there is no room for; empty where all fits"`
	Notices []string      `json:"notices" doc:"what a person should know before"`
	Takes   Takes         `json:"takes"`
}

// PlanOf has of a plan how many paths something becomes of, and these steps.
func PlanOf(counts map[back.Action]back.Counts, steps []back.Step) FilesPlan {
	p := FilesPlan{Counts: []ActionCount{}, Steps: []FileStep{}, Notices: []string{}}
	for _, action := range back.Actions {
		if c := counts[action]; c.Paths > 0 {
			p.Counts = append(p.Counts, ActionCount{Action: action, Paths: c.Paths, Bytes: c.Bytes})
		}
	}
	for _, t := range steps {
		step := FileStep{Action: t.Action, Path: "/" + files.Readable(t.Path), Kind: t.Kind, Bytes: t.Bytes, Why: t.Why}
		if t.Old != nil && t.Action != back.Beside {
			step.Old = &FileThere{Kind: t.Old.Kind, Size: t.Old.Size, Modified: t.Old.Modified}
		}
		p.Steps = append(p.Steps, step)
	}
	return p
}

// Takes is how long something will take, as far as that is known.
type Takes struct {
	Seconds float64 `json:"seconds" doc:"0 where it is not known"`
	Bytes   int64   `json:"bytes"`
	Limit   string  `json:"limit" doc:"what limits it, such as store annex; empty where that is not known"`
	Text    string  `json:"text" doc:"the same in a sentence; empty where nothing is to be done"`
}

// ActionCount is how many paths something becomes of.
type ActionCount struct {
	Action back.Action `json:"action"`
	Paths  int64       `json:"paths"`
	Bytes  int64       `json:"bytes"`
}

// FileStep is what becomes of a path.
type FileStep struct {
	Action back.Action `json:"action"`
	Path   string      `json:"path" doc:"bytes that are no text are written as a backslash and three octal digits"`
	Kind   files.Kind  `json:"kind"`
	Bytes  int64       `json:"bytes" doc:"that are written, or go"`
	Old    *FileThere  `json:"old" doc:"what is there"`
	Why    string      `json:"why" doc:"why nothing becomes of it, or what is set"`
}

// FileThere is what is at a path. Size is in bytes.
type FileThere struct {
	Kind     files.Kind `json:"kind"`
	Size     int64      `json:"size"`
	Modified time.Time  `json:"modified"`
}

// FoundFiles are files of a machine's images that were found by their name.
type FoundFiles struct {
	Files    []FoundFile `json:"files"`
	Searched int         `json:"searched" doc:"how many images were searched"`
	Missing  []string    `json:"missing" doc:"images that were not, for nobody has opened them yet"`
	More     bool        `json:"more" doc:"there are more files than were asked for"`
}

// FoundFile is a file with its versions, the newest first.
type FoundFile struct {
	Path     string        `json:"path" doc:"as the calls that look into images take it"`
	Versions []FileVersion `json:"versions"`
}

// FileVersion is a file as some images have it.
type FileVersion struct {
	Kind        files.Kind `json:"kind"`
	Size        int64      `json:"size"`
	Modified    time.Time  `json:"modified"`
	Newest      string     `json:"newest" doc:"the newest of the images"`
	NewestTaken time.Time  `json:"newest_taken"`
	Oldest      string     `json:"oldest"`
	OldestTaken time.Time  `json:"oldest_taken"`
	Images      int        `json:"images" doc:"how many they are"`
}
