package pooled

import (
	"container/list"
	"context"
	"errors"
	"fmt"
	"sync"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// cacheBytes bounds the content of frames that is kept for the next reader, in bytes.
const cacheBytes = 48 << 20

// frameAt is where a frame lies.
type frameAt struct {
	pack   chunk.PackID
	offset uint32
}

// frame is one that is being read, or was. Once ready is closed, content or err is there.
type frame struct {
	at      frameAt
	ready   chan struct{}
	content []byte
	err     error

	mu sync.Mutex
	// verified are the pieces that were matched with their names, by where they begin.
	verified map[uint32]bool
}

// frameCache keeps the frames that were read last. Who wants one that is being read waits for it.
type frameCache struct {
	mu    sync.Mutex
	at    map[frameAt]*list.Element // of *frame
	order list.List                 // used last first
	bytes int
}

// get gives a frame, and reads it where it is not there.
func (c *frameCache) get(ctx context.Context, at frameAt, read func() ([]byte, error)) (*frame, error) {
	c.mu.Lock()
	if e, ok := c.at[at]; ok {
		c.order.MoveToFront(e)
		c.mu.Unlock()
		f := e.Value.(*frame)
		select {
		case <-f.ready:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
		if f.err != nil && ctx.Err() == nil && errors.Is(f.err, context.Canceled) {
			return c.get(ctx, at, read) // who was reading it was stopped, and we are not
		}
		return f, f.err
	}
	f := &frame{at: at, ready: make(chan struct{}), verified: map[uint32]bool{}}
	if c.at == nil {
		c.at = map[frameAt]*list.Element{}
	}
	e := c.order.PushFront(f)
	c.at[at] = e
	c.mu.Unlock()
	f.content, f.err = read()
	close(f.ready)
	c.mu.Lock()
	defer c.mu.Unlock()
	if f.err != nil {
		c.drop(e)
		return f, f.err
	}
	for c.bytes += len(f.content); c.bytes > cacheBytes && c.order.Len() > 1; {
		last := c.order.Back()
		if last == e {
			break
		}
		c.drop(last)
	}
	return f, nil
}

// has reports whether a frame is there, or being read.
func (c *frameCache) has(at frameAt) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, ok := c.at[at]
	return ok
}

// drop forgets a frame; mu is held. One that is still being read has no content yet, and is dropped by its reader.
func (c *frameCache) drop(e *list.Element) {
	f := e.Value.(*frame)
	select {
	case <-f.ready:
	default:
		c.order.MoveToFront(e)
		return
	}
	if c.at[f.at] == e {
		delete(c.at, f.at)
		c.order.Remove(e)
		if f.err == nil {
			c.bytes -= len(f.content)
		}
	}
}

// reader reads pieces by way of a cache of frames, and packs ahead of what is asked for. It implements [image.Getter].
type reader struct {
	s      *Store
	cache  *frameCache // nil for who wants each piece once
	ahead  *ahead
	nearby *nearby // for map blocks
}

// asItLies reads the store as it lies now: nothing that was read before is taken for true.
func (s *Store) asItLies() reader { return reader{s, &frameCache{}, &ahead{}, nil} }

// reader is the one that all share.
func (s *Store) reader() reader { return reader{s, &s.frames, &s.ahead, s.nearby} }

// GetMap reads a map block and verifies it against its name. Errors wrap [chunk.ErrDamaged] if the store is at fault. It implements
// [image.Getter].
func (s *Store) GetMap(ctx context.Context, name chunk.Name) ([]byte, error) {
	return s.reader().GetMap(ctx, name)
}

// ReadParts reads parts of pieces into p, as GetMap does. It implements [image.Getter].
func (s *Store) ReadParts(ctx context.Context, p []byte, parts []image.Wanted) error {
	return s.reader().ReadParts(ctx, p, parts)
}

// ReadParts implements [image.Getter]. A frame that is wanted as a whole, and as it lies, is expanded straight into p.
func (r reader) ReadParts(ctx context.Context, p []byte, parts []image.Wanted) error {
	r.expect(parts)
	for len(parts) > 0 {
		if n := r.straight(ctx, p, parts); n > 0 {
			parts = parts[n:]
			continue
		}
		w := parts[0]
		piece, err := r.data().get(ctx, w.Piece)
		if err != nil {
			return err
		}
		if w.From < 0 || w.From+int64(w.Length) > int64(len(piece)) {
			return fmt.Errorf("piece %s: %w: bytes %d to %d of its %d are asked for", w.Piece, chunk.ErrDamaged, w.From, w.From+int64(w.Length), len(piece))
		}
		copy(p[w.At:w.At+w.Length], piece[w.From:])
		parts = parts[1:]
	}
	return nil
}

// expect has packs read as far as parts want them, in one request each, once the first of these is asked for.
func (r reader) expect(parts []image.Wanted) {
	if len(parts) < 2 || r.cache == nil {
		return
	}
	var row expected
	for _, w := range parts {
		v, ok := r.s.find(w.Piece)
		if !ok || v.id == row.pack && int64(v.offset) < row.until || r.cache.has(frameAt{v.id, v.offset}) {
			continue
		}
		end := int64(v.offset) + int64(v.stored())
		if row.until == 0 || v.id != row.pack || int64(v.offset) > row.until+nearBy || end-row.from > longestStretch {
			r.ahead.expect(row)
			row = expected{v.id, int64(v.offset), 0}
		}
		row.until = end
	}
	r.ahead.expect(row)
}

// straight reads the frame with which the parts begin, if all of it is wanted in a row, and returns how many parts that were. 0 is for what is
// not so, and for any trouble, which who reads piece by piece meets again.
func (r reader) straight(ctx context.Context, p []byte, parts []image.Wanted) (n int) {
	first, ok := r.s.find(parts[0].Piece)
	if !ok || first.entry().Within != 0 || r.cache.has(frameAt{first.id, first.offset}) {
		return 0
	}
	var entries []chunk.Entry
	length := 0
	for _, w := range parts {
		v, ok := r.s.find(w.Piece)
		e := v.entry()
		if !ok || v.pack != first.pack || v.offset != first.offset || int(e.Within) != length || w.From != 0 || w.Length != int(e.Size) || w.At != parts[0].At+length {
			break
		}
		entries, length = append(entries, e), length+w.Length
	}
	if len(entries) == 0 {
		return 0
	}
	into := p[parts[0].At:][:length:length]
	content, err := r.frame(ctx, first, into)
	if err != nil {
		return 0
	}
	if len(content) > length { // it holds more than is wanted now, in memory of its own
		r.cache.get(ctx, frameAt{first.id, first.offset}, func() ([]byte, error) { return content, nil })
	}
	if len(content) != length {
		return 0
	}
	for _, e := range entries {
		if _, err := e.Piece(r.s.seal, content); err != nil {
			return 0
		}
	}
	copy(into, content) // of what is not compressed; otherwise it is there already
	return len(entries)
}

// GetMap implements [image.Getter].
func (r reader) GetMap(ctx context.Context, name chunk.Name) ([]byte, error) { return r.get(ctx, name) }

// data is the reader for what no map block is.
func (r reader) data() reader {
	r.nearby = nil
	return r
}

// get reads a piece, wherever it lies now.
func (r reader) get(ctx context.Context, name chunk.Name) ([]byte, error) {
	p, ok := r.s.find(name)
	if !ok {
		return nil, fmt.Errorf("piece %s: %w: no pack of %s holds it", name, chunk.ErrDamaged, r.s.medium)
	}
	piece, err := r.at(ctx, p)
	// Sweeps may have moved it since the index was read, and again while it was read anew.
	for range 8 {
		if !errors.Is(err, medium.ErrNotFound) {
			break
		}
		if err := r.s.Refresh(ctx); err != nil {
			return nil, fmt.Errorf("piece %s: %w", name, err)
		}
		if p, ok = r.s.find(name); !ok {
			return nil, fmt.Errorf("piece %s: %w: its pack is gone from %s", name, chunk.ErrDamaged, r.s.medium)
		}
		piece, err = r.at(ctx, p)
	}
	if errors.Is(err, chunk.ErrDamaged) {
		for _, c := range r.s.copies(name) {
			if c.id == p.id {
				continue
			}
			if piece, err := r.at(ctx, c); err == nil {
				return piece, nil
			}
		}
	}
	return piece, err
}

// at reads a piece where it lies, and verifies it.
func (r reader) at(ctx context.Context, p place) ([]byte, error) {
	e := p.entry()
	if r.cache == nil {
		content, err := r.frame(ctx, p, nil)
		var piece []byte
		if err == nil {
			piece, err = e.Piece(r.s.seal, content)
		}
		if err != nil {
			return nil, fmt.Errorf("piece %s in pack %s: %w", p.name, p.id, err)
		}
		return piece, nil
	}
	f, err := r.cache.get(ctx, frameAt{p.id, e.Offset}, func() ([]byte, error) {
		return r.frame(ctx, p, nil)
	})
	if err != nil {
		return nil, fmt.Errorf("piece %s in pack %s: %w", p.name, p.id, err)
	}
	f.mu.Lock()
	verified := f.verified[e.Within]
	f.mu.Unlock()
	if verified {
		return f.content[e.Within : e.Within+e.Size], nil
	}
	piece, err := e.Piece(r.s.seal, f.content)
	if err != nil {
		return nil, fmt.Errorf("piece %s in pack %s: %w", p.name, p.id, err)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.verified[e.Within] = true
	return piece, nil
}

// frame reads the frame in which a piece lies: its content, which may use into's memory.
func (r reader) frame(ctx context.Context, p place, into []byte) ([]byte, error) {
	r.s.mu.RLock()
	last := r.s.packs[p.pack].length
	r.s.mu.RUnlock()
	e := p.entry()
	if stored, ok := r.nearby.get(frameAt{p.id, e.Offset}, int(e.Stored)); ok {
		content, _, err := chunk.OpenFrame(r.s.seal.Pack(p.id), e.Offset, e.Codec, stored, into)
		return content, err
	}
	stored, err := r.ahead.get(ctx, p.id, int64(e.Offset), int64(e.Stored), last, func(offset, length int64) ([]byte, error) {
		return r.s.readPack(ctx, p.id, offset, length)
	})
	if err != nil {
		return nil, err
	}
	content, _, err := chunk.OpenFrame(r.s.seal.Pack(p.id), e.Offset, e.Codec, stored, into)
	if err == nil {
		r.nearby.put(frameAt{p.id, e.Offset}, stored)
	}
	if err == nil && e.Codec == chunk.Plain && r.s.seal == nil {
		content = append(into[:0], content...) // it would keep all that was read ahead
	}
	return content, err
}

// readPack reads bytes of a pack. Where there are fewer, it is damaged.
func (s *Store) readPack(ctx context.Context, id chunk.PackID, offset, length int64) ([]byte, error) {
	stored, err := s.medium.Get(ctx, packName(id), offset, length)
	if store.IsShort(err) {
		err = fmt.Errorf("%w: %v", chunk.ErrDamaged, err)
	}
	return stored, err
}
