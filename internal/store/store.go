// Package store keeps images in the pooled layout: blocks named by their content, gathered into packs, found through an
// index. docs/store-format.md describes the bytes. Objects are written once, in the order packs, index, image; an image
// exists once its manifest does, so a writer that is killed anywhere leaves no damaged image behind.
package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium"
)

// BlockSize is the length of a data block of new stores, in bytes; docs/decisions/0002 says why.
const BlockSize = 128 << 10

// packTarget is the length at which a pack is closed, in bytes.
const packTarget = 24 << 20

const headerName = "store.json"

// ErrNoStore marks a place that holds no store.
var ErrNoStore = errors.New("it holds no store")

// Header describes a store. It is the object store.json.
type Header struct {
	Format    int       `json:"format"`
	Layout    string    `json:"layout"`
	ID        string    `json:"id"`
	BlockSize int       `json:"block_size"`
	Made      time.Time `json:"made"`
}

// Store is an open store. Its methods may be called by several goroutines at once.
type Store struct {
	medium medium.Medium
	header Header

	mu        sync.RWMutex
	index     map[chunk.Name]place
	packs     []chunk.PackID
	known     map[chunk.PackID]bool
	loaded    map[string]bool       // index objects read
	unindexed []chunk.PackDirectory // packs that no index names: a killed writer's, or one still at work
	damaged   map[string]error      // met while reading indexes and packs, by object
}

// place is where a block lies. All lengths are in bytes.
type place struct {
	pack                 uint32
	offset, stored, size uint32
	codec                chunk.Codec
}

