package pooled

import (
	"cmp"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// nearbyMost bounds what of a store's maps is kept on this host, in bytes: the maps of about half a terabyte. Tests lower it.
var nearbyMost = int64(256 << 20)

// nearby keeps frames of map blocks of a store that is far away, as they lie there, sealed where the store is: in files of this host, each
// under its pack and offset. Packs are never written twice, so what is there is right as long as it is whole, and any of it may go at any
// time. Several processes may use one folder. A nil one keeps nothing.
type nearby struct {
	folder string
	mu     sync.Mutex
	bytes  int64 // about what lies there; negative as long as nobody has looked
}

func (n *nearby) path(at frameAt) string {
	return filepath.Join(n.folder, fmt.Sprintf("%s-%08x", at.pack, at.offset))
}

// get gives a frame if it is there and whole.
func (n *nearby) get(at frameAt, length int) ([]byte, bool) {
	if n == nil {
		return nil, false
	}
	path := n.path(at)
	body, err := os.ReadFile(path)
	if err != nil || len(body) != length+8 || fmt.Sprintf("%08x", crc32.ChecksumIEEE(body[8:])) != string(body[:8]) {
		return nil, false
	}
	if st, err := os.Stat(path); err == nil && time.Since(st.ModTime()) > time.Hour {
		os.Chtimes(path, time.Time{}, time.Now()) // it was used; what was not goes first
	}
	return body[8:], true
}

// put keeps a frame. That it can't is no trouble: it is read from the store again.
func (n *nearby) put(at frameAt, stored []byte) {
	if n == nil || os.MkdirAll(n.folder, 0o700) != nil {
		return
	}
	body := append([]byte(fmt.Sprintf("%08x", crc32.ChecksumIEEE(stored))), stored...)
	f, err := os.CreateTemp(n.folder, "new-")
	if err != nil {
		return
	}
	_, err = f.Write(body)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), n.path(at))
	}
	if err != nil {
		os.Remove(f.Name())
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.bytes >= 0 {
		n.bytes += int64(len(body))
	}
	if n.bytes < 0 || n.bytes > nearbyMost {
		n.trim()
	}
}

// trim looks what lies there, and removes what was not used for longest where it is too much. The caller holds mu.
func (n *nearby) trim() {
	found, err := os.ReadDir(n.folder)
	if err != nil {
		return
	}
	var files []fs.FileInfo
	n.bytes = 0
	for _, e := range found {
		if st, err := e.Info(); err == nil {
			if strings.HasPrefix(st.Name(), "new-") && time.Since(st.ModTime()) < time.Hour {
				continue // somebody is writing it
			}
			files, n.bytes = append(files, st), n.bytes+st.Size()
		}
	}
	if n.bytes <= nearbyMost {
		return
	}
	slices.SortFunc(files, func(a, b fs.FileInfo) int {
		return cmp.Or(a.ModTime().Compare(b.ModTime()), cmp.Compare(a.Name(), b.Name()))
	})
	for _, st := range files {
		if n.bytes <= nearbyMost*9/10 {
			return
		}
		if os.Remove(filepath.Join(n.folder, st.Name())) == nil {
			n.bytes -= st.Size()
		}
	}
}

// Here says what of a store may be kept on this host from one time to the next.
type Here struct {
	// Folder is one for this store alone, "" for nowhere. It is made if it is wanted, and may be thrown away while the store is closed.
	Folder string
	// Far says that the store is reached over a line: its maps are kept, too, and its index from a smaller size on.
	Far bool
}

func (h Here) nearby() *nearby {
	if h.Folder == "" || !h.Far {
		return nil
	}
	return &nearby{folder: filepath.Join(h.Folder, "maps"), bytes: -1}
}

// indexFrom is the size of a store's indexes from which on they are kept.
func (h Here) indexFrom() int64 {
	if h.Far {
		return min(localFrom, localFromFar)
	}
	return localFrom
}
