package store

import (
	"context"
	"fmt"
	"sync"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
)

// Writer stores the blocks of one image. Put may be called by several goroutines at once; Flush ends it.
type Writer struct {
	s       *Store
	ctx     context.Context
	uploads *errgroup.Group
	buffers sync.Pool

	mu      sync.Mutex
	pack    *chunk.Pack         // nil until something comes
	pending map[chunk.Name]bool // put by this writer
	fresh   int64               // bytes new to the store, before compression
	stored  int64               // and after

	landedMu sync.Mutex // apart from mu, which Put holds while it waits for an upload's turn
	landed   []chunk.PackDirectory
}

// NewWriter starts a writer. Cancelling ctx stops its uploads.
func (s *Store) NewWriter(ctx context.Context) *Writer {
	w := &Writer{s: s, pending: map[chunk.Name]bool{}}
	w.uploads, w.ctx = errgroup.WithContext(ctx)
	w.uploads.SetLimit(2)
	w.buffers.New = func() any { b := make([]byte, 0, s.header.BlockSize+1024); return &b }
	return w
}

// Written tells what was new to the store so far, in bytes before and after compression.
func (w *Writer) Written() (fresh, stored int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.fresh, w.stored
}

// Put stores a block unless the store has it, and returns its name. It implements [image.Putter].
// A block that only another, unfinished writer has is stored again: that writer may yet die.
func (w *Writer) Put(_ context.Context, block []byte) (chunk.Name, error) {
	name := chunk.NameOf(block)
	if _, _, ok := w.s.find(name); ok || w.has(name) {
		return name, nil
	}
	buffer := w.buffers.Get().(*[]byte)
	defer w.buffers.Put(buffer)
	stored, codec := chunk.Compress(block, *buffer)

	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.ctx.Err(); err != nil {
		return name, fmt.Errorf("store a block: %w", context.Cause(w.ctx))
	}
	if w.pending[name] {
		return name, nil
	}
	w.pending[name] = true
	if w.pack == nil {
		w.pack = chunk.NewPack(packTarget + 2*w.s.header.BlockSize)
	}
	w.pack.Add(name, stored, codec, len(block))
	w.fresh += int64(len(block))
	w.stored += int64(len(stored))
	if w.pack.Len() >= packTarget {
		w.upload()
	}
	return name, nil
}

func (w *Writer) has(name chunk.Name) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.pending[name]
}

// upload hands the pack over to be written; with two under way already it waits. The caller holds mu.
func (w *Writer) upload() {
	pack := w.pack
	w.pack = nil
	w.uploads.Go(func() error {
		entries := pack.Entries()
		id, body := pack.Finish()
		if err := w.s.medium.Put(w.ctx, packName(id), body); err != nil {
			return err
		}
		directory := chunk.PackDirectory{Pack: id, Entries: entries}
		w.s.mu.Lock()
		w.s.learn(directory)
		w.s.mu.Unlock()
		w.landedMu.Lock()
		w.landed = append(w.landed, directory)
		w.landedMu.Unlock()
		return nil
	})
}

// Flush makes all that was put durable: the last pack, then the index. It also indexes packs that a killed writer left.
func (w *Writer) Flush(ctx context.Context) error {
	w.mu.Lock()
	if w.pack != nil {
		w.upload()
	}
	w.mu.Unlock()
	if err := w.uploads.Wait(); err != nil {
		return err
	}
	w.s.mu.Lock()
	directories := append(w.s.unindexed, w.landed...)
	w.s.unindexed = nil
	w.s.mu.Unlock()
	if len(directories) == 0 {
		return nil
	}
	payload := chunk.EncodeIndex(directories)
	name := "index/" + chunk.NameOf(payload).String()[:32]
	if err := w.s.medium.Put(ctx, name, chunk.EncodeObject(chunk.IndexObject, payload)); err != nil {
		return err
	}
	w.s.mu.Lock()
	w.s.loaded[name] = true
	w.s.mu.Unlock()
	return nil
}