// Make writes the header of a new store and opens it. The place must be empty; the caller looks.
func Make(ctx context.Context, m medium.Medium, now time.Time) (*Store, error) {
	h := Header{Format: 1, Layout: "pooled", ID: uuid.NewString(), BlockSize: BlockSize, Made: now.UTC().Truncate(time.Second)}
	body, err := json.MarshalIndent(h, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := m.Put(ctx, headerName, append(body, '\n')); err != nil {
		return nil, err
	}
	return Open(ctx, m)
}

// Open reads a store's header and index. A place without a store is [ErrNoStore].
func Open(ctx context.Context, m medium.Medium) (*Store, error) {
	body, err := m.Get(ctx, headerName, 0, -1)
	if errors.Is(err, medium.ErrNotFound) {
		return nil, fmt.Errorf("%s: %w (no %s)", m, ErrNoStore, headerName)
	}
	if err != nil {
		return nil, err
	}
	s := &Store{medium: m, index: map[chunk.Name]place{}, known: map[chunk.PackID]bool{}, loaded: map[string]bool{}, damaged: map[string]error{}}
	if err := json.Unmarshal(body, &s.header); err != nil {
		return nil, fmt.Errorf("%s in %s: %w: %v", headerName, m, chunk.ErrDamaged, err)
	}
	h := s.header
	switch {
	case h.Format != 1 || h.Layout != "pooled":
		return nil, fmt.Errorf("%s in %s: format %d, layout %q is not known to this program; update keenlodge", headerName, m, h.Format, h.Layout)
	case h.BlockSize < 4096 || h.BlockSize > chunk.MaxBlock || h.BlockSize&(h.BlockSize-1) != 0:
		return nil, fmt.Errorf("%s in %s: %w: block size %d", headerName, m, chunk.ErrDamaged, h.BlockSize)
	}
	return s, s.Refresh(ctx)
}

// Present reports whether the place still holds this store: a disk may have been unmounted since it was opened.
func (s *Store) Present(ctx context.Context) (bool, error) {
	body, err := s.medium.Get(ctx, headerName, 0, -1)
	if errors.Is(err, medium.ErrNotFound) {
		return false, nil
	}
	var h Header
	return err == nil && json.Unmarshal(body, &h) == nil && h.ID == s.header.ID, err
}

// Header describes the store.
func (s *Store) Header() Header { return s.header }

// Medium is where the store lies.
func (s *Store) Medium() medium.Medium { return s.medium }

// Refresh reads the indexes and packs that came since the store was opened: other processes write to it too.
func (s *Store) Refresh(ctx context.Context) error {
	var indexes, packs []medium.Object
	collect := func(to *[]medium.Object) func(medium.Object) error {
		return func(o medium.Object) error { *to = append(*to, o); return nil }
	}
	// Packs are listed first: one that an index names afterwards is then never taken for lost.
	if err := s.medium.List(ctx, "pack/", collect(&packs)); err != nil {
		return err
	}
	if err := s.medium.List(ctx, "index/", collect(&indexes)); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range indexes {
		if s.loaded[o.Name] {
			continue
		}
		directories, err := s.readIndex(ctx, o.Name)
		if errors.Is(err, chunk.ErrDamaged) {
			s.damaged[o.Name] = err // its packs are found by their own directories below
		} else if err != nil {
			return err
		}
		for _, d := range directories {
			s.learn(d)
		}
		s.loaded[o.Name] = true
	}
	var open []chunk.PackDirectory
	for _, d := range s.unindexed {
		if !s.known[d.Pack] {
			open = append(open, d)
		}
	}
	s.unindexed = open
	for _, o := range packs {
		id, err := packOf(o)
		if err != nil || s.known[id] {
			continue // a stranger's file is none of our business
		}
		directory, err := s.readDirectory(ctx, id, o.Size)
		if errors.Is(err, chunk.ErrDamaged) || errors.Is(err, medium.ErrNotFound) {
			s.damaged[o.Name] = err
			continue
		}
		if err != nil {
			return err
		}
		delete(s.damaged, o.Name)
		s.learn(directory)
		s.unindexed = append(s.unindexed, directory)
	}
	return nil
}

func (s *Store) readIndex(ctx context.Context, name string) ([]chunk.PackDirectory, error) {
	object, err := s.medium.Get(ctx, name, 0, -1)
	if err != nil {
		return nil, err
	}
	payload, err := chunk.DecodeObject(chunk.IndexObject, object)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return chunk.DecodeIndex(payload)
}

// readDirectory reads a pack's own directory, for packs that no index names.
func (s *Store) readDirectory(ctx context.Context, id chunk.PackID, size int64) (chunk.PackDirectory, error) {
	none := chunk.PackDirectory{}
	if size < chunk.TailSize {
		return none, fmt.Errorf("pack %s: %w: it has %d bytes", id, chunk.ErrDamaged, size)
	}
	tail, err := s.medium.Get(ctx, packName(id), size-chunk.TailSize, chunk.TailSize)
	if err != nil {
		return none, err
	}
	offset, length, err := chunk.DirectoryRange(tail, size)
	if err != nil {
		return none, fmt.Errorf("pack %s: %w", id, err)
	}
	body, err := s.medium.Get(ctx, packName(id), offset, length)
	if err != nil {
		return none, err
	}
	entries, err := chunk.DecodeDirectory(id, body)
	return chunk.PackDirectory{Pack: id, Entries: entries}, err
}

// learn adds a pack that is safely on the medium. The caller holds mu.
func (s *Store) learn(d chunk.PackDirectory) {
	if s.known[d.Pack] {
		return
	}
	s.known[d.Pack] = true
	n := uint32(len(s.packs))
	s.packs = append(s.packs, d.Pack)
	for _, e := range d.Entries {
		if _, ok := s.index[e.Name]; !ok {
			s.index[e.Name] = place{n, e.Offset, e.Stored, e.Size, e.Codec}
		}
	}
}

func packName(id chunk.PackID) string { return "pack/" + id.String()[:2] + "/" + id.String() }

// packOf tells which pack an object is.
func packOf(o medium.Object) (chunk.PackID, error) {
	return chunk.ParsePackID(o.Name[strings.LastIndexByte(o.Name, '/')+1:])
}

func imageName(id string) string { return "image/" + id }

// find tells where a block lies.
func (s *Store) find(name chunk.Name) (place, chunk.PackID, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	p, ok := s.index[name]
	if !ok {
		return place{}, chunk.PackID{}, false
	}
	return p, s.packs[p.pack], true
}

// Get reads a block and verifies it against its name. Errors wrap [chunk.ErrDamaged] if the store is at fault.
// It implements [image.Getter].
func (s *Store) Get(ctx context.Context, name chunk.Name) ([]byte, error) {
	p, pack, ok := s.find(name)
	if !ok {
		return nil, fmt.Errorf("block %s: %w: no pack of %s holds it", name, chunk.ErrDamaged, s.medium)
	}
	stored, err := s.medium.Get(ctx, packName(pack), int64(p.offset), int64(p.stored))
	if errors.Is(err, medium.ErrNotFound) {
		return nil, fmt.Errorf("block %s: %w: %v", name, chunk.ErrDamaged, err)
	}
	if err != nil {
		return nil, fmt.Errorf("block %s: %w", name, err)
	}
	block, err := chunk.Expand(stored, p.codec, int(p.size))
	if err != nil {
		return nil, fmt.Errorf("block %s in pack %s: %w", name, pack, err)
	}
	if chunk.NameOf(block) != name {
		return nil, fmt.Errorf("block %s in pack %s: %w: its content has another digest", name, pack, chunk.ErrDamaged)
	}
	return block, nil
}

// WriteImage makes an image exist. Its blocks must have been flushed before.
func (s *Store) WriteImage(ctx context.Context, m *image.Manifest) error {
	object, err := m.Encode()
	if err != nil {
		return err
	}
	return s.medium.Put(ctx, imageName(m.ID), object)
}

// ReadImage reads an image's manifest.
func (s *Store) ReadImage(ctx context.Context, id string) (*image.Manifest, error) {
	object, err := s.medium.Get(ctx, imageName(id), 0, -1)
	if err != nil {
		return nil, fmt.Errorf("image %s: %w", id, err)
	}
	m, err := image.Decode(object)
	if err != nil {
		return nil, fmt.Errorf("image %s: %w", id, err)
	}
	if m.ID != id {
		return nil, fmt.Errorf("image %s: %w: its manifest is of image %s", id, chunk.ErrDamaged, m.ID)
	}
	return m, nil
}

// DropImage makes an image exist no more. The space of its blocks is not given back yet.
func (s *Store) DropImage(ctx context.Context, id string) error {
	return s.medium.Delete(ctx, imageName(id))
}

// ImageIDs lists the images that exist.
func (s *Store) ImageIDs(ctx context.Context) ([]string, error) {
	var ids []string
	err := s.medium.List(ctx, "image/", func(o medium.Object) error {
		ids = append(ids, strings.TrimPrefix(o.Name, "image/"))
		return nil
	})
	return ids, err
}

// Used is what the store's objects take, in bytes, and their number.
func (s *Store) Used(ctx context.Context) (bytes int64, objects int, err error) {
	for _, prefix := range []string{"pack/", "index/", "image/"} {
		err := s.medium.List(ctx, prefix, func(o medium.Object) error {
			bytes, objects = bytes+o.Size, objects+1
			return nil
		})
		if err != nil {
			return 0, 0, err
		}
	}
	return bytes, objects, nil
}
