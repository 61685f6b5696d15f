package files

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// mostRecords bounds the records of one header, in bytes.
const mostRecords = 4 << 20

// paxReader reads headers of an archive that [WireWriter] wrote, and what lies between them.
type paxReader struct {
	in      io.Reader
	left    int64 // of the content under way
	padding int64
	block   [blockSize]byte
	records []byte
}

// errArchive marks an archive that is none.
var errArchive = errors.New("the archive can't be read")

// Read reads content of the entry under way.
func (r *paxReader) Read(p []byte) (int, error) {
	if r.left == 0 {
		return 0, io.EOF
	}
	n, err := r.in.Read(p[:min(int64(len(p)), r.left)])
	r.left -= int64(n)
	if errors.Is(err, io.EOF) {
		err = nil
		if n == 0 && len(p) > 0 {
			err = io.ErrUnexpectedEOF
		}
	}
	return n, err
}

// next reads the next header; [io.EOF] is the archive's end.
func (r *paxReader) next() (h head, err error) {
	if _, err := io.CopyN(io.Discard, r.in, r.left+r.padding); err != nil {
		return h, err
	}
	r.left, r.padding = 0, 0
	var records map[string]string
	for {
		if _, err := io.ReadFull(r.in, r.block[:]); err != nil {
			return h, err
		}
		if r.block == [blockSize]byte{} {
			return h, io.EOF
		}
		if err := r.parse(&h); err != nil {
			return h, err
		}
		if h.kind != typeRecords {
			break
		}
		if records, err = r.readRecords(h.size); err != nil {
			return h, err
		}
		h = head{}
	}
	if h.kind == typeGlobal {
		h.records, err = r.readRecords(h.size)
		return h, err
	}
	if err := h.take(records); err != nil {
		return h, err
	}
	r.left, r.padding = h.size, padding(h.size)
	if h.size < 0 || h.size > 0 && h.kind != typeFile {
		return h, fmt.Errorf("%w: %.100q has %d bytes", errArchive, h.name, h.size)
	}
	return h, nil
}

// parse reads the block's fields.
func (r *paxReader) parse(h *head) error {
	b := r.block[:]
	sum, err := number(b[148:156])
	if err != nil || sum != checksum(b) {
		return fmt.Errorf("%w: the sum of a header is wrong", errArchive)
	}
	var numbers [7]int64
	for i, at := range [7][2]int{{100, 108}, {108, 116}, {116, 124}, {124, 136}, {136, 148}, {329, 337}, {337, 345}} {
		if numbers[i], err = number(b[at[0]:at[1]]); err != nil {
			return fmt.Errorf("%w: a number of a header: %w", errArchive, err)
		}
	}
	*h = head{name: text(b[:100]), link: text(b[157:257]), owner: text(b[265:297]), group: text(b[297:329]), kind: b[156], mode: uint32(numbers[0]), uid: uint32(numbers[1]), gid: uint32(numbers[2]),
		size: numbers[3], modified: time.Unix(numbers[4], 0).UTC(), major: uint32(numbers[5]), minor: uint32(numbers[6])}
	return nil
}

func text(field []byte) string {
	if i := bytes.IndexByte(field, 0); i >= 0 {
		field = field[:i]
	}
	return string(field)
}

// number reads octal digits up to a zero or a blank.
func number(field []byte) (n int64, err error) {
	for _, c := range field {
		switch {
		case c == 0 || c == ' ':
			return n, nil
		case c < '0' || c > '7':
			return 0, fmt.Errorf("%q has no octal digits", field)
		}
		n = n<<3 | int64(c-'0')
	}
	return n, nil
}

