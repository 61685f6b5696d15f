package pooled

import (
	"context"
	"fmt"
	"sync"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"

	"golang.org/x/sync/errgroup"
)

// packsAtOnce is how many packs are in memory: one fills while the others are on their way to the medium.
const packsAtOnce = 4

// Writer stores the blocks of one image. Put may be called by several goroutines at once; Flush ends it.
type Writer struct {
	s       *Store
	ctx     context.Context
	uploads *errgroup.Group
	room    chan []byte // memory for packs; who needs more than there is waits
	buffers sync.Pool

	mu      sync.Mutex // never held while the medium works
	pack    *chunk.Pack
	pending map[chunk.Name]bool // in packs that have not landed
	fresh   int64               // bytes new to the store, before compression
	stored  int64               // and after
	landed  []landedPack
}

type landedPack struct {
	id      chunk.PackID
	length  int64
	entries []chunk.Entry
}

// NewWriter starts a writer, which must end before its visit does. Cancelling ctx stops its uploads.
func (v *Visit) NewWriter(ctx context.Context) *Writer { return v.s.newWriter(ctx) }

// newWriter starts a writer without a visit, for blocks that images need as it is.
func (s *Store) newWriter(ctx context.Context) *Writer {
	w := &Writer{s: s, pending: map[chunk.Name]bool{}, room: make(chan []byte, packsAtOnce)}
	for range packsAtOnce {
		w.room <- nil // made when it is needed first
	}
	w.uploads, w.ctx = errgroup.WithContext(ctx)
	w.buffers.New = func() any { b := make([]byte, chunk.Bound(s.header.BlockSize)); return &b }
	return w
}

// Written tells what was new to the store so far, in bytes before and after compression.
func (w *Writer) Written() (fresh, stored int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.fresh, w.stored
}

// Put stores a block unless the store has it, and returns its name. It implements [image.Putter].
// A block that another writer has not landed yet is stored again: that writer may yet die.
func (w *Writer) Put(_ context.Context, block []byte) (chunk.Name, error) {
	name := w.s.seal.Name(block)
	if w.s.firm(name) || w.has(name) {
		return name, nil
	}
	buffer := w.buffers.Get().(*[]byte)
	defer w.buffers.Put(buffer)
	compressed, codec := chunk.Compress(block, *buffer)
	return name, w.add(name, compressed, codec, len(block))
}

// add puts a compressed block into the pack, and has that written when it is full.
func (w *Writer) add(name chunk.Name, compressed []byte, codec chunk.Codec, size int) error {
	if err := w.lockWithPack(); err != nil {
		return err
	}
	if w.pending[name] {
		w.mu.Unlock()
		return nil
	}
	w.pending[name] = true
	before := w.pack.Len()
	w.pack.Add(name, compressed, codec, size)
	w.fresh += int64(size)
	w.stored += int64(w.pack.Len() - before)
	var full *chunk.Pack
	if w.pack.Len() >= w.s.packTarget {
		full, w.pack = w.pack, nil
	}
	w.mu.Unlock()
	if full != nil {
		w.upload(full)
	}
	return nil
}

// lockWithPack locks mu when there is a pack to add to; it waits for the room for one without the lock.
func (w *Writer) lockWithPack() error {
	for {
		if w.ctx.Err() != nil {
			return fmt.Errorf("store a block: %w", context.Cause(w.ctx))
		}
		w.mu.Lock()
		if w.pack != nil {
			return nil
		}
		w.mu.Unlock()
		select {
		case body := <-w.room:
			if body == nil {
				body = make([]byte, 0, w.s.packTarget+2*w.s.header.BlockSize)
			}
			w.mu.Lock()
			if w.pack == nil {
				w.pack = chunk.NewPack(w.s.seal, chunk.NewPackID(), body)
				return nil
			}
			w.mu.Unlock()
			w.room <- body // another was faster
		case <-w.ctx.Done():
		}
	}
}

func (w *Writer) has(name chunk.Name) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.pending[name]
}

