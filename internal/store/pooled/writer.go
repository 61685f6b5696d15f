package pooled

import (
	"context"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
)

const (
	// packsAtOnce is how many packs are in memory: one fills while the others are on their way to the medium.
	packsAtOnce = 3
	// A gentle writer's packs begin with gentleFirst bytes, and are twice as long once one was written within gentleSoon, half as long after one that took
	// gentleLate: what is cut on a thin line is lost, and is to be little.
	gentleFirst, gentleLeast = 2 << 20, 512 << 10
	gentleSoon, gentleLate   = 3 * time.Second, 8 * time.Second
)

// step is how new pieces are compressed. New neighbours are compressed together, up to frame bytes: more saves bytes, and makes a read at
// random dearer, which costs a frame.
type step struct {
	effort chunk.Effort
	frame  int
}

// ladder has the steps that were on the frontier of time and bytes when all were measured (docs/benchmarks.md).
var ladder = map[site.Compression]step{
	site.Uncompressed: {chunk.Untouched, 128 << 10},
	site.Quick:        {-5, 128 << 10},
	site.Even:         {chunk.Ordinary, 128 << 10},
	site.Small:        {3, 512 << 10},
	site.Smallest:     {9, chunk.MaxFrame},
}

// Writer stores the pieces of one image. Its methods may be called by several goroutines at once; Flush makes durable what it stored, and
// Close ends it, whatever happened.
type Writer struct {
	s    *Store
	step step
	// target is the length at which a pack is closed, in bytes; a gentle writer changes it, under mu.
	target   int
	isGentle bool
	outer    context.Context
	ctx      context.Context // of uploads
	uploads  *errgroup.Group
	room     chan []byte // memory for packs of pieces; who needs more than there is waits
	buffers  sync.Pool

	mu sync.Mutex // never held while the medium works
	// pieces is the pack of pieces under way, maps that of map blocks: who walks images reads few packs then.
	pieces, maps *chunk.Pack
	pending      map[chunk.Name]bool // in packs that have not landed, or about to be in one
	fresh        int64               // bytes new to the store, before compression
	stored       int64               // and after
	landed       []landedPack
	indexed      int      // of those that landed, the first so many
	taken        [][]byte // from the memory of packs
}

type landedPack struct {
	directory chunk.Directory
	length    int64
}

// NewWriter starts a writer, which must end before its visit does. Cancelling ctx stops its uploads.
func (v *Visit) NewWriter(ctx context.Context) *Writer { return v.s.newWriter(ctx) }

// newWriter starts a writer without a visit, for pieces that images need as it is.
func (s *Store) newWriter(ctx context.Context) *Writer {
	w := &Writer{s: s, target: s.packTarget, outer: ctx, step: ladder[site.Even], pending: map[chunk.Name]bool{}, room: make(chan []byte, packsAtOnce)}
	for range packsAtOnce {
		w.room <- nil // made when it is needed first
	}
	w.uploads, w.ctx = errgroup.WithContext(ctx)
	w.buffers.New = func() any { b := make([]byte, chunk.Bound(chunk.MaxFrame)); return &b }
	return w
}

// gentle has the length of packs follow how long it takes to write one.
func (w *Writer) gentle() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.target, w.isGentle = min(gentleFirst, w.s.packTarget), true
}

// adapt sets the length of a gentle writer's next packs by how long the last one took.
func (w *Writer) adapt(took time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case !w.isGentle:
	case took < gentleSoon:
		w.target = min(2*w.target, w.s.packTarget)
	case took > gentleLate:
		w.target = max(w.target/2, min(gentleLeast, w.s.packTarget))
	}
}

// Written tells what was new to the store so far, in bytes before and after compression.
func (w *Writer) Written() (fresh, stored int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.fresh, w.stored
}

// span is a part of a buffer, in bytes.
type span struct{ from, until int }

