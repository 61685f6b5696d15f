// Package image says what an image is: a manifest, and for each disk a map: a tree of blocks that say which piece, and which part of it, each range is.
package image

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/plain"
)

// Format is the version of the manifest that this program writes and the newest that it reads.
const Format = 1

// Manifest describes one image completely: whoever has it and the store's blocks can restore the machine.
type Manifest struct {
	Format  int    `json:"format"`
	ID      string `json:"id"`
	Machine string `json:"machine"`
	// Identity is the machine's, which stays when it is renamed or moves; "" in images made before there was one.
	Identity string    `json:"identity,omitempty"`
	Policy   string    `json:"policy"`
	Taken    time.Time `json:"taken"`
	Scope    Scope     `json:"scope"`
	Capture  Capture   `json:"capture"`
	// Since names the image since which only changes were read, "" for a full capture; Why says why it is full.
	Since string `json:"since,omitempty"`
	Why   string `json:"why,omitempty"`
	// Base names the image that this one leans on, "" for one that stands alone; in a pooled store all do.
	Base string `json:"base,omitempty"`
	// Copy says of a copy whence it came, nil for an image that was taken.
	Copy *Copy `json:"copy,omitempty"`
	// Locked is until when nothing may delete it, the zero time for no lock.
	Locked time.Time `json:"locked,omitzero"`
	// Note says what the image is for, where somebody wrote it; SeparateSet keeps it out of the set of scheduled ones.
	Note        string `json:"note,omitempty"`
	SeparateSet bool   `json:"apart,omitempty"`
	// Took is how long it took to make, in nanoseconds.
	Took time.Duration `json:"took,omitempty"`

	Consistency Consistency `json:"consistency"`
	// Frozen is how long the guest's file systems stood still, in nanoseconds.
	Frozen time.Duration `json:"frozen"`
	// Rested are the applications that were brought to rest for it.
	Rested []Rested          `json:"rested,omitempty"`
	Tags   map[string]string `json:"tags,omitempty"`

	// Hypervisor names where the machine lived; Definition is its description in that hypervisor's own words.
	Hypervisor string `json:"hypervisor"`
	Definition string `json:"definition"`
	// System is what system the machine ran, with its kernel, in the words of the agent in it, where there was one.
	System string `json:"system,omitempty"`
	Disks  []Disk `json:"disks"`
	// Files are those of an image that holds files, and no disks.
	Files *Files `json:"files,omitempty"`
	// Firmware is what the machine's firmware keeps beside the disks.
	Firmware []Firmware `json:"firmware,omitempty"`
	Sizes    Sizes      `json:"sizes"`
	Program  string     `json:"program"`
}

// Copy says whence an image came that was copied from another store: Of is the image that was taken, whatever others lie between; Image the one from which
// it was copied, in the store of that ID; Rule what the copy rule was called.
type Copy struct {
	Of    string    `json:"of"`
	Image string    `json:"image"`
	Store string    `json:"store"`
	Rule  string    `json:"rule"`
	At    time.Time `json:"at"`
}

// Lock locks an image for so long from a moment on; 0 is no lock.
func (m *Manifest) Lock(d time.Duration, now time.Time) {
	m.Locked = time.Time{}
	if d > 0 {
		m.Locked = now.Add(d).UTC().Truncate(time.Second)
	}
}

// ErrLocked marks an image that nothing may delete yet.
var ErrLocked = errors.New("it is locked")

// Deletable is nil where an image may be deleted at a moment; otherwise the error, which wraps [ErrLocked], says from when on.
func (m *Manifest) Deletable(now time.Time) error {
	if !m.Locked.After(now) {
		return nil
	}
	return fmt.Errorf("image %s: %w until %s; nothing deletes it before", m.ID, ErrLocked, m.Locked.UTC().Format("2006-01-02 15:04 MST"))
}

// Origin is the image of which it is a copy, or itself.
func (m *Manifest) Origin() string {
	if m.Copy != nil {
		return m.Copy.Of
	}
	return m.ID
}

