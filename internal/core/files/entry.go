// Package files says what an image of files is: entries in the order of a walk, a list of them that is an mtree(5) specification, and the pax
// archive (IEEE Std 1003.1-2008, pax) in which they travel between processes and lie in an open store.
package files

import (
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/chunk"
)

// Kind is what an entry is, in mtree's words.
type Kind string

// The kinds of entries.
const (
	File  Kind = "file"
	Dir   Kind = "dir"
	Link  Kind = "link" // symbolic
	Char  Kind = "char"
	Block Kind = "block"
	Fifo  Kind = "fifo"
	// Unseen is what could not even be looked at; mtree has no word for it.
	Unseen Kind = "unseen"
)

// kinds are those that mtree knows.
var kinds = []Kind{File, Dir, Link, Char, Block, Fifo}

// Span is a range of a file, in bytes.
type Span struct{ Offset, Length int64 }

// Entry is a file of any kind. Its path is relative to the root, without a slash at its begin; it and all other texts are bytes as the file system
// keeps them.
type Entry struct {
	Path         string
	Kind         Kind
	Mode         uint32 // permissions, set-id and sticky bits: 07777
	UID, GID     uint32
	Owner, Group string
	Modified     time.Time
	// Size is a file's length in bytes. Data are the ranges that are not holes, in rising order; nil is all of it. They begin and end at multiples of
	// [SpanUnit], or at the file's end.
	Size int64
	Data []Span
	// Target is where a symbolic link points at. Same is the path of an earlier entry of which this is a hard link: it has no content of its own.
	Target, Same string
	Major, Minor uint32 // of a device
	// Xattrs are extended attributes, among them ACLs and capabilities as the kernel keeps them.
	Xattrs map[string]string
	// Part is the part of the system state to which it belongs, or "".
	Part string
	// Digest is the SHA-256 of a file's content in hexadecimal, where that was taken.
	Digest string
	// Unread says why it is not in the image as it was, "" where it is. Changed says that it was written to while it was read.
	Unread  string
	Changed bool
}

// Stored is how many bytes of content it has in the image.
func (e *Entry) Stored() (n int64) {
	if e.Kind != File || e.Same != "" {
		return 0
	}
	if e.Data == nil {
		return e.Size
	}
	for _, s := range e.Data {
		n += s.Length
	}
	return n
}

// SpanUnit is what ranges of files with holes are multiples of, in bytes: tar's block, for GNU tar reads no others.
const SpanUnit = 512

const (
	// MaxPath bounds a path, in bytes; a name in it has at most 255, as in every file system of Linux.
	MaxPath, maxName = 64 << 10, 255
	// mostXattrs bounds the extended attributes of one entry, names and values, in bytes; mostSpans a file's ranges.
	mostXattrs, mostSpans = 1 << 20, 1 << 16
)

// IsPath reports whether a path can be an entry's: it leads nowhere but down. "." is the root.
func IsPath(p string) bool {
	if p == "." {
		return true
	}
	if p == "" || len(p) > MaxPath || strings.IndexByte(p, 0) >= 0 {
		return false
	}
	for name := range strings.SplitSeq(p, "/") {
		if name == "" || name == "." || name == ".." || len(name) > maxName {
			return false
		}
	}
	return true
}

