package files

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// What a pax archive has no record for is in records of our own, as POSIX asks a vendor's to be named.
const (
	recordPart    = "KEENLODGE.part"
	recordData    = "KEENLODGE.data"
	recordUnread  = "KEENLODGE.unread"
	recordUnseen  = "KEENLODGE.unseen"
	recordChanged = "KEENLODGE.changed"
	recordXattr   = "SCHILY.xattr."
)

// Type flags of ustar and pax.
const (
	typeFile, typeSame, typeLink, typeChar, typeBlock, typeDir, typeFifo = '0', '1', '2', '3', '4', '5', '6'
	typeRecords, typeGlobal                                              = 'x', 'g'
)

var types = map[Kind]byte{File: typeFile, Dir: typeDir, Link: typeLink, Char: typeChar, Block: typeBlock, Fifo: typeFifo, Unseen: typeFile}

const blockSize = 512

// Writer writes a pax archive. Close it. Headers are written and read by hand, for with 200,000 small files the standard library's take as long as
// compressing them does (decision 0039).
type Writer struct {
	out io.Writer
	// wire is for who reads it with [Reader] only: of a file with holes just the ranges travel. For others such a file is one of GNU's sparse format
	// 1.0.
	wire bool
	// left is what the entry under way still lacks, padding what fills its last block then.
	left, padding int64
	records, room []byte
}

// NewWriter begins an archive that common tools read.
func NewWriter(out io.Writer) *Writer { return &Writer{out: out} }

// record adds a record, which begins with its own length.
func (w *Writer) record(k, v string) {
	rest := len(k) + len(v) + 3
	n := rest
	for n != rest+digits(n) {
		n = rest + digits(n)
	}
	b := strconv.AppendInt(w.records, int64(n), 10)
	b = append(append(b, ' '), k...)
	b = append(append(b, '='), v...)
	w.records = append(b, '\n')
}

func digits(n int) int {
	d := 1
	for ; n >= 10; n /= 10 {
		d++
	}
	return d
}

// Entry begins an entry. Of a file, [Entry.Stored] bytes of content are to be written next.
func (w *Writer) Entry(e *Entry) error {
	if err := w.complete(); err != nil {
		return err
	}
	w.records = w.records[:0]
	var list []byte
	size, path := e.Stored(), e.Path
	if e.Kind == Dir {
		path += "/"
	}
	switch {
	case e.Data == nil:
	case w.wire:
		w.record(recordData, strconv.FormatInt(e.Size, 10)+" "+spansText(e.Data))
	default: // its content begins with a list of its ranges
		list = sparseList(e)
		for _, r := range [][2]string{{"GNU.sparse.major", "1"}, {"GNU.sparse.minor", "0"}, {"GNU.sparse.name", e.Path}, {"GNU.sparse.realsize", strconv.FormatInt(e.Size, 10)}} {
			w.record(r[0], r[1])
		}
		path = "GNUSparseFile.0/" + lastASCII(e.Path)
	}
	h := head{name: path, link: e.Target, mode: e.Mode, uid: e.UID, gid: e.GID, owner: e.Owner, group: e.Group, size: size + int64(len(list)), modified: e.Modified, major: e.Major, minor: e.Minor, kind: types[e.Kind]}
	if e.Same != "" {
		h.kind, h.link = typeSame, e.Same
	}
	for _, k := range slices.Sorted(maps.Keys(e.Xattrs)) {
		w.record(recordXattr+k, e.Xattrs[k])
	}
	for _, r := range [][2]string{{recordPart, e.Part}, {recordUnread, e.Unread}, {recordChanged, one(e.Changed)}, {recordUnseen, one(e.Kind == Unseen)}} {
		if r[1] != "" {
			w.record(r[0], r[1])
		}
	}
	w.left, w.padding = size, padding(size)
	return w.header(h, list)
}

func one(b bool) string {
	if b {
		return "1"
	}
	return ""
}

// sparseList is what the content of a file with holes begins with, in GNU's format 1.0, in whole blocks.
func sparseList(e *Entry) []byte {
	b := fmt.Appendf(nil, "%d\n", len(e.Data)+1)
	for _, s := range append(slices.Clone(e.Data), Span{e.Size, 0}) {
		b = fmt.Appendf(b, "%d\n%d\n", s.Offset, s.Length)
	}
	return append(b, make([]byte, padding(int64(len(b))))...)
}

// head is a header, or what was read of one.
type head struct {
	name, link   string
	mode         uint32
	uid, gid     uint32
	owner, group string
	size         int64
	modified     time.Time
	major, minor uint32
	kind         byte
	records      map[string]string // of those that are none of the above, nil for none
}

