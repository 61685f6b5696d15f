package files

import (
	"archive/tar"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
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

const blockSize = 512

// Writer writes a pax archive. Close it.
type Writer struct {
	out io.Writer
	tar *tar.Writer
	// wire is for who reads it with [Reader] only: of a file with holes just the ranges travel. For others such a file is one of GNU's sparse format
	// 1.0.
	wire bool
	// left is what an entry with holes still lacks, padding what fills its last block then.
	left, padding int64
}

// NewWriter begins an archive that common tools read.
func NewWriter(out io.Writer) *Writer { return &Writer{out: out, tar: tar.NewWriter(out)} }

// header is an entry as a tar header; its size is that of what is stored.
func header(e *Entry) *tar.Header {
	h := &tar.Header{Format: tar.FormatPAX, Name: e.Path, Mode: int64(e.Mode), Uid: int(e.UID), Gid: int(e.GID), Uname: e.Owner, Gname: e.Group, ModTime: e.Modified,
		Size: e.Stored(), Linkname: e.Target, Devmajor: int64(e.Major), Devminor: int64(e.Minor), PAXRecords: map[string]string{}}
	switch e.Kind {
	case File:
		h.Typeflag = tar.TypeReg
		if e.Same != "" {
			h.Typeflag, h.Linkname = tar.TypeLink, e.Same
		}
	case Dir:
		h.Typeflag, h.Name = tar.TypeDir, e.Path+"/"
	case Link:
		h.Typeflag = tar.TypeSymlink
	case Char:
		h.Typeflag = tar.TypeChar
	case Block:
		h.Typeflag = tar.TypeBlock
	case Fifo:
		h.Typeflag = tar.TypeFifo
	}
	for k, v := range e.Xattrs {
		h.PAXRecords[recordXattr+k] = v
	}
	if e.Part != "" {
		h.PAXRecords[recordPart] = e.Part
	}
	if e.Unread != "" {
		h.PAXRecords[recordUnread] = e.Unread
	}
	if e.Changed {
		h.PAXRecords[recordChanged] = "1"
	}
	if e.Kind == Unseen {
		h.Typeflag, h.PAXRecords[recordUnseen] = tar.TypeReg, "1"
	}
	return h
}

// Entry begins an entry. Of a file, [Entry.Stored] bytes of content are to be written next.
func (w *Writer) Entry(e *Entry) error {
	if err := w.complete(); err != nil {
		return err
	}
	h := header(e)
	if e.Data == nil || w.wire {
		if e.Data != nil {
			h.PAXRecords[recordData] = strconv.FormatInt(e.Size, 10) + " " + spansText(e.Data)
		}
		return w.tar.WriteHeader(h)
	}
	return w.sparse(e, h)
}

// complete ends the entry before.
func (w *Writer) complete() error {
	if w.left != 0 {
		return fmt.Errorf("%d bytes of an entry with holes were not written", w.left)
	}
	return w.tar.Flush()
}

// sparse begins an entry with holes in GNU's format 1.0: its content begins with a list of its ranges. The library reads these and writes none.
func (w *Writer) sparse(e *Entry, h *tar.Header) error {
	var list strings.Builder
	fmt.Fprintf(&list, "%d\n", len(e.Data)+1)
	for _, s := range append(slices.Clone(e.Data), Span{e.Size, 0}) {
		fmt.Fprintf(&list, "%d\n%d\n", s.Offset, s.Length)
	}
	body := padded([]byte(list.String()))
	records := map[string]string{"GNU.sparse.major": "1", "GNU.sparse.minor": "0", "GNU.sparse.name": e.Path, "GNU.sparse.realsize": strconv.FormatInt(e.Size, 10),
		"mtime": paxTime(e), "uid": strconv.Itoa(h.Uid), "gid": strconv.Itoa(h.Gid), "uname": e.Owner, "gname": e.Group}
	for k, v := range h.PAXRecords {
		records[k] = v
	}
	var ext []byte
	for _, k := range sortedKeys(records) {
		ext = append(ext, paxRecord(k, records[k])...)
	}
	name := "GNUSparseFile.0/" + lastASCII(e.Path)
	for _, part := range [][]byte{block("PaxHeaders.0/"+lastASCII(e.Path), 'x', 0o600, int64(len(ext)), 0), padded(ext), block(name, '0', int64(e.Mode), int64(len(body))+e.Stored(), e.Modified.Unix()), body} {
		if _, err := w.out.Write(part); err != nil {
			return err
		}
	}
	w.left, w.padding = e.Stored(), padding(e.Stored())
	return nil
}

func paxTime(e *Entry) string {
	s := strconv.FormatInt(e.Modified.Unix(), 10)
	if ns := e.Modified.Nanosecond(); ns != 0 && e.Modified.Unix() >= 0 {
		s += strings.TrimRight(fmt.Sprintf(".%09d", ns), "0")
	}
	return s
}

// paxRecord is a record, which begins with its own length.
func paxRecord(k, v string) string {
	rest := " " + k + "=" + v + "\n"
	n := len(rest)
	for n != len(strconv.Itoa(n))+len(rest) {
		n = len(strconv.Itoa(n)) + len(rest)
	}
	return strconv.Itoa(n) + rest
}

// lastASCII is the end of a path as it fits into a plain header.
func lastASCII(path string) string {
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

func padded(b []byte) []byte { return append(b, make([]byte, padding(int64(len(b))))...) }

// block is a header of ustar's.
func block(name string, kind byte, mode, size, modified int64) []byte {
	b := make([]byte, blockSize)
	octal := func(at, n int, v int64) {
		switch {
		case v >= 0 && v < 1<<(3*(n-1)):
			copy(b[at:at+n], fmt.Sprintf("%0*o", n-1, v))
		case n == 12: // in base 256, as GNU tar has it
			binary.BigEndian.PutUint64(b[at+4:at+12], uint64(v))
			for i := range b[at : at+4] {
				b[at+i] = byte(v >> 63)
			}
			b[at] |= 0x80
		}
	}
	copy(b[:100], name)
	octal(100, 8, mode)
	octal(108, 8, 0)
	octal(116, 8, 0)
	octal(124, 12, size)
	octal(136, 12, modified)
	b[156] = kind
	copy(b[257:], "ustar\x0000")
	copy(b[148:], "        ")
	sum := int64(0)
	for _, c := range b {
		sum += int64(c)
	}
	copy(b[148:156], fmt.Sprintf("%06o\x00 ", sum))
	return b
}

// Write writes content of the entry under way.
func (w *Writer) Write(p []byte) (int, error) {
	if w.left == 0 {
		return w.tar.Write(p)
	}
	if int64(len(p)) > w.left {
		return 0, tar.ErrWriteTooLong
	}
	n, err := w.out.Write(p)
	if w.left -= int64(n); w.left == 0 && err == nil {
		_, err = w.out.Write(make([]byte, w.padding))
	}
	return n, err
}

// Close ends the archive.
func (w *Writer) Close() error {
	if err := w.complete(); err != nil {
		return err
	}
	return w.tar.Close()
}

// entryOf is a tar header as an entry. Errors wrap [chunk.ErrDamaged].
func entryOf(h *tar.Header) (e Entry, err error) {
	e = Entry{Path: strings.TrimSuffix(h.Name, "/"), Mode: uint32(h.Mode) & 07777, UID: uint32(h.Uid), GID: uint32(h.Gid), Owner: h.Uname, Group: h.Gname, Modified: h.ModTime.UTC(),
		Major: uint32(h.Devmajor), Minor: uint32(h.Devminor), Part: h.PAXRecords[recordPart], Unread: h.PAXRecords[recordUnread], Changed: h.PAXRecords[recordChanged] != ""}
	switch h.Typeflag {
	case tar.TypeReg:
		e.Kind, e.Size = File, h.Size
	case tar.TypeLink:
		e.Kind, e.Same = File, h.Linkname
	case tar.TypeDir:
		e.Kind = Dir
	case tar.TypeSymlink:
		e.Kind, e.Target = Link, h.Linkname
	case tar.TypeChar:
		e.Kind = Char
	case tar.TypeBlock:
		e.Kind = Block
	case tar.TypeFifo:
		e.Kind = Fifo
	}
	if h.PAXRecords[recordUnseen] != "" {
		e.Kind, e.Size = Unseen, 0
	}
	for k, v := range h.PAXRecords {
		if name, ok := strings.CutPrefix(k, recordXattr); ok {
			if e.Xattrs == nil {
				e.Xattrs = map[string]string{}
			}
			e.Xattrs[name] = v
		}
	}
	if text, ok := h.PAXRecords[recordData]; ok && e.Kind == File {
		whole, ranges, _ := strings.Cut(text, " ")
		if e.Size, err = strconv.ParseInt(whole, 10, 64); err == nil {
			e.Data, err = readSpans(ranges)
		}
		if err == nil && e.Stored() != h.Size {
			err = errors.New("its ranges are not what follows")
		}
	}
	if err != nil {
		return e, fmt.Errorf("the archive's entry %.200q: %w", e.Path, err)
	}
	return e, e.Check()
}
