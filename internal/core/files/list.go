package files

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/plain"
)

// ListHead begins a list: what mtree(5) asks for, and what this program's lists are known by.
const ListHead = "#mtree\n#keenlodge-files 1\n"

// A list is an mtree(5) specification with one line an entry, of full paths, so that common tools read it. What mtree has no word for follows the
// entry in lines that are comments to others:
//
//	#part NAME            the part of the system state
//	#same PATH            it is a hard link to an entry before it
//	#data OFFSET LENGTH … its ranges that are no holes
//	#xattr NAME=VALUE     an extended attribute
//	#changed              it was written to while it was read
//	#unread REASON        it could not be read, or not as a whole
//
// An entry that could not even be looked at is a line "#unseen PATH" of its own.
//
// Bytes that could be mistaken are written as a backslash and three octal digits, as by vis(3).

// plainByte are those that stand for themselves.
var plainByte = func() (plain [256]bool) {
	for c := byte('!'); c < 127; c++ {
		plain[c] = !strings.ContainsRune("\\#=*?[]\"'`$", rune(c))
	}
	return plain
}()

func appendText(b []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		c := s[i]
		if plainByte[c] {
			b = append(b, c)
		} else {
			b = append(b, '\\', '0'+c>>6, '0'+c>>3&7, '0'+c&7)
		}
	}
	return b
}

// AppendEntry adds an entry's lines to a list. Only regular text comes of it, whatever is in the entry.
func AppendEntry(b []byte, e *Entry) []byte {
	if e.Kind == Unseen {
		b = append(b, unseen...)
	}
	b = append(b, '.')
	if e.Path != "." {
		b = appendText(append(b, '/'), e.Path)
	}
	number := func(word string, n int64) { b = strconv.AppendInt(append(b, word...), n, 10) }
	text := func(word, s string) {
		if s != "" {
			b = appendText(append(b, word...), s)
		}
	}
	if e.Kind != Unseen {
		b = append(append(b, " type="...), e.Kind...)
		b = strconv.AppendInt(append(b, " mode=0"...), int64(e.Mode), 8)
		number(" uid=", int64(e.UID))
		number(" gid=", int64(e.GID))
		text(" uname=", e.Owner)
		text(" gname=", e.Group)
		number(" time=", e.Modified.Unix())
		b = append(b, '.')
		ns := strconv.Itoa(1_000_000_000 + e.Modified.Nanosecond()) // always nine digits: some readers take them for a whole number
		b = append(b, ns[1:]...)
	}
	if e.Kind == File {
		number(" size=", e.Size)
	}
	text(" link=", e.Target)
	if e.Kind == Char || e.Kind == Block {
		number(" device=native,", int64(e.Major))
		number(",", int64(e.Minor))
	}
	text(" sha256digest=", e.Digest)
	b = append(b, '\n')
	text("#part ", e.Part)
	b = lineEnd(b)
	text("#same ", e.Same)
	b = lineEnd(b)
	if e.Data != nil {
		b = append(b, "#data"...)
		for _, s := range e.Data {
			number(" ", s.Offset)
			number(" ", s.Length)
		}
		b = append(b, '\n')
	}
	for _, k := range slices.Sorted(maps.Keys(e.Xattrs)) {
		b = appendText(append(b, "#xattr "...), k)
		b = appendText(append(b, '='), e.Xattrs[k])
		b = append(b, '\n')
	}
	if e.Changed {
		b = append(b, "#changed\n"...)
	}
	text("#unread ", e.Unread)
	return lineEnd(b)
}

// unseen begins the line of an entry of that kind.
const unseen = "#unseen "

// lineEnd ends a line, if one was begun.
func lineEnd(b []byte) []byte {
	if len(b) > 0 && b[len(b)-1] != '\n' {
		b = append(b, '\n')
	}
	return b
}

// longestLine bounds a line of a list, in bytes: an extended attribute as it may be written.
const longestLine = 5 << 20

// ListReader reads a list, entry by entry.
type ListReader struct {
	in   *bufio.Reader
	raw  []byte // of the entry that was read last
	line []byte // the line that comes next, nil at the end
	err  error
}