// header writes a header, before it one with the records that are gathered and with what has no room in it, and after it what its content begins with.
func (w *Writer) header(h head, content []byte) error {
	b := append(w.room[:0], make([]byte, 2*blockSize)...)
	main := b[blockSize:]
	w.text(main[:100], "path", h.name)
	w.text(main[157:257], "linkpath", h.link)
	w.text(main[265:297], "uname", h.owner)
	w.text(main[297:329], "gname", h.group)
	octal(main[100:108], int64(h.mode))
	w.number(main[108:116], "uid", int64(h.uid))
	w.number(main[116:124], "gid", int64(h.gid))
	w.number(main[124:136], "size", h.size)
	seconds := h.modified.Unix()
	if ns := h.modified.Nanosecond(); ns != 0 || !octal(main[136:148], seconds) {
		w.record("mtime", paxTime(seconds, ns))
		octal(main[136:148], max(0, seconds))
	}
	octal(main[329:337], int64(h.major))
	octal(main[337:345], int64(h.minor))
	seal(main, h.kind)
	if len(w.records) > 0 && h.kind != typeGlobal {
		copy(b, "PaxHeaders.0/x")
		octal(b[100:108], 0o600)
		octal(b[124:136], int64(len(w.records)))
		for _, at := range []int{108, 116} {
			octal(b[at:at+8], 0)
		}
		octal(b[136:148], 0)
		seal(b[:blockSize], typeRecords)
		before := append([]byte(nil), main...) // main moves behind the records
		b = append(b[:blockSize], w.records...)
		b = append(b, zeros[:padding(int64(len(w.records)))]...)
		b = append(append(b, before...), content...)
	} else {
		b = append(b[:copy(b, main)], content...)
	}
	w.room = b
	_, err := w.out.Write(b)
	return err
}

var zeros [blockSize]byte

// text puts a text into its field, or into a record where it has no room, or is no plain text.
func (w *Writer) text(field []byte, k, v string) {
	plain := len(v) < len(field)
	for i := 0; i < len(v) && plain; i++ {
		plain = v[i] >= ' ' && v[i] < 127
	}
	if plain {
		copy(field, v)
		return
	}
	w.record(k, v)
	if k == "path" {
		copy(field[:len(field)-1], lastASCII(v))
	}
}

func (w *Writer) number(field []byte, k string, v int64) {
	if !octal(field, v) {
		w.record(k, strconv.FormatInt(v, 10))
		octal(field, 0)
	}
}

// octal writes a number into a field, if it has room there.
func octal(field []byte, v int64) bool {
	n := len(field) - 1
	if v < 0 || v>>(3*n) != 0 {
		return false
	}
	for i := n - 1; i >= 0; i-- {
		field[i] = '0' + byte(v&7)
		v >>= 3
	}
	return true
}

// seal ends a header: what it is, the format's mark, the sum of its bytes.
func seal(b []byte, kind byte) {
	b[156] = kind
	copy(b[257:], "ustar\x0000")
	octal(b[148:155], checksum(b))
	b[155] = ' '
}

// checksum is the sum of a header's bytes, with blanks in place of itself.
func checksum(b []byte) (sum int64) {
	for i, c := range b[:blockSize] {
		if i >= 148 && i < 156 {
			c = ' '
		}
		sum += int64(c)
	}
	return sum
}

func paxTime(seconds int64, ns int) string {
	s := strconv.FormatInt(seconds, 10)
	if ns == 0 || seconds < 0 { // before 1970 a fraction would have to count backwards, which readers disagree on
		return s
	}
	return s + strings.TrimRight("."+strconv.Itoa(1_000_000_000 + ns)[1:], "0")
}

// lastASCII is the end of a path as it fits into a plain header.
func lastASCII(path string) string {
	path = strings.TrimSuffix(path, "/")
	name := path[strings.LastIndexByte(path, '/')+1:]
	out := []byte(name[:min(len(name), 80)])
	for i, c := range out {
		if c <= ' ' || c >= 127 {
			out[i] = '_'
		}
	}
	return string(out)
}

// padding is what fills the last block of n bytes.
func padding(n int64) int64 { return (blockSize - n%blockSize) % blockSize }

// complete makes sure that the entry before has all of its content.
func (w *Writer) complete() error {
	if w.left != 0 {
		return fmt.Errorf("%d bytes of an entry were not written", w.left)
	}
	return nil
}

// errTooLong marks content that is longer than its entry says.
var errTooLong = errors.New("more is written of an entry than it has")

// Write writes content of the entry under way.
func (w *Writer) Write(p []byte) (int, error) {
	if int64(len(p)) > w.left {
		return 0, errTooLong
	}
	n, err := w.out.Write(p)
	if w.left -= int64(n); w.left == 0 && err == nil && n > 0 && w.padding > 0 {
		_, err = w.out.Write(zeros[:w.padding])
	}
	return n, err
}

// Close ends the archive.
func (w *Writer) Close() error {
	if err := w.complete(); err != nil {
		return err
	}
	_, err := w.out.Write(make([]byte, 2*blockSize))
	return err
}