// PutPieces stores those pieces of a content that the store does not have, and returns the names of all. New ones that lie side by side are
// compressed together. A piece that another writer has not landed yet is stored again: that writer may yet die.
func (w *Writer) PutPieces(_ context.Context, content []byte, pieces []span) ([]chunk.Name, error) {
	names := make([]chunk.Name, len(pieces))
	var row []chunk.Piece // the frame under way
	var at span
	put := func() error {
		if len(row) == 0 {
			return nil
		}
		err := w.putFrame(row, content[at.from:at.until], false)
		row = row[:0]
		return err
	}
	for i, p := range pieces {
		name := w.s.seal.Name(content[p.from:p.until])
		names[i] = name
		if w.s.firm(name) || !w.claim(name) {
			continue
		}
		if len(row) > 0 && (p.from != at.until || p.until-at.from > w.step.frame) {
			if err := put(); err != nil {
				return nil, err
			}
		}
		if len(row) == 0 {
			at.from = p.from
		}
		at.until = p.until
		row = append(row, chunk.Piece{Name: name, Size: uint32(p.until - p.from)})
	}
	return names, put()
}

// PutMap stores a map block unless the store has it, and returns its name. It implements [image.Putter].
func (w *Writer) PutMap(_ context.Context, body []byte) (chunk.Name, error) {
	name := w.s.seal.Name(body)
	if w.s.firm(name) || !w.claim(name) {
		return name, nil
	}
	return name, w.putFrame([]chunk.Piece{{Name: name, Size: uint32(len(body))}}, body, true)
}

// claim reports whether a piece is this writer's to store, and not under way already.
func (w *Writer) claim(name chunk.Name) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.pending[name] {
		return false
	}
	w.pending[name] = true
	return true
}

// putFrame compresses a frame and adds it to the pack under way.
func (w *Writer) putFrame(pieces []chunk.Piece, content []byte, isMap bool) error {
	effort := w.step.effort
	if isMap { // small, and read often
		effort = chunk.Ordinary
	}
	buffer := w.buffers.Get().(*[]byte)
	defer w.buffers.Put(buffer)
	compressed, codec := chunk.Compress(content, *buffer, effort)
	return w.add(pieces, compressed, codec, len(content), isMap)
}

// add puts a compressed frame of claimed pieces into the pack, and has that written when it is full.
func (w *Writer) add(pieces []chunk.Piece, compressed []byte, codec chunk.Codec, size int, isMap bool) error {
	pack := &w.pieces
	if isMap {
		pack = &w.maps
		w.mu.Lock()
		if w.maps == nil {
			w.maps = chunk.NewPack(w.s.seal, chunk.NewPackID(), nil)
		}
	} else if err := w.lockWithPack(); err != nil {
		return err
	}
	before := (*pack).Len()
	(*pack).Add(pieces, compressed, codec)
	w.fresh += int64(size)
	w.stored += int64((*pack).Len() - before)
	var full *chunk.Pack
	if (*pack).Len() >= w.target {
		full, *pack = *pack, nil
	}
	w.mu.Unlock()
	if full != nil {
		w.upload(full, !isMap)
	}
	return nil
}