// NewListReader begins a list.
func NewListReader(in io.Reader) (*ListReader, error) {
	r := &ListReader{in: bufio.NewReaderSize(in, 64<<10)}
	head := make([]byte, len(ListHead))
	if _, err := io.ReadFull(r.in, head); err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return nil, err
	} else if string(head) != ListHead {
		return nil, fmt.Errorf("%w: it is no list of files, or one of a newer program", chunk.ErrDamaged)
	}
	r.advance()
	return r, nil
}

// advance reads the next line. What it had is overwritten.
func (r *ListReader) advance() {
	r.line = r.line[:0]
	for {
		part, err := r.in.ReadSlice('\n')
		r.line = append(r.line, part...)
		switch {
		case err == nil:
			return
		case errors.Is(err, bufio.ErrBufferFull) && len(r.line) <= longestLine:
			continue
		case errors.Is(err, io.EOF) && len(r.line) == 0:
			r.err = io.EOF
		case errors.Is(err, io.EOF):
			r.err = fmt.Errorf("%w: the list ends in the middle of a line", chunk.ErrDamaged)
		case errors.Is(err, bufio.ErrBufferFull):
			r.err = fmt.Errorf("%w: a line of the list is longer than %d bytes", chunk.ErrDamaged, longestLine)
		default:
			r.err = err
		}
		return
	}
}

// Next reads the next entry; [io.EOF] is the end. raw are its lines, valid until the next call. Errors wrap [chunk.ErrDamaged] where the list is
// to blame.
func (r *ListReader) Next() (e Entry, raw []byte, err error) {
	if r.err != nil {
		return e, nil, r.err
	}
	r.raw = append(r.raw[:0], r.line...)
	if err := parseLine(&e, r.line[:len(r.line)-1]); err != nil {
		return e, nil, err
	}
	for r.advance(); r.err == nil && r.line[0] == '#' && !bytes.HasPrefix(r.line, []byte(unseen)); r.advance() {
		if len(r.raw) > 2*longestLine {
			return e, nil, fmt.Errorf("%w: an entry of the list is longer than %d bytes", chunk.ErrDamaged, 2*longestLine)
		}
		r.raw = append(r.raw, r.line...)
		if err := parseNote(&e, r.line[1:len(r.line)-1]); err != nil {
			return e, nil, err
		}
	}
	if r.err != nil && r.err != io.EOF {
		return e, nil, r.err
	}
	return e, r.raw, e.Check()
}

// readText undoes appendText.
func readText(b []byte) (string, error) {
	if bytes.IndexByte(b, '\\') < 0 {
		return string(b), nil
	}
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		if b[i] != '\\' {
			out = append(out, b[i])
			continue
		}
		if i+3 >= len(b) || b[i+1]-'0' > 3 || b[i+2]-'0' > 7 || b[i+3]-'0' > 7 {
			return "", errors.New("a backslash without three octal digits")
		}
		out = append(out, (b[i+1]-'0')<<6|(b[i+2]-'0')<<3|(b[i+3]-'0'))
		i += 3
	}
	return string(out), nil
}

// parseLine reads the line of an entry.
func parseLine(e *Entry, line []byte) error {
	fail := func(why any) error {
		return fmt.Errorf("%w: the line %.200q of the list: %v", chunk.ErrDamaged, line, why)
	}
	path, rest, _ := bytes.Cut(line, []byte{' '})
	if bytes.HasPrefix(line, []byte(unseen)) {
		e.Kind, path, rest = Unseen, rest, nil
	}
	text, err := readText(path)
	if err != nil {
		return fail(err)
	}
	if e.Path = strings.TrimPrefix(text, "./"); text != "." && e.Path == text {
		return fail("its path does not begin with ./")
	}
	for len(rest) > 0 {
		var field []byte
		field, rest, _ = bytes.Cut(rest, []byte{' '})
		word, value, _ := bytes.Cut(field, []byte{'='})
		switch string(word) {
		case "type":
			if e.Kind = Kind(value); !slices.Contains(kinds, e.Kind) {
				return fail("its type is not known")
			}
		case "mode":
			e.Mode, err = number32(value, 8)
		case "uid":
			e.UID, err = number32(value, 10)
		case "gid":
			e.GID, err = number32(value, 10)
		case "uname":
			e.Owner, err = readText(value)
		case "gname":
			e.Group, err = readText(value)
		case "size":
			e.Size, err = strconv.ParseInt(string(value), 10, 64)
		case "time":
			e.Modified, err = readTime(value)
		case "link":
			e.Target, err = readText(value)
		case "sha256digest":
			if _, err = hex.DecodeString(string(value)); err == nil && len(value) != 64 {
				err = errors.New("a digest that is none")
			}
			e.Digest = string(value)
		case "device":
			major, minor, ok := strings.Cut(strings.TrimPrefix(string(value), "native,"), ",")
			if e.Major, err = number32([]byte(major), 10); err == nil && ok {
				e.Minor, err = number32([]byte(minor), 10)
			}
		default:
			return fail("a word that is not known")
		}
		if err != nil {
			return fail(err)
		}
	}
	if e.Kind == "" {
		return fail("it has no type")
	}
	return nil
}

