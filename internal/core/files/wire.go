package files

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
)

// Between an agent and the lodge an archive tells only what is not as it was in an older image: notes, which are pax global headers, say how many
// entries of that one's list stay as they are and how many are gone. Others say what became of the entry before them, and the last what else there
// is to tell. An archive without that last note was cut.
const (
	noteKeep    = "KEENLODGE.keep"
	noteSkip    = "KEENLODGE.skip"
	noteUnread  = "KEENLODGE.was-unread"
	noteChanged = "KEENLODGE.was-changed"
	noteEnd     = "KEENLODGE.end"
)

// keptAtOnce is how many entries that stay are told of at once at the most.
const keptAtOnce = 4096

// LeftOut is what one rule kept out of an image: so many entries that are no folders, with so many bytes, the largest first.
type LeftOut struct {
	Rule    string   `json:"rule"`
	Files   int64    `json:"files"`
	Bytes   int64    `json:"bytes"`
	Largest []string `json:"largest,omitempty"`
}

// Last is what an archive's last note tells: what was left out, the paths that it holds with all below them but what was left out, and the sum of
// all paths of the older list, by which both sides know that they spoke of the same one.
type Last struct {
	LeftOut []LeftOut `json:"left_out,omitempty"`
	Whole   []string  `json:"whole,omitempty"`
	Sum     string    `json:"sum,omitempty"`
}

// WireWriter writes what travels. Entries come in the order of the walk.
type WireWriter struct {
	w          *Writer
	keep, skip int64
}

// NewWireWriter begins.
func NewWireWriter(out io.Writer) *WireWriter {
	return &WireWriter{w: &Writer{out: out, wire: true}}
}

// Keep says that the next entry of the older list stays as it is, Skip that it is gone, or is told anew.
func (w *WireWriter) Keep() error {
	if w.skip > 0 || w.keep == keptAtOnce { // whoever reads has something to do meanwhile
		if err := w.flush(); err != nil {
			return err
		}
	}
	w.keep++
	return nil
}

// Skip says that the next entry of the older list is gone, or is told anew.
func (w *WireWriter) Skip() { w.skip++ }

// flush writes what was counted.
func (w *WireWriter) flush() error {
	if w.keep == 0 && w.skip == 0 {
		return nil
	}
	records := map[string]string{noteKeep: strconv.FormatInt(w.keep, 10), noteSkip: strconv.FormatInt(w.skip, 10)}
	w.keep, w.skip = 0, 0
	return w.note(records)
}

func (w *WireWriter) note(records map[string]string) error {
	if err := w.w.complete(); err != nil {
		return err
	}
	w.w.records = w.w.records[:0]
	for _, k := range slices.Sorted(maps.Keys(records)) {
		w.w.record(k, records[k])
	}
	size := int64(len(w.w.records))
	content := append(w.w.records, zeros[:padding(size)]...)
	return w.w.header(head{name: "GlobalHead.0", size: size, kind: typeGlobal}, content)
}

// Entry begins an entry, Write writes its content.
func (w *WireWriter) Entry(e *Entry) error {
	if err := w.flush(); err != nil {
		return err
	}
	return w.w.Entry(e)
}

func (w *WireWriter) Write(p []byte) (int, error) { return w.w.Write(p) }

// Changed says that the entry before was written to while it was read, Unread that not all of it could be read.
func (w *WireWriter) Changed() error { return w.note(map[string]string{noteChanged: "1"}) }

// Unread says that not all of the entry before could be read.
func (w *WireWriter) Unread(why string) error { return w.note(map[string]string{noteUnread: why}) }

// Close ends it.
func (w *WireWriter) Close(last Last) error {
	if err := w.flush(); err != nil {
		return err
	}
	body, err := json.Marshal(last)
	if err != nil {
		return err
	}
	if err := w.note(map[string]string{noteEnd: string(body)}); err != nil {
		return err
	}
	return w.w.Close()
}

// Step is one of what travels: entries of the older list that stay and, after these, are gone; or an entry; or the last.
type Step struct {
	Keep, Skip int64
	Entry      *Entry
	Last       *Last
}

// Reader reads what travels.
type Reader struct {
	pax  *paxReader
	next *head // read already
	last bool
}

// NewReader begins to read what a [WireWriter] wrote.
func NewReader(in io.Reader) *Reader {
	return &Reader{pax: &paxReader{in: bufio.NewReaderSize(in, 256<<10)}}
}

// ErrCut marks an archive that ended too early.
var ErrCut = errors.New("the archive ends too early")

func (r *Reader) header() (*head, error) {
	if h := r.next; h != nil {
		r.next = nil
		return h, nil
	}
	h, err := r.pax.next()
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, ErrCut
	}
	return &h, err
}

// Next gives the next step; after the last one comes [io.EOF]. Of an entry with content, all of it is read before [Reader.Settle] is called.
func (r *Reader) Next() (s Step, err error) {
	if r.last {
		return s, io.EOF
	}
	h, err := r.header()
	if err != nil {
		return s, err
	}
	if h.kind != typeGlobal {
		e, err := h.entry()
		return Step{Entry: &e}, err
	}
	if text, ok := h.records[noteEnd]; ok {
		r.last, s.Last = true, new(Last)
		if err := json.Unmarshal([]byte(text), s.Last); err != nil {
			return s, fmt.Errorf("the archive's end: %w", err)
		}
		return s, nil
	}
	for key, n := range map[string]*int64{noteKeep: &s.Keep, noteSkip: &s.Skip} {
		if *n, err = strconv.ParseInt(h.records[key], 10, 64); err != nil || *n < 0 {
			return s, fmt.Errorf("the archive says %.100q for what stays or goes", h.records)
		}
	}
	return s, nil
}

// Read reads content of the entry that Next gave.
func (r *Reader) Read(p []byte) (int, error) {
	n, err := r.pax.Read(p)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = ErrCut
	}
	return n, err
}

// Settle brings the entry up to date with what became of it while it was read.
func (r *Reader) Settle(e *Entry) error {
	for {
		h, err := r.header()
		if err != nil {
			return err
		}
		why, unread := h.records[noteUnread]
		_, changed := h.records[noteChanged]
		if h.kind != typeGlobal || !unread && !changed {
			r.next = h
			return nil
		}
		if changed {
			e.Changed = true
		}
		if unread {
			e.Unread = why
		}
	}
}