// Keep makes sure that a block of an older image stays, and all that hangs on it. It implements [image.Putter]. Blocks that
// lie in condemned packs only are stored again. The older image must exist after the visit began.
func (w *Writer) Keep(ctx context.Context, name chunk.Name, height int) error {
	if _, ok := w.s.find(name); !ok {
		return fmt.Errorf("block %s of the older image: %w: no pack holds it", name, chunk.ErrDamaged)
	}
	if len(w.s.condemnations()) == 0 {
		return nil
	}
	return w.rescue(ctx, name, height)
}

func (w *Writer) rescue(ctx context.Context, name chunk.Name, height int) error {
	if height == 0 && (w.s.firm(name) || w.has(name)) {
		return nil
	}
	block, err := w.s.Get(ctx, name)
	if err != nil {
		return err
	}
	if height > 0 {
		names, err := image.MapNames(block)
		if err != nil {
			return err
		}
		for _, n := range names {
			if n.IsZero() {
				continue
			}
			if err := w.rescue(ctx, n, height-1); err != nil {
				return err
			}
		}
	}
	_, err = w.Put(ctx, block)
	return err
}

// upload has a pack written.
func (w *Writer) upload(p *chunk.Pack) {
	w.uploads.Go(func() error {
		entries := p.Entries()
		body := p.Finish()
		defer func() { w.room <- body }()
		if err := w.s.medium.Put(w.ctx, packName(p.ID()), body); err != nil {
			return err
		}
		d, err := chunk.NewDirectory(p.ID(), chunk.EncodeDirectory(entries))
		if err != nil {
			return err
		}
		var b batch
		w.s.learn(d, int64(len(body)), false, &b)
		w.s.settleBatch(&b)
		w.mu.Lock()
		defer w.mu.Unlock()
		w.landed = append(w.landed, landedPack{p.ID(), int64(len(body)), entries})
		w.s.mu.Lock()
		defer w.s.mu.Unlock()
		for _, e := range entries {
			delete(w.pending, e.Name)
			delete(w.s.bad, e.Name)
		}
		return nil
	})
}

// Flush makes all that was put durable: the last pack, then the index.
func (w *Writer) Flush(ctx context.Context) error {
	w.mu.Lock()
	last := w.pack
	w.pack = nil
	w.mu.Unlock()
	if last != nil {
		w.upload(last)
	}
	if err := w.uploads.Wait(); err != nil || len(w.landed) == 0 {
		return err
	}
	return w.s.writeIndex(ctx, w.landed)
}

// writeIndex writes one index, or several where one would be too large.
func (s *Store) writeIndex(ctx context.Context, packs []landedPack) error {
	var payload []byte
	file := &indexFile{}
	put := func() error {
		name := "index/" + chunk.NewPackID().String()
		if err := s.putObject(ctx, chunk.IndexObject, name, payload); err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.indexes[name] = file
		for _, id := range file.packs {
			if n, ok := s.numbers[id]; ok {
				s.packs[n].indexed = true
			}
		}
		payload, file = nil, &indexFile{}
		return nil
	}
	for _, p := range packs {
		if file.entries > 0 && file.entries+len(p.entries) > chunk.MaxIndexEntries {
			if err := put(); err != nil {
				return err
			}
		}
		payload = chunk.AppendIndex(payload, p.id, p.length, p.entries)
		file.packs, file.entries = append(file.packs, p.id), file.entries+len(p.entries)
	}
	if file.entries == 0 {
		return nil
	}
	return put()
}

// GiveBack says that what the writer stored is not wanted: the next sweep gives its space back, but for what others have
// come to lean on. It is for a run that failed for want of room; otherwise the next run makes use of what arrived.
func (w *Writer) GiveBack(ctx context.Context) error {
	w.uploads.Wait() // its error is known already: it is why there is something to give back
	w.mu.Lock()
	var packs []chunk.PackID
	for _, p := range w.landed {
		packs = append(packs, p.id)
	}
	w.mu.Unlock()
	return w.s.condemn(ctx, packs)
}
