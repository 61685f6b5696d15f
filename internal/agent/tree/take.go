package tree

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/parts"
	"keenlodge/internal/core/files"
	"keenlodge/internal/inode"
)

const (
	// smallFile is what is read into memory before it is told, in bytes: a file that changes meanwhile is read again, so many times.
	smallFile, tries = 1 << 20, 3
	// readOnce is how much of a large file is read at once.
	readOnce = 512 << 10
)

// taker sends what a walk meets.
type taker struct {
	*Selection
	ctx     context.Context
	folder  string // of the agent, for what commands say
	w       *files.WireWriter
	older   *older
	memory  *remembering
	links   map[[2]uint64]string // the first path of a file that has several
	names   owners
	buffer  []byte
	outputs bool // those of commands were sent
}

// owners are the names of users and groups that were asked for.
type owners struct{ users, groups map[uint32]string }

func (o *owners) of(uid, gid uint32) (owner, group string) {
	owner, known := o.users[uid]
	if !known {
		if u, err := user.LookupId(strconv.Itoa(int(uid))); err == nil {
			owner = u.Username
		}
		o.users[uid] = owner
	}
	if group, known = o.groups[gid]; !known {
		if g, err := user.LookupGroupId(strconv.Itoa(int(gid))); err == nil {
			group = g.Name
		}
		o.groups[gid] = group
	}
	return owner, group
}

// forward passes over what an earlier image had before a path, and reports whether that image has it as it is now.
func (t *taker) forward(path string, k key) (same bool, err error) {
	o := t.older
	if o == nil {
		return false, nil
	}
	for !o.ends && files.Compare(o.path, path) < 0 {
		t.w.Skip()
		o.advance()
	}
	if o.ends || o.path != path {
		return false, nil
	}
	if same = k != (key{}) && o.key == k; same {
		err = t.w.Keep()
	} else {
		t.w.Skip()
	}
	o.advance()
	return same, err
}

// take implements [visitor].
func (t *taker) take(it item) error {
	k := keyOf(&it.st, time.Now())
	if it.unread != nil {
		k = key{}
	}
	same, err := t.forward(it.path, k)
	if err != nil {
		return err
	}
	first := ""
	if it.st.Mode&unix.S_IFMT == unix.S_IFREG && it.st.Nlink > 1 {
		id := [2]uint64{it.st.Dev, it.st.Ino}
		if first = t.links[id]; first == "" {
			t.links[id] = it.path
		}
	}
	if same {
		t.memory.note(it.path, k)
	} else if err := t.send(it, k, first); err != nil {
		return err
	}
	if it.path == "." && !t.outputs {
		t.outputs = true
		return t.sendOutputs()
	}
	return nil
}

// unseen implements [visitor].
func (t *taker) unseen(path, part string, why error) error {
	if _, err := t.forward(path, key{}); err != nil {
		return err
	}
	t.memory.note(path, key{})
	return t.w.Entry(&files.Entry{Path: path, Kind: files.Unseen, Part: part, Unread: reason(why)})
}

// describe makes an entry of what stat says.
func (t *taker) describe(it item) files.Entry {
	e := files.Entry{Path: it.path, Part: it.part}
	t.fill(&e, &it.st)
	if it.unread != nil {
		e.Unread = reason(it.unread)
	}
	return e
}

func (t *taker) fill(e *files.Entry, st *unix.Stat_t) {
	inode.Fill(e, st)
	e.Owner, e.Group = t.names.of(st.Uid, st.Gid)
}

// send sends an entry that is not as it was. first is the path of a file of which this is another name, or "".
func (t *taker) send(it item, k key, first string) (err error) {
	e := t.describe(it)
	if first != "" {
		e.Same, e.Size = first, 0
	}
	if e.Kind == files.File && first == "" {
		return t.file(it, e)
	}
	place := inode.Within(it.folder, it.name)
	if e.Kind == files.Link {
		if e.Target, err = os.Readlink(place); errors.Is(err, fs.ErrNotExist) {
			return nil
		} else if err != nil {
			t.memory.note(it.path, key{})
			return t.w.Entry(&files.Entry{Path: it.path, Kind: files.Unseen, Part: it.part, Unread: reason(err)})
		}
	}
	if first == "" {
		e.Xattrs, err = inode.XattrsOf(place)
		if err != nil && e.Unread == "" {
			e.Unread = "its extended attributes: " + reason(err)
		}
	}
	if e.Unread != "" {
		k = key{}
	}
	t.memory.note(it.path, k)
	return t.w.Entry(&e)
}

