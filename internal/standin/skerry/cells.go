package skerry

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"keenlodge/internal/standin"
)

// block is the unit in which content is kept and changes are told, in bytes.
const block = 64 << 10

// cells keep what volumes and snapshots hold: a file of blocks, each of which is written by one volume until that is in a snapshot, and a map for each
// volume and snapshot that says which cell each of its blocks is; 0 is a block of zeros. A snapshot is a copy of its volume's map, and two of them differ
// where their maps do.
type cells struct {
	folder string
	mu     sync.RWMutex
	data   *os.File
	next   uint64
	// mine is from which cell on a volume's cells are in no snapshot, by volume.
	mine map[string]uint64
}

func blocks(size int64) int64 { return (size + block - 1) / block }

// openCells opens them; keep are the maps that are used, the others go.
func openCells(folder string, keep map[string]bool) (*cells, error) {
	c := &cells{folder: folder, next: 1, mine: map[string]uint64{}}
	err := os.MkdirAll(filepath.Join(folder, "maps"), 0o700)
	if err == nil {
		c.data, err = os.OpenFile(filepath.Join(folder, "cells"), os.O_RDWR|os.O_CREATE, 0o600)
	}
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(filepath.Join(folder, "maps"))
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !keep[e.Name()] {
			err = errors.Join(err, os.Remove(c.path(e.Name())))
			continue
		}
		m, failed := c.read(e.Name())
		err = errors.Join(err, failed)
		for _, n := range m {
			c.next = max(c.next, n+1)
		}
	}
	// What was written before may be in a snapshot.
	for id := range keep {
		c.mine[id] = c.next
	}
	return c, err
}

func (c *cells) path(id string) string { return filepath.Join(c.folder, "maps", id) }

// read reads a map.
func (c *cells) read(id string) ([]uint64, error) {
	body, err := os.ReadFile(c.path(id))
	if err != nil {
		return nil, err
	}
	out := make([]uint64, len(body)/8)
	for i := range out {
		out[i] = binary.LittleEndian.Uint64(body[8*i:])
	}
	return out, nil
}

// make makes a map of nothing but zeros, copy one that is another's.
func (c *cells) make(id string, size int64) error {
	return os.WriteFile(c.path(id), make([]byte, 8*blocks(size)), 0o600)
}

func (c *cells) copy(from, to string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	body, err := os.ReadFile(c.path(from))
	if err != nil {
		return err
	}
	c.mine[from] = c.next // what it has now is in both
	c.mine[to] = c.next
	return os.WriteFile(c.path(to), body, 0o600)
}

func (c *cells) remove(id string) error {
	if err := os.Remove(c.path(id)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil // its cells stay: this is no system for years
}

// write writes to a volume.
func (c *cells) write(id string, size int64, p []byte, at int64) error {
	if at < 0 || at+int64(len(p)) > size {
		return fmt.Errorf("%d bytes at %d are outside of the volume's %d", len(p), at, size)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	f, err := os.OpenFile(c.path(id), os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	for len(p) > 0 {
		b := at / block
		n := min(int64(len(p)), (b+1)*block-at)
		if err := c.writeBlock(f, c.mine[id], b, p[:n], at-b*block); err != nil {
			return err
		}
		p, at = p[n:], at+n
	}
	return nil
}

// writeBlock writes within a block: over its cell where no snapshot has that, and otherwise into another one.
func (c *cells) writeBlock(f *os.File, mine uint64, b int64, p []byte, within int64) error {
	var entry [8]byte
	if _, err := f.ReadAt(entry[:], 8*b); err != nil {
		return err
	}
	is := binary.LittleEndian.Uint64(entry[:])
	if is >= mine && is != 0 {
		_, err := c.data.WriteAt(p, int64(is)*block+within)
		return err
	}
	whole := make([]byte, block)
	if is != 0 && len(p) < block {
		if _, err := c.data.ReadAt(whole, int64(is)*block); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
	}
	copy(whole[within:], p)
	n := c.next
	c.next++
	if _, err := c.data.WriteAt(whole, int64(n)*block); err != nil {
		return err
	}
	binary.LittleEndian.PutUint64(entry[:], n)
	_, err := f.WriteAt(entry[:], 8*b)
	return err
}

// content reads what a volume or a snapshot holds.
func (c *cells) content(id string, size int64, p []byte, at int64) (int, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	m, err := c.read(id)
	if err != nil {
		return 0, err
	}
	n := 0
	for n < len(p) && at < size {
		b := at / block
		part := p[n:min(int64(n)+(b+1)*block-at, int64(len(p)), int64(n)+size-at)]
		if m[b] == 0 {
			clear(part)
		} else if _, err := c.data.ReadAt(part, int64(m[b])*block+at-b*block); err != nil && !errors.Is(err, io.EOF) {
			return n, err
		}
		n, at = n+len(part), at+int64(len(part))
	}
	return n, nil
}

// ranges lists, in order, where a map has something that another has not; none is compared with nothing.
func (c *cells) ranges(id, since string, size int64) (out standin.Ranges, err error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	out.Ranges = []standin.Range{}
	m, err := c.read(id)
	if err != nil {
		return out, err
	}
	old := make([]uint64, len(m))
	if since != "" {
		if old, err = c.read(since); err != nil {
			return out, err
		}
	}
	for i, n := range m {
		if at := int64(i) * block; i >= len(old) || n != old[i] {
			out.Add(at, min(block, size-at))
		}
	}
	return out, nil
}