// Disk is one disk of an image. Sizes are in bytes.
type Disk struct {
	Target string `json:"target"`
	Size   int64  `json:"size"`
	Format string `json:"format"`

	// In the open layout File is the disk's file in the machine's folder, of Length bytes with the BLAKE2b-512 Digest in
	// hexadecimal, and LeansOn the file of Base that it lies over, or "". In the pooled layout all are empty.
	File    string `json:"file,omitempty"`
	Length  int64  `json:"length,omitempty"`
	Digest  string `json:"digest,omitempty"`
	LeansOn string `json:"leans_on,omitempty"`

	// In the pooled layout Map is the name of the root map block in hexadecimal, "" for a disk of zeros.
	Map string `json:"map,omitempty"`
	// Data is how many bytes of the disk lie in pieces.
	Data int64 `json:"data,omitempty"`

	// Holes are places that could not be read on the machine, in order: zeros stand for what is there. An image with one is broken.
	Holes []Range `json:"holes,omitempty"`
}

// Range is a range of a disk, in bytes.
type Range struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// Lost is how many bytes of a disk could not be read.
func (d Disk) Lost() (n int64) {
	for _, r := range d.Holes {
		n += r.Length
	}
	return n
}

// HasHoles reports whether something of the machine's disks could not be read.
func (m *Manifest) HasHoles() bool {
	return slices.ContainsFunc(m.Disks, func(d Disk) bool { return len(d.Holes) > 0 })
}

// CheckHoles refuses places that can't be on a disk. Errors wrap [chunk.ErrDamaged].
func (d Disk) CheckHoles() error {
	if len(d.Holes) > mostHoles {
		return fmt.Errorf("%w: disk %s has %d places that could not be read", chunk.ErrDamaged, d.Target, len(d.Holes))
	}
	at := int64(0)
	for _, r := range d.Holes {
		if r.Offset < at || r.Length <= 0 || r.Length > d.Size-r.Offset {
			return fmt.Errorf("%w: disk %s of %d bytes has a place of %d bytes at %d that could not be read", chunk.ErrDamaged, d.Target, d.Size, r.Length, r.Offset)
		}
		at = r.Offset + r.Length
	}
	return nil
}

// Files are what an image of files holds. Sizes are in bytes.
type Files struct {
	// Entries are files of any kind, Bytes their content. Unread are those that could not be read as they were, Changed those that were written to
	// while they were read.
	Entries int64 `json:"entries"`
	Bytes   int64 `json:"bytes"`
	Unread  int64 `json:"unread,omitempty"`
	Changed int64 `json:"changed,omitempty"`
	// Parts are those of the system state, in their order.
	Parts []FilesPart `json:"parts,omitempty"`
	// LeftOut is what rules kept out.
	LeftOut []files.LeftOut `json:"left_out,omitempty"`
	// Whole are the paths that it holds with all below them, but for what was left out: what else lies there now was not there then.
	Whole []string `json:"whole,omitempty"`

	// In the pooled layout List is the list of all entries, and Content what their files hold, in the order of the list.
	List    Stream `json:"list,omitzero"`
	Content Stream `json:"content,omitzero"`
	// In the open layout Archive is a file of the machine's folder, as is ListFile.
	Archive  File `json:"archive,omitzero"`
	ListFile File `json:"list_file,omitzero"`
}

// FilesPart is a part of the system state in an image.
type FilesPart struct {
	Name    string `json:"name"`
	Entries int64  `json:"entries"`
	Bytes   int64  `json:"bytes"`
}

// File is one of an open store: its name in the machine's folder, its length in bytes and its BLAKE2b-512 in hexadecimal.
type File struct {
	Name   string `json:"name"`
	Length int64  `json:"length"`
	Digest string `json:"digest"`
}

// Take takes counts over; parts are in order of their names.
func (f *Files) Take(c *files.Counts) {
	f.Entries, f.Bytes, f.Unread, f.Changed, f.Parts = c.Entries, c.Bytes, c.Unread, c.Changed, nil
	for _, name := range slices.Sorted(maps.Keys(c.Parts)) {
		f.Parts = append(f.Parts, FilesPart{name, c.Parts[name].Entries, c.Parts[name].Bytes})
	}
}