// openFile opens a regular file for reading, and leaves no trace of it.
func openFile(it item) (*os.File, error) {
	const flags = unix.O_RDONLY | unix.O_NOFOLLOW | unix.O_NONBLOCK | unix.O_CLOEXEC
	fd, err := unix.Openat(it.folder, it.name, flags|unix.O_NOATIME, 0)
	if errors.Is(err, unix.EPERM) {
		fd, err = unix.Openat(it.folder, it.name, flags, 0)
	}
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), it.path), nil
}

// file sends a regular file with its content.
func (t *taker) file(it item, e files.Entry) error {
	nothing := func(why error) error {
		e.Unread, e.Data = reason(why), []files.Span{}
		t.memory.note(it.path, key{})
		return t.w.Entry(&e)
	}
	f, err := openFile(it)
	if errors.Is(err, unix.ENOENT) {
		return nil // it went meanwhile
	}
	if err != nil {
		return nothing(err)
	}
	defer f.Close()
	fd := int(f.Fd())
	e.Xattrs, err = inode.Xattrs(fd)
	if err != nil {
		return nothing(err)
	}
	for try := 1; ; try++ {
		var st unix.Stat_t
		if err := unix.Fstat(fd, &st); err != nil {
			return nothing(err)
		}
		if st.Mode&unix.S_IFMT != unix.S_IFREG { // another one took its name
			return nothing(errors.New("it became something else while it was looked at"))
		}
		t.fill(&e, &st)
		if e.Data, err = spansOf(f, &st); err != nil {
			return nothing(err)
		}
		if e.Stored() > smallFile {
			return t.large(f, it, &e, &st)
		}
		content, err := readSpans(f, &e, t.buffer[:0])
		if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
			return nothing(err)
		}
		changed := err != nil || changedSince(fd, &st)
		if changed && try < tries {
			continue
		}
		e.Changed = changed
		k := keyOf(&st, time.Now())
		if changed {
			k = key{}
		}
		t.memory.note(it.path, k)
		if err := t.w.Entry(&e); err != nil {
			return err
		}
		_, err = t.w.Write(content)
		return err
	}
}

// readSpans reads what is stored of a file; what it lost meanwhile is zeros, and [io.ErrUnexpectedEOF].
func readSpans(f io.ReaderAt, e *files.Entry, room []byte) ([]byte, error) {
	spans := e.Data
	if spans == nil {
		spans = []files.Span{{Length: e.Size}}
	}
	out := room[:e.Stored()]
	at, short := 0, error(nil)
	for _, s := range spans {
		n, err := f.ReadAt(out[at:at+int(s.Length)], s.Offset)
		if n < int(s.Length) {
			clear(out[at+n : at+int(s.Length)])
			if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			if !errors.Is(err, io.ErrUnexpectedEOF) {
				return out, err
			}
			short = err
		}
		at += int(s.Length)
	}
	return out, short
}

// changedSince reports whether an open file was written to since it was looked at, as the kernel notes it.
func changedSince(fd int, st *unix.Stat_t) bool {
	var now unix.Stat_t
	return unix.Fstat(fd, &now) != nil || now.Ctim != st.Ctim || now.Mtim != st.Mtim || now.Size != st.Size
}

// large sends a file that is too large to be read before it is told. What is wrong with it is told after it.
func (t *taker) large(f *os.File, it item, e *files.Entry, st *unix.Stat_t) error {
	if err := t.w.Entry(e); err != nil {
		return err
	}
	spans := e.Data
	if spans == nil {
		spans = []files.Span{{Length: e.Size}}
	}
	var failed error
	changed := false
	for _, s := range spans {
		for at := s.Offset; at < s.Offset+s.Length; {
			if err := context.Cause(t.ctx); err != nil {
				return err
			}
			b := t.buffer[:min(readOnce, s.Offset+s.Length-at)]
			n, err := 0, error(nil)
			if failed == nil {
				n, err = f.ReadAt(b, at)
			}
			if n < len(b) {
				clear(b[n:]) // its length was told
				if err == nil || errors.Is(err, io.EOF) {
					changed = true
				} else {
					failed = fmt.Errorf("%w at byte %d, and the rest is zeros", errnoOf(err), at+int64(n))
				}
			}
			if _, err := t.w.Write(b); err != nil {
				return err
			}
			at += int64(len(b))
		}
	}
	changed = changed || changedSince(int(f.Fd()), st)
	k := keyOf(st, time.Now())
	if changed || failed != nil {
		k = key{}
	}
	t.memory.note(it.path, k)
	if changed {
		if err := t.w.Changed(); err != nil {
			return err
		}
	}
	if failed != nil {
		return t.w.Unread(failed.Error())
	}
	return nil
}