// Check says what can't be true of an entry; whoever wrote it may be hostile. Errors wrap [chunk.ErrDamaged].
func (e *Entry) Check() error {
	wrong := func(what string, args ...any) error {
		return fmt.Errorf("%w: the entry %.200q %s", chunk.ErrDamaged, e.Path, fmt.Sprintf(what, args...))
	}
	if !IsPath(e.Path) {
		return wrong("has no path that can be one")
	}
	if e.Mode&^07777 != 0 || e.Size < 0 || e.Kind != File && (e.Size != 0 || e.Data != nil) {
		return wrong("has mode %o and %d bytes, as %s", e.Mode, e.Size, e.Kind)
	}
	if e.Same != "" && (e.Kind != File || !IsPath(e.Same) || e.Size != 0) {
		return wrong("is a hard link to %.200q", e.Same)
	}
	if len(e.Target) > MaxPath || strings.IndexByte(e.Target, 0) >= 0 || (e.Kind == Link) != (e.Target != "") {
		return wrong("points at %.200q", e.Target)
	}
	if len(e.Data) > mostSpans {
		return wrong("has %d ranges", len(e.Data))
	}
	next := int64(0)
	for _, s := range e.Data {
		if s.Offset < next || s.Length <= 0 || s.Length > e.Size || s.Offset > e.Size-s.Length || s.Offset%SpanUnit != 0 || s.Length%SpanUnit != 0 && s.Offset+s.Length != e.Size {
			return wrong("has a range of %d bytes at %d, of %d", s.Length, s.Offset, e.Size)
		}
		next = s.Offset + s.Length
	}
	n := 0
	for k, v := range e.Xattrs {
		if k == "" || len(k) > maxName || strings.ContainsAny(k, "=\x00") {
			return wrong("has an extended attribute %.200q", k)
		}
		n += len(k) + len(v)
	}
	if n > mostXattrs {
		return wrong("has %d bytes of extended attributes", n)
	}
	return nil
}

// FileMode is its mode as io/fs has it.
func (e *Entry) FileMode() fs.FileMode {
	m := fs.FileMode(e.Mode & 0o777)
	for bit, mode := range map[uint32]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if e.Mode&bit != 0 {
			m |= mode
		}
	}
	return m | map[Kind]fs.FileMode{Dir: fs.ModeDir, Link: fs.ModeSymlink, Char: fs.ModeDevice | fs.ModeCharDevice, Block: fs.ModeDevice, Fifo: fs.ModeNamedPipe, Unseen: fs.ModeIrregular}[e.Kind]
}

// Content reads a file's content from an offset on, with zeros where it has holes; stored has what [Entry.Stored] counts.
func (e *Entry) Content(stored io.ReaderAt, offset int64) io.Reader {
	if e.Data == nil {
		return io.NewSectionReader(stored, offset, max(0, e.Size-offset))
	}
	var parts []io.Reader
	at, from := offset, int64(0)
	for _, s := range append(slices.Clone(e.Data), Span{Offset: e.Size}) {
		if s.Offset > at {
			parts = append(parts, io.LimitReader(zeroes{}, s.Offset-at))
			at = s.Offset
		}
		if skip := at - s.Offset; skip < s.Length {
			parts = append(parts, io.NewSectionReader(stored, from+skip, s.Length-skip))
			at = s.Offset + s.Length
		}
		from += s.Length
	}
	return io.MultiReader(parts...)
}

// Flowing is [Entry.Content] from the begin of what is read once, from its begin to its end.
func (e *Entry) Flowing(stored io.Reader) io.Reader {
	if e.Kind != File || e.Same != "" || e.Data == nil {
		return stored
	}
	var parts []io.Reader
	at := int64(0)
	for _, s := range append(slices.Clone(e.Data), Span{Offset: e.Size}) {
		parts = append(parts, io.LimitReader(zeroes{}, s.Offset-at), io.LimitReader(stored, s.Length))
		at = s.Offset + s.Length
	}
	return io.MultiReader(parts...)
}

// Dense is what is stored of a file, of its whole content: it passes over the holes.
func (e *Entry) Dense(content io.Reader) io.Reader {
	if e.Data == nil {
		return content
	}
	var parts []io.Reader
	at := int64(0)
	for _, s := range e.Data {
		parts = append(parts, passing{content, s.Offset - at}.reader(), io.LimitReader(content, s.Length))
		at = s.Offset + s.Length
	}
	return io.MultiReader(parts...)
}

// passing passes over so many bytes.
type passing struct {
	from io.Reader
	n    int64
}

func (p passing) reader() io.Reader { return &p }

func (p *passing) Read([]byte) (int, error) {
	if _, err := io.CopyN(io.Discard, p.from, p.n); err != nil {
		return 0, err
	}
	p.n = 0
	return 0, io.EOF
}

// zeroes reads as zeros without end.
type zeroes struct{}

func (zeroes) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}