// readRecords reads the records of a header.
func (r *paxReader) readRecords(size int64) (map[string]string, error) {
	if size < 0 || size > mostRecords {
		return nil, fmt.Errorf("%w: a header has %d bytes of records", errArchive, size)
	}
	whole := int(size + padding(size))
	if cap(r.records) < whole {
		r.records = make([]byte, whole)
	}
	b := r.records[:whole]
	if _, err := io.ReadFull(r.in, b); err != nil {
		return nil, err
	}
	out := map[string]string{}
	for b = b[:size]; len(b) > 0; {
		blank := bytes.IndexByte(b[:min(len(b), 20)], ' ')
		if blank < 0 {
			return nil, fmt.Errorf("%w: a record without a length", errArchive)
		}
		n, err := strconv.Atoi(string(b[:blank]))
		if err != nil || n <= blank+1 || n > len(b) || b[n-1] != '\n' {
			return nil, fmt.Errorf("%w: a record of %.20q bytes", errArchive, b[:blank])
		}
		k, v, ok := bytes.Cut(b[blank+1:n-1], []byte{'='})
		if !ok {
			return nil, fmt.Errorf("%w: a record without a value", errArchive)
		}
		out[string(k)] = string(v)
		b = b[n:]
	}
	return out, nil
}

// take takes over what records say of the header's fields; the others are kept.
func (h *head) take(records map[string]string) (err error) {
	for k, v := range records {
		switch k {
		case "path":
			h.name = v
		case "linkpath":
			h.link = v
		case "uname":
			h.owner = v
		case "gname":
			h.group = v
		case "uid":
			h.uid, err = number32([]byte(v), 10)
		case "gid":
			h.gid, err = number32([]byte(v), 10)
		case "size":
			h.size, err = strconv.ParseInt(v, 10, 64)
		case "mtime":
			h.modified, err = readPaxTime(v)
		default:
			continue
		}
		if err != nil {
			return fmt.Errorf("%w: record %s: %w", errArchive, k, err)
		}
	}
	h.records = records
	return nil
}

// readPaxTime reads seconds with a fraction.
func readPaxTime(v string) (time.Time, error) {
	whole, fraction, _ := strings.Cut(v, ".")
	s, err := strconv.ParseInt(whole, 10, 64)
	if err != nil || fraction == "" {
		return time.Unix(s, 0).UTC(), err
	}
	ns, err := strconv.ParseUint((fraction + "000000000")[:9], 10, 64)
	return time.Unix(s, int64(ns)).UTC(), err
}

// entry is the header as an entry. Errors wrap [chunk.ErrDamaged] where that can't be one.
func (h *head) entry() (e Entry, err error) {
	e = Entry{Path: strings.TrimSuffix(h.name, "/"), Mode: h.mode & 07777, UID: h.uid, GID: h.gid, Owner: h.owner, Group: h.group, Modified: h.modified, Major: h.major, Minor: h.minor,
		Part: h.records[recordPart], Unread: h.records[recordUnread], Changed: h.records[recordChanged] != ""}
	switch h.kind {
	case typeFile:
		e.Kind, e.Size = File, h.size
	case typeSame:
		e.Kind, e.Same = File, h.link
	case typeLink:
		e.Kind, e.Target = Link, h.link
	case typeDir:
		e.Kind = Dir
	case typeChar:
		e.Kind = Char
	case typeBlock:
		e.Kind = Block
	case typeFifo:
		e.Kind = Fifo
	default:
		return e, fmt.Errorf("%w: %.100q is of type %q", errArchive, h.name, h.kind)
	}
	if h.records[recordUnseen] != "" {
		e.Kind, e.Size = Unseen, 0
	}
	for k, v := range h.records {
		if name, ok := strings.CutPrefix(k, recordXattr); ok {
			if e.Xattrs == nil {
				e.Xattrs = map[string]string{}
			}
			e.Xattrs[name] = v
		}
	}
	if text, ok := h.records[recordData]; ok && e.Kind == File {
		whole, ranges, _ := strings.Cut(text, " ")
		if e.Size, err = strconv.ParseInt(whole, 10, 64); err == nil {
			e.Data, err = readSpans(ranges)
		}
		if err == nil && e.Stored() != h.size {
			err = errors.New("its ranges are not what follows")
		}
	}
	if err != nil {
		return e, fmt.Errorf("the archive's entry %.200q: %w", e.Path, err)
	}
	return e, e.Check()
}