func errnoOf(err error) error {
	var no unix.Errno
	if errors.As(err, &no) {
		return no
	}
	return err
}

// spansOf lists the ranges of a file that are not holes, nil where it has none.
func spansOf(f *os.File, st *unix.Stat_t) ([]files.Span, error) {
	if st.Blocks*files.SpanUnit >= st.Size {
		return nil, nil
	}
	out := []files.Span{}
	for at := int64(0); at < st.Size; {
		from, err := unix.Seek(int(f.Fd()), at, unix.SEEK_DATA)
		if errors.Is(err, unix.ENXIO) {
			break
		}
		if errors.Is(err, unix.EINVAL) {
			return nil, nil // a file system that does not tell
		}
		if err != nil {
			return nil, err
		}
		until, err := unix.Seek(int(f.Fd()), from, unix.SEEK_HOLE)
		if err != nil {
			return nil, err
		}
		from = from / files.SpanUnit * files.SpanUnit
		until = min(st.Size, (until+files.SpanUnit-1)/files.SpanUnit*files.SpanUnit)
		if from >= st.Size || until <= from {
			break
		}
		if n := len(out); n > 0 && (from <= out[n-1].Offset+out[n-1].Length || n >= mostSpans) {
			out[n-1].Length = until - out[n-1].Offset
		} else {
			out = append(out, files.Span{Offset: from, Length: until - from})
		}
		at = until
	}
	if len(out) == 1 && out[0].Offset == 0 && out[0].Length == st.Size {
		return nil, nil
	}
	return out, nil
}

// mostSpans bounds the ranges of one file: between further ones holes are read.
const mostSpans = 4096

// sendOutputs sends the files that commands make.
func (t *taker) sendOutputs() error {
	sent := map[string]bool{}
	for _, o := range t.Selection.outputs() {
		if _, err := parts.Command(t.Selection.folder, o.command); errors.Is(err, fs.ErrNotExist) {
			continue // there is no such command on this server
		}
		spooled, err := t.spooled(o)
		folders := []string{files.OutputFolder, files.OutputFolder + "/" + o.part.Name}
		for i, folder := range folders {
			if sent[folder] {
				continue
			}
			sent[folder] = true
			e := files.Entry{Path: folder, Kind: files.Dir, Mode: 0o700, Owner: "root", Group: "root", Modified: time.Now().UTC()}
			if i > 0 {
				e.Part = o.part.Name
			}
			t.memory.note(folder, key{})
			if err := t.w.Entry(&e); err != nil {
				return err
			}
		}
		if err := t.sendOutput(o, folders[1]+"/"+o.name, spooled, err); err != nil {
			return err
		}
	}
	// What an earlier image had of them is told anew.
	for o := t.older; o != nil && !o.ends && within(o.path, files.OutputFolder); {
		t.w.Skip()
		o.advance()
	}
	return nil
}

// spooled runs a command and keeps what it says in a file without a name: its length has to be known.
func (t *taker) spooled(o output) (f *os.File, err error) {
	if f, err = os.CreateTemp(filepath.Join(t.folder, memoryFolder), partial); err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return f, err
	}
	return f, parts.Run(t.ctx, t.Selection.folder, o.command, o.part.Limit(), f)
}

func (t *taker) sendOutput(o output, path string, f *os.File, failed error) error {
	e := files.Entry{Path: path, Kind: files.File, Mode: 0o600, Owner: "root", Group: "root", Modified: time.Now().UTC(), Part: o.part.Name}
	t.memory.note(path, key{})
	if f != nil {
		defer f.Close()
		if info, err := f.Stat(); err != nil {
			failed = errors.Join(failed, err)
		} else {
			e.Size = info.Size()
		}
	}
	if failed != nil {
		e.Unread = reason(failed)
	}
	if err := t.w.Entry(&e); err != nil || e.Size == 0 {
		return err
	}
	_, err := io.Copy(onlyWriter{t.w}, io.NewSectionReader(f, 0, e.Size))
	return err
}

type onlyWriter struct{ io.Writer }
