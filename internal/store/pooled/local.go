package pooled

import (
	"bytes"
	"encoding/binary"
	"encoding/gob"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"keenlodge/internal/core/chunk"
)

// localFrom is the size of a store's indexes, in bytes, from which on what they say lies in files of this host: about six million pieces, or
// 400 MiB of memory. Tests lower it.
var localFrom = int64(256 << 20)

// localFromFar is that of a store that is reached over a line, where reading them takes seconds.
const localFromFar = 8 << 20

const (
	// localFormat changes with the bytes of the files. What is of another one is thrown away.
	localFormat = 2
	slotBytes   = 48
	shardBytes  = slotBytes + 1 // of a slot in a shard's file: all slots come first, then their references
)

// local is an index of a store in files of this host, from which the kernel keeps in memory what is used. It may be thrown away at any time,
// and is made again from the store's own indexes. Shards are mapped from a file each, as they lie in memory. The catalogue, which has all else,
// is there only while nobody has the index open: who opens it takes it away, so that an index whose process died, and of which nobody knows
// how far it got, is not believed.
type local struct {
	folder string
	lock   *os.File
	broken atomic.Bool // a shard has left its file: there will be no catalogue
}

// catalogue is what is known of a store beside the places of its pieces.
type catalogue struct {
	Format  int
	Arch    string
	Store   string
	Packs   []cataloguedPack
	Indexes []cataloguedIndex
	Others  []cataloguedCopy
	Used    [shards]int
}

type cataloguedPack struct {
	ID                  chunk.PackID
	Length, Raw, Stored int64
	Pieces              int
	Indexed, Gone       bool
}

type cataloguedIndex struct {
	Name  string
	Packs []chunk.PackID
	Bytes int
}

type cataloguedCopy struct {
	Name         chunk.Name
	Pack, Offset uint32
	Bits         uint64
}

// openLocal takes the index in a folder, empty or full. It is nil, without an error, where another process has it.
func openLocal(folder string) (*local, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, nil
		}
		return nil, fmt.Errorf("lock %s: %w", folder, err)
	}
	return &local{folder: folder, lock: lock}, nil
}

func (l *local) catalogue() string { return filepath.Join(l.folder, "catalogue") }

func (l *local) tally() string { return filepath.Join(l.folder, "tally") }

func (l *local) shardFile(i int) string {
	return filepath.Join(l.folder, fmt.Sprintf("shard-%02x", i))
}

// clear throws all of it away.
func (l *local) clear() error {
	errs := []error{remove(l.catalogue()), remove(l.tally())}
	for i := range shards {
		errs = append(errs, remove(l.shardFile(i)), remove(l.shardFile(i)+".new"))
	}
	return errors.Join(errs...)
}

func remove(path string) error {
	if err := os.Remove(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// room makes a file of n empty slots for a shard, which takes the place of an older one once commit is called.
func (l *local) room(i, n int) (slots []slot, refs []uint8, commit func() error, err error) {
	path := l.shardFile(i) + ".new"
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return nil, nil, nil, err
	}
	defer f.Close()
	// Written to through memory, a file without blocks of its own would kill the process when the disk is full.
	if err := syscall.Fallocate(int(f.Fd()), 0, 0, int64(n)*shardBytes); err != nil {
		return nil, nil, nil, errors.Join(err, os.Remove(path))
	}
	if slots, refs, err = mapSlots(f, n); err != nil {
		return nil, nil, nil, errors.Join(err, os.Remove(path))
	}
	return slots, refs, func() error { return os.Rename(path, l.shardFile(i)) }, nil
}

func mapSlots(f *os.File, n int) ([]slot, []uint8, error) {
	b, err := syscall.Mmap(int(f.Fd()), 0, n*shardBytes, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_SHARED)
	if err != nil {
		return nil, nil, fmt.Errorf("map %s: %w", f.Name(), err)
	}
	syscall.Madvise(b, syscall.MADV_RANDOM) // or each look at a piece would read its neighbours
	return unsafe.Slice((*slot)(unsafe.Pointer(unsafe.SliceData(b))), n), b[n*slotBytes:], nil
}

// bytesOf is what mapSlots has mapped.
func bytesOf(s []slot) []byte {
	return unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(s))), len(s)*shardBytes)
}