// lockWithPack locks mu when there is a pack of pieces to add to; it waits for the room for one without the lock.
func (w *Writer) lockWithPack() error {
	for {
		if w.ctx.Err() != nil {
			return fmt.Errorf("store a piece: %w", context.Cause(w.ctx))
		}
		w.mu.Lock()
		if w.pieces != nil {
			return nil
		}
		w.mu.Unlock()
		select {
		case body := <-w.room:
			if body == nil {
				var err error
				if body, err = takeMemory(w.s.packTarget + chunk.MaxFrame); err != nil {
					w.room <- nil // or others would wait for it for ever
					return fmt.Errorf("memory for a pack of %d bytes: %w", w.s.packTarget, err)
				}
				w.mu.Lock()
				w.taken = append(w.taken, body)
				w.mu.Unlock()
			}
			w.mu.Lock()
			if w.pieces == nil {
				w.pieces = chunk.NewPack(w.s.seal, chunk.NewPackID(), body)
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

// Keep makes sure that a piece of an older image stays (height 0), or a map block and all that hangs on it. It implements
// [image.Putter]. Pieces that lie in condemned packs only are stored again. The older image must exist after the visit began.
func (w *Writer) Keep(ctx context.Context, name chunk.Name, height int) error {
	if _, ok := w.s.find(name); !ok {
		return fmt.Errorf("piece %s of the older image: %w: no pack holds it", name, chunk.ErrDamaged)
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
	body, err := w.s.GetMap(ctx, name)
	if err != nil {
		return err
	}
	if height == 0 {
		_, err = w.PutPieces(ctx, body, []span{{0, len(body)}})
		return err
	}
	err = image.Children(body, height, 0, func(v image.Visit) error { return w.rescue(ctx, v.Name, v.Height) })
	if err != nil {
		return err
	}
	_, err = w.PutMap(ctx, body)
	return err
}

// upload has a pack written. The memory of one of pieces is used again.
func (w *Writer) upload(p *chunk.Pack, again bool) {
	w.uploads.Go(func() error {
		body, directory := p.Finish()
		if again {
			defer func() { w.room <- body }()
		}
		began := time.Now()
		if err := w.s.putShared(w.ctx, packName(p.ID()), body); err != nil {
			return err
		}
		w.adapt(time.Since(began))
		var b batch
		w.s.learn(directory, int64(len(body)), false, &b)
		w.s.settleBatch(&b)
		w.mu.Lock()
		defer w.mu.Unlock()
		w.landed = append(w.landed, landedPack{directory, int64(len(body))})
		w.s.mu.Lock()
		defer w.s.mu.Unlock()
		directory.Each(func(e chunk.Entry) bool {
			delete(w.pending, e.Name)
			delete(w.s.bad, e.Name)
			return true
		})
		return nil
	})
}

// Flush makes all that was put durable: the last packs, then the index. More can be put after it, and nothing meanwhile.
func (w *Writer) Flush(ctx context.Context) error {
	w.mu.Lock()
	pieces, maps := w.pieces, w.maps
	w.pieces, w.maps = nil, nil
	w.mu.Unlock()
	if pieces != nil {
		w.upload(pieces, true)
	}
	if maps != nil {
		w.upload(maps, false)
	}
	if err := w.uploads.Wait(); err != nil {
		return err
	}
	if len(w.landed) > w.indexed {
		if err := w.s.writeIndex(ctx, w.landed[w.indexed:]); err != nil {
			return err
		}
		w.indexed = len(w.landed)
	}
	w.uploads, w.ctx = errgroup.WithContext(w.outer)
	return nil
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
		if file.bytes > 0 && file.bytes+p.directory.Len() > chunk.MaxIndex {
			if err := put(); err != nil {
				return err
			}
		}
		payload = chunk.AppendIndex(payload, p.directory, p.length)
		file.packs, file.bytes = append(file.packs, p.directory.Pack), file.bytes+p.directory.Len()
	}
	if file.bytes == 0 {
		return nil
	}
	return put()
}

// Close ends the writer: uploads that are under way, which its context should have stopped where they are not wanted, have ended when it
// returns, and its memory is free.
func (w *Writer) Close() {
	w.uploads.Wait() // Flush tells its error
	w.mu.Lock()
	defer w.mu.Unlock()
	w.pieces, w.maps = nil, nil
	for _, p := range w.taken {
		giveMemory(p)
	}
	w.taken = nil
}

// GiveBack says that what the writer stored is not wanted: the next sweep gives its space back, but for what others have
// come to lean on. It is for a run that failed for want of room; otherwise the next run makes use of what arrived.
func (w *Writer) GiveBack(ctx context.Context) error {
	w.uploads.Wait() // its error is known already: it is why there is something to give back
	w.mu.Lock()
	var packs []chunk.PackID
	for _, p := range w.landed {
		packs = append(packs, p.directory.Pack)
	}
	w.mu.Unlock()
	return w.s.condemn(ctx, packs)
}
