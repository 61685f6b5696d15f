package wire

import (
	"time"

	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/layout"
	"keenlodge/internal/core/trial"
	"keenlodge/internal/core/unusual"
)

// Image is one machine at one moment, restorable. Size, Read, NewBytes and Stored are bytes: the disks' length, what the source gave, what
// was new to the store before and after compression.
type Image struct {
	ID          string            `json:"id"`
	Machine     string            `json:"machine"`
	MachineID   string            `json:"machine_id"`
	Policy      string            `json:"policy"`
	Store       string            `json:"store"`
	Run         string            `json:"run"`
	Taken       time.Time         `json:"taken"`
	State       image.State       `json:"state"`
	Scope       image.Scope       `json:"scope"`
	Capture     image.Capture     `json:"capture"`
	Since       string            `json:"since" doc:"the image since which only changes were read, or empty"`
	CaptureWhy  string            `json:"capture_why" doc:"why it is full, where it is"`
	Base        string            `json:"base" doc:"the image that it leans on, or empty for one that stands alone"`
	Consistency image.Consistency `json:"consistency"`
	Frozen      int64             `json:"frozen" doc:"nanoseconds that the guest's file systems stood still"`
	Pinned      bool              `json:"pinned"`
	PinNote     string            `json:"pin_note"`
	Disks       []ImageDisk       `json:"disks"`
	Size        int64             `json:"size"`
	Read        int64             `json:"read"`
	NewBytes    int64             `json:"fresh"`
	Stored      int64             `json:"stored"`
	Note        string            `json:"note" doc:"what it is for, where somebody wrote it"`
	SeparateSet bool              `json:"apart" doc:"made by hand, and no part of the scheduled ones' set"`
	Took        int64             `json:"took" doc:"nanoseconds that it took to make"`
	Gone        *time.Time        `json:"gone"`
	GoneWhy     string            `json:"gone_why"`
	Proven      image.Level       `json:"proven" doc:"the best level of a passed proof, or empty"`
	ProvenAt    *time.Time        `json:"proven_at"`
	Failed      bool              `json:"failed" doc:"the newest proof failed, which outranks all"`
	Odd         int               `json:"odd" doc:"how many things in it are unusual at which nobody has looked"`
	InStore     bool              `json:"in_store" doc:"of an image that is gone: it still lies in its store"`
	Firmware    []ImageFirmware   `json:"firmware" doc:"what it has, and has not, of what the machine's firmware keeps beside the disks"`
	Leaving     bool              `json:"leaving" doc:"of an image that is gone: it is on its way out, and can't be brought back"`
	Rested      []image.Rested    `json:"rested" doc:"applications that were brought to rest for it"`
	Files       *ImageFiles       `json:"files" doc:"what an image of files holds; null is one of disks"`
	Locked      *time.Time        `json:"locked" doc:"until when nothing can delete it; null for no lock"`
	CopyOf      string            `json:"copy_of" doc:"the image of which it is a copy in another store, or empty"`
	CopiedBy    string            `json:"copied_by" doc:"the copy rule that made it, or empty"`
	Also        []Twin            `json:"also" doc:"the same image in other places"`
}

// Twin is an image that is the same as another one, elsewhere; each is proven by itself.
type Twin struct {
	ID     string      `json:"id"`
	Store  string      `json:"store"`
	Place  string      `json:"place" doc:"where that store is, or empty"`
	State  image.State `json:"state"`
	Proven image.Level `json:"proven"`
	Failed bool        `json:"failed"`
}

// ImageFiles is what an image of files holds. Bytes are of their content.
type ImageFiles struct {
	Entries int64             `json:"entries" doc:"files of any kind"`
	Bytes   int64             `json:"bytes"`
	Unread  int64             `json:"unread" doc:"that could not be read as they were"`
	Changed int64             `json:"changed" doc:"that were written to while they were read"`
	Parts   []image.FilesPart `json:"parts" doc:"of the system state"`
	LeftOut []files.LeftOut   `json:"left_out" doc:"what rules kept out, the most first"`
}

// UnreadFile is one that a run could not read as it was.
type UnreadFile struct {
	Machine string `json:"machine"`
	Path    string `json:"path" doc:"bytes that are no text are written as a backslash and three octal digits"`
	Why     string `json:"why" doc:"why it could not be read; empty where it was, and was written to meanwhile"`
	Changed bool   `json:"changed"`
}

// ImageDisk is a disk of an image. Size is in bytes.
type ImageDisk struct {
	Target string `json:"target"`
	Size   int64  `json:"size"`
	Lost   int64  `json:"lost,omitempty" doc:"bytes that could not be read on the machine; zeros stand for them"`
}

// ImageFirmware is something that a machine's firmware keeps beside the disks.
type ImageFirmware struct {
	Kind image.FirmwareKind `json:"kind" doc:"uefi-variables or tpm-state"`
	Size int64              `json:"size"`
	Left string             `json:"left" doc:"why the image does not have it; empty where it does"`
}