// load reads the catalogue and maps the shards, and takes the catalogue away. Where there is none that can be believed, it begins an empty
// index.
func (l *local) load(s *Store) error {
	var c catalogue
	err := readGob(l.catalogue(), &c)
	if err == nil {
		err = remove(l.catalogue())
	}
	if err == nil {
		err = l.adopt(s, c)
	}
	if err == nil {
		return nil
	}
	s.table.forget()
	return l.clear()
}

// adopt makes a catalogue and its shards the store's.
func (l *local) adopt(s *Store, c catalogue) error {
	if c.Format != localFormat || c.Arch != runtime.GOARCH || c.Store != s.header.ID {
		return errors.New("the catalogue is another's")
	}
	for i := range shards {
		f, err := os.OpenFile(l.shardFile(i), os.O_RDWR, 0)
		if errors.Is(err, fs.ErrNotExist) && c.Used[i] == 0 {
			continue
		}
		if err != nil {
			return err
		}
		st, err := f.Stat()
		n := 0
		if err == nil {
			n = int(st.Size() / shardBytes)
		}
		if err == nil && n <= c.Used[i] { // a search ends at an empty slot
			err = errors.New("a shard is cut off")
		}
		if err == nil {
			shard := &s.table.shards[i]
			shard.slots, shard.refs, err = mapSlots(f, n)
			shard.used, shard.mapped = c.Used[i], err == nil
		}
		f.Close()
		if err != nil {
			return err
		}
	}
	for i, p := range c.Packs {
		s.packs = append(s.packs, pack{id: p.ID, length: p.Length, pieces: p.Pieces, raw: p.Raw, stored: p.Stored, indexed: p.Indexed, gone: p.Gone})
		if !p.Gone {
			s.numbers[p.ID] = uint32(i)
		}
	}
	for _, x := range c.Indexes {
		s.indexes[x.Name] = &indexFile{x.Packs, x.Bytes}
	}
	for _, o := range c.Others {
		s.others[o.Name] = append(s.others[o.Name], slot{o.Name, o.Pack, o.Offset, o.Bits})
	}
	return nil
}

// save makes the shards durable, then the catalogue. The store must not be used any more.
func (l *local) save(s *Store) error {
	if l.broken.Load() {
		return l.clear()
	}
	if s.table.lost.Load() {
		if err := remove(l.tally()); err != nil {
			return err
		}
	}
	c := catalogue{Format: localFormat, Arch: runtime.GOARCH, Store: s.header.ID}
	for _, p := range s.packs {
		c.Packs = append(c.Packs, cataloguedPack{p.id, p.length, p.raw, p.stored, p.pieces, p.indexed, p.gone})
	}
	for _, name := range slices.Sorted(maps.Keys(s.indexes)) {
		c.Indexes = append(c.Indexes, cataloguedIndex{name, s.indexes[name].packs, s.indexes[name].bytes})
	}
	for name, copies := range s.others {
		for _, v := range copies {
			c.Others = append(c.Others, cataloguedCopy{name, v.pack, v.offset, v.bits})
		}
	}
	for i := range s.table.shards {
		shard := &s.table.shards[i]
		c.Used[i] = shard.used
		if !shard.mapped {
			continue
		}
		f, err := os.OpenFile(l.shardFile(i), os.O_RDWR, 0)
		if err != nil {
			return err
		}
		if err := errors.Join(f.Sync(), f.Close()); err != nil { // what was written through memory, too
			return err
		}
	}
	return writeGob(l.catalogue(), c)
}

// writeWhole writes a file that is there as a whole or not at all.
func writeWhole(path string, body []byte) error {
	f, err := os.OpenFile(path+"."+strconv.Itoa(os.Getpid()), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(body)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, remove(f.Name()))
	}
	return nil
}

// IndexTrouble tells why the index is in memory though a folder was given for it, nil if nothing is wrong.
func (s *Store) IndexTrouble() error { return s.localErr }