func number32(b []byte, base int) (uint32, error) {
	n, err := strconv.ParseUint(string(b), base, 32)
	return uint32(n), err
}

func readTime(b []byte) (time.Time, error) {
	whole, fraction, _ := bytes.Cut(b, []byte{'.'})
	s, err := strconv.ParseInt(string(whole), 10, 64)
	if err != nil {
		return time.Time{}, err
	}
	ns, err := strconv.ParseInt(string(fraction), 10, 64)
	if err == nil && (len(fraction) != 9 || ns < 0) {
		err = errors.New("a time without nine digits of its second")
	}
	return time.Unix(s, ns).UTC(), err
}

// parseNote reads a line that belongs to the entry before it.
func parseNote(e *Entry, line []byte) (err error) {
	word, value, _ := bytes.Cut(line, []byte{' '})
	switch string(word) {
	case "part":
		e.Part, err = readText(value)
	case "same":
		e.Same, err = readText(value)
	case "unread":
		e.Unread, err = readText(value)
	case "changed":
		e.Changed = true
	case "xattr":
		name, content, _ := bytes.Cut(value, []byte{'='})
		var k, v string
		if k, err = readText(name); err == nil {
			v, err = readText(content)
		}
		if e.Xattrs == nil {
			e.Xattrs = map[string]string{}
		}
		e.Xattrs[k] = v
	case "data":
		e.Data, err = readSpans(string(value))
	default:
		err = errors.New("it is not known")
	}
	if err != nil {
		return fmt.Errorf("%w: the note %.200q of the list: %v", chunk.ErrDamaged, line, err)
	}
	return nil
}

// readSpans reads offsets and lengths in turn.
func readSpans(text string) ([]Span, error) {
	out := []Span{}
	fields := strings.Fields(text)
	if len(fields)%2 != 0 || len(fields) > 2*mostSpans {
		return nil, fmt.Errorf("%d numbers are no ranges", len(fields))
	}
	for i := 0; i < len(fields); i += 2 {
		at, err := strconv.ParseInt(fields[i], 10, 64)
		if err != nil {
			return nil, err
		}
		n, err := strconv.ParseInt(fields[i+1], 10, 64)
		if err != nil {
			return nil, err
		}
		out = append(out, Span{at, n})
	}
	return out, nil
}

// spansText undoes readSpans.
func spansText(spans []Span) string {
	var b []byte
	for i, s := range spans {
		if i > 0 {
			b = append(b, ' ')
		}
		b = strconv.AppendInt(b, s.Offset, 10)
		b = strconv.AppendInt(append(b, ' '), s.Length, 10)
	}
	return string(b)
}

// Readable is a path as it can be shown: what is no text in it is written as in a list.
func Readable(path string) string {
	if plain.Text(path, len(path)) == path && !strings.ContainsAny(path, "\n\t") {
		return path
	}
	return string(appendText(nil, path))
}

// FromReadable undoes [Readable], so that a name which is no text can be asked for as it was shown: a backslash with three octal digits is a byte.
func FromReadable(text string) string {
	if path, err := readText([]byte(text)); err == nil {
		return path
	}
	return text
}

// Find finds an entry in a list, and where in the content of all entries its own begins, in bytes. One that is not there is [fs.ErrNotExist].
func Find(in io.Reader, path string) (e Entry, at int64, err error) {
	list, err := NewListReader(in)
	for err == nil {
		if e, _, err = list.Next(); err == nil && e.Path == path {
			return e, at, nil
		}
		at += e.Stored()
	}
	if errors.Is(err, io.EOF) {
		err = fmt.Errorf("/%s: %w", Readable(path), fs.ErrNotExist)
	}
	return Entry{}, 0, err
}