// mostParts bounds the parts of an image, the rules that it tells of, and the paths that it holds whole.
const mostParts = 1000

// Clean makes what a server said fit to be kept: what it had more than a manifest may have is not told.
func (f *Files) Clean() {
	f.Parts, f.LeftOut = f.Parts[:min(len(f.Parts), mostParts)], f.LeftOut[:min(len(f.LeftOut), mostParts)]
	f.Whole = slices.DeleteFunc(f.Whole, func(p string) bool { return !files.IsPath(p) || plain.Text(p, mostText) != p })
	f.Whole = f.Whole[:min(len(f.Whole), mostParts)]
	for i := range f.Parts {
		f.Parts[i].Name = plain.Text(f.Parts[i].Name, 100)
	}
	for i := range f.LeftOut {
		l := &f.LeftOut[i]
		l.Rule = plain.Text(l.Rule, mostText)
		l.Largest = l.Largest[:min(len(l.Largest), 10)]
		for k := range l.Largest {
			l.Largest[k] = plain.Text(l.Largest[k], mostText)
		}
	}
}

// check says what can't be true. Errors wrap [chunk.ErrDamaged].
func (f *Files) check() error {
	if f.Entries < 0 || f.Bytes < 0 || f.Unread < 0 || f.Changed < 0 || len(f.Parts) > mostParts || len(f.LeftOut) > mostParts || len(f.Whole) > mostParts {
		return fmt.Errorf("%w: it has %d entries of %d bytes in %d parts", chunk.ErrDamaged, f.Entries, f.Bytes, len(f.Parts))
	}
	for _, v := range []File{f.Archive, f.ListFile} {
		if v != (File{}) && (!fileForm.MatchString(v.Name) || v.Length < 0) {
			return fmt.Errorf("%w: it has a file %.40q of %d bytes", chunk.ErrDamaged, v.Name, v.Length)
		}
	}
	return errors.Join(f.List.Check(), f.Content.Check())
}

// Sizes are a backup's figures in bytes: the disks' length, how much of them is not zeros, what the source gave, what was
// new to the store before and after compression.
type Sizes struct {
	Disks  int64 `json:"disks"`
	Data   int64 `json:"data"`
	Read   int64 `json:"read"`
	New    int64 `json:"new"`
	Stored int64 `json:"stored"`
}

// fileForm is a plain name: it leads into no other folder.
var fileForm = regexp.MustCompile(`^[A-Za-z0-9%][A-Za-z0-9%._-]{0,250}$`)

var idForm = regexp.MustCompile(`^[0-9a-z]{10}$`)