// Proof is evidence that an image can be trusted, or that it can't.
type Proof struct {
	ID       int64       `json:"id"`
	Image    string      `json:"image"`
	Run      string      `json:"run"`
	Level    image.Level `json:"level"`
	Passed   bool        `json:"passed"`
	Began    time.Time   `json:"began"`
	Ended    time.Time   `json:"ended"`
	Program  string      `json:"program"`
	Evidence []string    `json:"evidence"`
	Error    string      `json:"error"`
	// Report is what a trial showed.
	Report *trial.Report `json:"report,omitempty" doc:"what a trial showed; times are in nanoseconds"`
}

// ProvenImage is an image with its proofs, newest first.
type ProvenImage struct {
	Image
	Status string `json:"status" doc:"in one line how far it can be trusted"`
	// LastGood is the newest other image of its machine that passed the proof that this one failed.
	LastGood string    `json:"last_good" doc:"where its newest proof failed: the newest other image of its machine that passed such a proof, or empty"`
	Changed  string    `json:"changed" doc:"what changed in its files since that one, in words, where both are listed"`
	Unusual  []Oddity  `json:"unusual"`
	Looked   *LookedAt `json:"looked" doc:"who looked at what is unusual"`
	Proofs   []Proof   `json:"proofs"`
}

// Oddity is something unusual in an image.
type Oddity struct {
	Kind  unusual.Kind `json:"kind"`
	Text  string       `json:"text"`
	Found time.Time    `json:"found"`
}

// LookedAt says who looked at what is unusual in an image, when, and what was seen.
type LookedAt struct {
	Who  string    `json:"who"`
	At   time.Time `json:"at"`
	Note string    `json:"note"`
}

// ImageFilter narrows a listing of images; empty fields do not.
type ImageFilter struct {
	// ID is how the images' IDs begin.
	ID                     string
	Machine, Policy, Store string
	// Gone lists those that rotation dropped, too; OnlyGone no others.
	Gone, OnlyGone bool
	Page
}

// RestorePreview is what a restore of an image as a guest will come to.
type RestorePreview struct {
	Takes Takes    `json:"takes"`
	Left  []string `json:"left" doc:"what of the machine's definition is left out, for it reaches beyond the guest"`
	Disks []Refit  `json:"disks" doc:"disks that will be divided otherwise than in the image"`
}

// Refit is how a disk will be divided. Sizes are in bytes.
type Refit struct {
	Target  string       `json:"target"`
	Was     int64        `json:"was"`
	Size    int64        `json:"size"`
	Table   layout.Table `json:"table"`
	Parts   []RefitPart  `json:"parts"`
	Free    int64        `json:"free" doc:"how much at its end belongs to nothing"`
	Notices []string     `json:"notices"`
}

// RefitPart is what becomes of a partition. Bytes count from the disk's begin.
type RefitPart struct {
	Number    int        `json:"number" doc:"0 of a disk without partitions"`
	Format    string     `json:"format"`
	Way       layout.Way `json:"way"`
	WasOffset int64      `json:"was_offset"`
	WasSize   int64      `json:"was_size"`
	Offset    int64      `json:"offset"`
	Size      int64      `json:"size"`
}

// RestoreBody says how an image is to be restored.
type RestoreBody struct {
	As         string   `json:"as" doc:"name of the guest to make"`
	Hypervisor string   `json:"hypervisor,omitempty" doc:"where; by default where the machine lived"`
	Pool       string   `json:"pool,omitempty" doc:"storage pool for its disks"`
	Start      bool     `json:"start,omitempty" doc:"power it on, and wait for its guest agent"`
	Replace    bool     `json:"replace,omitempty" doc:"allow a guest of that name, which must be off, to be defined anew"`
	Take       []string `json:"take,omitempty" doc:"what of the definition is taken over though it reaches beyond the guest, by the names that a restore's log gives to what it left out"`
	AtOnce     bool     `json:"at_once,omitempty" doc:"start it within seconds, with its disks still in the store, and pull the rest behind it"`
	Boot       bool     `json:"boot,omitempty" doc:"start it so for a while only: nothing is pulled, its network has no link, and all of it goes when it is off"`
	Connected  bool     `json:"connected,omitempty" doc:"with boot: its network has a link"`
	Clones     []string `json:"clones,omitempty" doc:"names of further guests to make of it"`
	Only       []string `json:"only,omitempty" doc:"only these disks of the image, by target"`
	Into       bool     `json:"into,omitempty" doc:"give the disks to the guest of that name, which is there, as further ones"`
	// Sizes are in bytes.
	Sizes    map[string]int64 `json:"sizes,omitempty" doc:"disks that are to have another size than in the image, in bytes, by target"`
	Identity bool             `json:"identity,omitempty" doc:"give each guest a machine ID, SSH host keys, addresses of network cards and a host name of its own"`
}