// openLocal takes over the index that the store's folder on this host holds, if any.
func (s *Store) openLocal() {
	if s.here.Folder == "" {
		return
	}
	if _, err := os.Stat((&local{folder: s.here.Folder}).catalogue()); errors.Is(err, fs.ErrNotExist) {
		return // there is none, or somebody has it
	}
	s.takeLocal(func(l *local) error { return l.load(s) })
}

// takeLocal takes the folder and prepares it. Where that fails, memory does instead, and [Store.IndexTrouble] tells why.
func (s *Store) takeLocal(prepare func(*local) error) {
	l, err := openLocal(s.here.Folder)
	if l == nil && err == nil {
		err = errors.New("another process has it")
	}
	if err == nil {
		if err = prepare(l); err != nil {
			err = errors.Join(err, l.lock.Close())
		}
	}
	if err != nil {
		s.localErr = fmt.Errorf("keep the index in %s: %w", s.here.Folder, err)
		return
	}
	s.local, s.table.local = l, l
}

// closeLocal keeps the index for the next time.
func (s *Store) closeLocal() error {
	if s.local == nil {
		return nil
	}
	err := s.local.save(s)
	s.table.forget()
	err = errors.Join(err, s.local.lock.Close())
	s.local, s.table.local = nil, nil
	if err != nil {
		return fmt.Errorf("keep the index in %s: %w", s.here.Folder, err)
	}
	return nil
}

// keptTally is a tally in a file: nodes one after the other, as in node.append.
type keptTally struct {
	Since  time.Time
	Images map[string][]byte
	Nodes  []byte
}

const nodeBytes = 37 // name 32, height 1, count 4

func (n node) append(b []byte, count uint32) []byte {
	return binary.BigEndian.AppendUint32(append(append(b, n.name[:]...), byte(n.height)), count)
}

func eachNode(b []byte, visit func(n node, count uint32)) {
	for ; len(b) >= nodeBytes; b = b[nodeBytes:] {
		visit(node{chunk.Name(b), int(b[32])}, binary.BigEndian.Uint32(b[33:]))
	}
}

// saveTally keeps what was counted. It belongs to the references in the shards, and is worth as much as they are.
func (l *local) saveTally(t *tally) error {
	kept := keptTally{Since: t.since, Images: map[string][]byte{}}
	for id, roots := range t.images {
		body := []byte{}
		for _, n := range roots {
			body = n.append(body, 1)
		}
		kept.Images[id] = body
	}
	for i := range t.nodes {
		for n, count := range t.nodes[i].counts {
			kept.Nodes = n.append(kept.Nodes, count)
		}
	}
	if err := writeGob(l.tally(), kept); err != nil {
		return fmt.Errorf("keep what images refer to: %w", err)
	}
	return nil
}

// loadTally takes what was counted the last time, nil where there is nothing that can be believed.
func (l *local) loadTally(s *Store) *tally {
	var kept keptTally
	if readGob(l.tally(), &kept) != nil || remove(l.tally()) != nil {
		return nil
	}
	t := &tally{s: s, since: kept.Since, images: map[string][]node{}}
	for id, roots := range kept.Images {
		list := []node{}
		eachNode(roots, func(n node, _ uint32) { list = append(list, n) })
		t.images[id] = list
	}
	for i := range t.nodes {
		t.nodes[i].counts = map[node]uint32{}
	}
	eachNode(kept.Nodes, func(n node, count uint32) { t.nodes[n.name[31]&63].counts[n] = count })
	return t
}

// writeGob writes a file that is there as a whole or not at all, readGob reads it and tells whether it is as it was written.
func writeGob(path string, v any) error {
	body := bytes.NewBuffer(make([]byte, 8))
	if err := gob.NewEncoder(body).Encode(v); err != nil {
		return err
	}
	whole := body.Bytes()
	copy(whole, fmt.Sprintf("%08x", crc32.ChecksumIEEE(whole[8:])))
	return writeWhole(path, whole)
}

func readGob(path string, v any) error {
	body, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if len(body) < 8 || fmt.Sprintf("%08x", crc32.ChecksumIEEE(body[8:])) != string(body[:8]) {
		return fmt.Errorf("%s is damaged", path)
	}
	return gob.NewDecoder(bytes.NewReader(body[8:])).Decode(v)
}