// targetForm is what a disk may be called: the name goes into paths and on screens.
var targetForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_-]{0,31}$`)

// IsTarget reports whether a disk can be called so: up to 32 letters, digits, dashes and underscores, the first a letter or digit.
func IsTarget(s string) bool { return targetForm.MatchString(s) }

const (
	// MaxDisk bounds a disk's length, in bytes: 8 PiB.
	MaxDisk = 8 << 50
	// mostHoles bounds the places of a disk that could not be read.
	mostHoles = 1 << 14
	// mostDisks bounds an image's disks, mostText a text of its manifest, mostDefinition its machine's definition, in bytes.
	mostDisks      = 1024
	mostText       = 4 << 10
	mostDefinition = 4 << 20
)

// clean makes the texts of a manifest fit to be kept and shown: whoever can write to a store wrote them.
func (m *Manifest) clean() {
	for _, text := range []*string{&m.Machine, &m.Identity, &m.Policy, &m.Since, &m.Why, &m.Base, &m.Note, &m.Hypervisor, &m.Program, (*string)(&m.Scope), (*string)(&m.Capture), (*string)(&m.Consistency)} {
		*text = plain.Text(*text, mostText)
	}
	m.Definition = plain.Text(m.Definition, mostDefinition)
	if m.Copy != nil {
		for _, text := range []*string{&m.Copy.Of, &m.Copy.Image, &m.Copy.Store, &m.Copy.Rule} {
			*text = plain.Text(*text, mostText)
		}
	}
	m.Rested = cleanRested(m.Rested)
	for i := range m.Firmware {
		m.Firmware[i].Left = plain.Text(m.Firmware[i].Left, mostText)
		m.Firmware[i].Kind = FirmwareKind(plain.Text(string(m.Firmware[i].Kind), 32))
	}
	tags := m.Tags
	m.Tags = nil
	for k, v := range tags {
		if m.Tags == nil {
			m.Tags = map[string]string{}
		}
		m.Tags[plain.Text(k, mostText)] = plain.Text(v, mostText)
	}
}

// IsID reports whether a word can be an image's name.
func IsID(s string) bool { return idForm.MatchString(s) }

// NewID draws an image's name: ten letters and digits, 50 random bits.
func NewID() string {
	// rand.Text is base32; lower case reads better in a table and needs no shift key.
	return strings.ToLower(rand.Text()[:10])
}

// Encode writes the manifest as the payload of an object.
func (m *Manifest) Encode() ([]byte, error) {
	body, err := json.Marshal(m)
	if err != nil {
		return nil, fmt.Errorf("manifest of image %s: %w", m.ID, err)
	}
	return body, nil
}

// ErrTooNew marks a manifest of a later program.
var ErrTooNew = errors.New("written by a newer program")

// Decode undoes Encode and checks what the rest of the program relies on. Errors wrap [chunk.ErrDamaged] or [ErrTooNew].
func Decode(body []byte) (*Manifest, error) {
	m := new(Manifest)
	if err := json.Unmarshal(body, m); err != nil {
		return nil, fmt.Errorf("manifest: %w: %v", chunk.ErrDamaged, err)
	}
	if m.Format > Format {
		return nil, fmt.Errorf("manifest: format %d: %w; update keenlodge", m.Format, ErrTooNew)
	}
	if !idForm.MatchString(m.ID) || m.Machine == "" {
		return nil, fmt.Errorf("manifest: %w: its id %q or machine %q is not one", chunk.ErrDamaged, m.ID, m.Machine)
	}
	if len(m.Disks) > mostDisks {
		return nil, fmt.Errorf("manifest of image %s: %w: it has %d disks", m.ID, chunk.ErrDamaged, len(m.Disks))
	}
	if len(m.Firmware) > mostFirmware {
		return nil, fmt.Errorf("manifest of image %s: %w: it has %d parts of firmware", m.ID, chunk.ErrDamaged, len(m.Firmware))
	}
	m.clean()
	if m.Files != nil {
		if err := m.Files.check(); err != nil {
			return nil, fmt.Errorf("manifest of image %s: %w", m.ID, err)
		}
		m.Files.Clean()
	}
	targets := map[string]bool{}
	for _, d := range m.Disks {
		if !targetForm.MatchString(d.Target) || targets[d.Target] || d.Size > MaxDisk {
			return nil, fmt.Errorf("manifest of image %s: %w: a disk is called %.40q and has size %d", m.ID, chunk.ErrDamaged, d.Target, d.Size)
		}
		if err := d.CheckHoles(); err != nil {
			return nil, fmt.Errorf("manifest of image %s: %w", m.ID, err)
		}
		targets[d.Target] = true
		if d.File != "" {
			if d.Size < 0 || !fileForm.MatchString(d.File) || d.LeansOn != "" && !fileForm.MatchString(d.LeansOn) || d.LeansOn != "" && m.Base == "" {
				return nil, fmt.Errorf("manifest of image %s: %w: disk %s has size %d and file %q over %q", m.ID, chunk.ErrDamaged, d.Target, d.Size, d.File, d.LeansOn)
			}
			continue
		}
		if d.Size < 0 {
			return nil, fmt.Errorf("manifest of image %s: %w: disk %s has size %d", m.ID, chunk.ErrDamaged, d.Target, d.Size)
		}
		if _, err := d.Root(); err != nil {
			return nil, fmt.Errorf("manifest of image %s: disk %s: %w", m.ID, d.Target, err)
		}
	}
	return m, nil
}

// Root is the name of the disk's root map block.
func (d Disk) Root() (chunk.Name, error) { return chunk.ParseName(d.Map) }

// Height is the number of levels of map blocks over the disk's pieces.
func (d Disk) Height() int { return height(d.Size) }
