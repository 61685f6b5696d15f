package tree

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
)

// What an image holds is remembered on the server: for each entry its path, and what tells whether it changed. It is a file in the agent's folder,
// of which one entry is in memory at a time.
//
//	"KLTREE" 00 01, the selection's sum (64 bytes)
//	for each entry: length of its path 2, the path, inode 8, size 8, modified 8, changed 8 (nanoseconds), kind 1

const (
	memoryFolder = "files"
	partial      = ".part-"
	memoryHead   = "KLTREE\x00\x01"
	keyBytes     = 33
)

// key tells whether an entry is as it was. The kernel sets when a file changed last, and nobody else can; of one that changed just now that says
// nothing, so its key is zero, which equals none.
type key struct {
	inode                   uint64
	size, modified, changed int64
	kind                    byte
}

// unsure is how long before it is looked at a file may have changed so that it may change again unseen: clocks of file systems have steps.
var unsure = 2 * time.Second

func keyOf(st *unix.Stat_t, now time.Time) key {
	k := key{st.Ino, st.Size, st.Mtim.Nano(), st.Ctim.Nano(), byte(st.Mode & unix.S_IFMT >> 12)}
	if k.changed > now.Add(-unsure).UnixNano() {
		return key{}
	}
	return k
}

func memoryFile(folder, id string) string { return filepath.Join(folder, memoryFolder, id) }

// remembering writes down what an image holds. A nil one notes nothing.
type remembering struct {
	f     *os.File
	out   *bufio.Writer
	place string
	err   error // the first that failed: then the next image is full
}

func remember(folder, id, sum string) (*remembering, error) {
	place := memoryFile(folder, id)
	f, err := os.OpenFile(filepath.Join(filepath.Dir(place), partial+id), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	r := &remembering{f: f, out: bufio.NewWriterSize(f, 256<<10), place: place}
	_, r.err = r.out.WriteString(memoryHead + sum)
	return r, nil
}

// note notes an entry.
func (r *remembering) note(path string, k key) {
	if r == nil || r.err != nil {
		return
	}
	b := binary.BigEndian.AppendUint16(nil, uint16(len(path)))
	if len(path) > 0xffff {
		r.err = fmt.Errorf("the path %.100q is too long to be remembered", path)
		return
	}
	b = append(b, path...)
	b = binary.BigEndian.AppendUint64(b, k.inode)
	for _, n := range []int64{k.size, k.modified, k.changed} {
		b = binary.BigEndian.AppendUint64(b, uint64(n))
	}
	_, r.err = r.out.Write(append(b, k.kind))
}

// keep makes the memory durable.
func (r *remembering) keep() error {
	if r == nil {
		return nil
	}
	err := r.err
	if err == nil {
		err = r.out.Flush()
	}
	if err == nil {
		err = r.f.Sync()
	}
	if err == nil {
		err = os.Rename(r.f.Name(), r.place)
	}
	if err != nil {
		r.drop()
		if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
			return nil // a full server has an image all the same; the next one is full, and says why
		}
		return err
	}
	return r.f.Close()
}

func (r *remembering) drop() {
	if r != nil {
		os.Remove(r.f.Name())
		r.f.Close()
	}
}

// older is what was remembered of an earlier image, read along with the walk. A nil one knows nothing.
type older struct {
	f    *os.File
	in   *bufio.Reader
	path string // of the next entry
	key  key
	ends bool
	sum  *files.PathSum
}

// recall opens what is remembered of an image; why says why that can't be used.
func recall(folder, id, sum string) (o *older, why string, err error) {
	f, err := os.Open(memoryFile(folder, id))
	if errors.Is(err, os.ErrNotExist) {
		return nil, "the server remembers nothing of image " + id, nil
	}
	if err != nil {
		return nil, "", err
	}
	o = &older{f: f, in: bufio.NewReaderSize(f, 256<<10), sum: files.NewPathSum()}
	head := make([]byte, len(memoryHead)+len(sum))
	if _, err := io.ReadFull(o.in, head); err != nil || string(head[:len(memoryHead)]) != memoryHead {
		f.Close()
		return nil, "what the server remembers of image " + id + " is damaged", nil
	}
	if string(head[len(memoryHead):]) != sum {
		f.Close()
		return nil, "other files are asked for than in image " + id, nil
	}
	o.advance()
	return o, "", nil
}

// advance reads the next entry. What can't be read ends it: the sum of its paths is not that of the image's list then, and all files are read anew.
func (o *older) advance() {
	var length [2]byte
	if _, err := io.ReadFull(o.in, length[:]); err != nil {
		o.ends = true
		return
	}
	n := int(binary.BigEndian.Uint16(length[:]))
	b := make([]byte, n+keyBytes)
	if _, err := io.ReadFull(o.in, b); err != nil {
		o.ends = true
		return
	}
	at := func(i int) int64 { return int64(binary.BigEndian.Uint64(b[n+8*i:])) }
	o.path, o.key = string(b[:n]), key{uint64(at(0)), at(1), at(2), at(3), b[n+32]}
	o.sum.Add(o.path)
}

func (o *older) close() {
	if o != nil {
		o.f.Close()
	}
}

// Known lists the images of files since which this server can tell what changed.
func Known(folder string) ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(folder, memoryFolder))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var ids []string
	for _, e := range entries {
		if image.IsID(e.Name()) {
			ids = append(ids, e.Name())
		}
	}
	return ids, err
}

// Forget forgets images, and returns those of which something was remembered.
func Forget(folder string, ids []string) (gone []string, err error) {
	for _, id := range ids {
		if !image.IsID(id) {
			continue
		}
		switch removed := os.Remove(memoryFile(folder, id)); {
		case removed == nil:
			gone = append(gone, id)
		case !errors.Is(removed, os.ErrNotExist):
			err = errors.Join(err, removed)
		}
	}
	return gone, err
}

// Tidy removes what an agent left that died.
func Tidy(folder string) (found []string, err error) {
	entries, err := os.ReadDir(filepath.Join(folder, memoryFolder))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), partial) {
			found = append(found, "half a memory of files ("+e.Name()+")")
			err = errors.Join(err, os.Remove(filepath.Join(folder, memoryFolder, e.Name())))
		}
	}
	return found, err
}
