package image

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
)

// Fanout is the number of names in a map block. A map block is at most Fanout names of 32 bytes, trailing zero names
// cut off; a map block of zero names only is not stored, its name is the zero name.
const Fanout = 1024

// Getter gives a stored block's content, verified against its name. The caller must not change it.
type Getter interface {
	Get(ctx context.Context, name chunk.Name) ([]byte, error)
}

// Putter stores blocks.
type Putter interface {
	// Put stores a block and returns its name. It does not keep the slice.
	Put(ctx context.Context, block []byte) (chunk.Name, error)
	// Keep makes sure that a block of an older image stays, and all that hangs on it: height 0 is a data block, 1 a map
	// block over data, and so on.
	Keep(ctx context.Context, name chunk.Name, height int) error
}

// levels is the number of map levels over n blocks: 1 for up to Fanout blocks.
func levels(n int64) int {
	l := 1
	for n > Fanout {
		n = (n + Fanout - 1) / Fanout
		l++
	}
	return l
}

// blocks is the number of data blocks of a disk.
func blocks(size int64, blockSize int) int64 { return (size + int64(blockSize) - 1) / int64(blockSize) }

// TreeWriter builds a disk's tree from its blocks' names in rising order. It keeps one map block a level in memory.
type TreeWriter struct {
	put    Putter
	nodes  [][]chunk.Name // by level, 0 lies over the data
	next   int64          // index of the next block
	blocks int64
}

// NewTreeWriter starts the tree of a disk of size bytes.
func NewTreeWriter(put Putter, size int64, blockSize int) *TreeWriter {
	n := blocks(size, blockSize)
	return &TreeWriter{put: put, nodes: make([][]chunk.Name, levels(n)), blocks: n}
}

// Set names block index; blocks that are passed over are zeros. Index must rise.
func (w *TreeWriter) Set(ctx context.Context, index int64, name chunk.Name) error {
	if index < w.next || index >= w.blocks {
		return fmt.Errorf("block %d of a disk with %d blocks, after block %d: out of order", index, w.blocks, w.next-1)
	}
	if err := w.skip(ctx, 0, index-w.next); err != nil {
		return err
	}
	w.next = index + 1
	return w.add(ctx, 0, name)
}

// Keep takes blocks index to index+n-1 from the same place of an older disk of the same size. Whole map blocks are taken
// as they are, so that it costs what changed, not what there is. Index must rise as for Set.
func (w *TreeWriter) Keep(ctx context.Context, base *Reader, index, n int64) error {
	if base.desc.Height() != len(w.nodes) || index < w.next || index+n > w.blocks {
		return fmt.Errorf("blocks %d to %d of a disk with %d blocks, after block %d: out of order, or of a disk of another size", index, index+n-1, w.blocks, w.next-1)
	}
	if err := w.skip(ctx, 0, index-w.next); err != nil {
		return err
	}
	w.next = index + n
	for index < w.next {
		height := 0
		span := int64(1)
		for height+1 < len(w.nodes) && len(w.nodes[height]) == 0 && index+span*Fanout <= w.next {
			height, span = height+1, span*Fanout
		}
		name, err := base.at(ctx, height, index)
		if err != nil {
			return err
		}
		if !name.IsZero() {
			if err := w.put.Keep(ctx, name, height); err != nil {
				return err
			}
		}
		if err := w.add(ctx, height, name); err != nil {
			return err
		}
		index += span
	}
	return nil
}

// skip adds n zero names at a level, whole map blocks at a time.
func (w *TreeWriter) skip(ctx context.Context, level int, n int64) error {
	for n > 0 {
		room := int64(Fanout - len(w.nodes[level]))
		if len(w.nodes[level]) == 0 && n >= Fanout && level+1 < len(w.nodes) {
			if err := w.skip(ctx, level+1, n/Fanout); err != nil {
				return err
			}
			n %= Fanout
			continue
		}
		for range min(n, room) {
			if err := w.add(ctx, level, chunk.Name{}); err != nil {
				return err
			}
		}
		n -= min(n, room)
	}
	return nil
}

func (w *TreeWriter) add(ctx context.Context, level int, name chunk.Name) error {
	w.nodes[level] = append(w.nodes[level], name)
	if len(w.nodes[level]) < Fanout || level+1 == len(w.nodes) {
		return nil
	}
	return w.close(ctx, level)
}

// close stores a level's map block and names it in the level above.
func (w *TreeWriter) close(ctx context.Context, level int) error {
	name, err := w.store(ctx, level)
	if err != nil {
		return err
	}
	return w.add(ctx, level+1, name)
}

func (w *TreeWriter) store(ctx context.Context, level int) (chunk.Name, error) {
	names := w.nodes[level]
	w.nodes[level] = names[:0]
	for len(names) > 0 && names[len(names)-1].IsZero() {
		names = names[:len(names)-1]
	}
	if len(names) == 0 {
		return chunk.Name{}, nil
	}
	node := make([]byte, 0, len(names)*32)
	for _, n := range names {
		node = append(node, n[:]...)
	}
	return w.put.Put(ctx, node)
}

// Finish stores what is left and returns the root's name in hexadecimal, "" for a disk of zeros.
func (w *TreeWriter) Finish(ctx context.Context) (string, error) {
	top := len(w.nodes) - 1
	for level := range top {
		if len(w.nodes[level]) > 0 {
			if err := w.close(ctx, level); err != nil {
				return "", err
			}
		}
	}
	root, err := w.store(ctx, top)
	if err != nil || root.IsZero() {
		return "", err
	}
	return root.String(), nil
}

// Reader is a disk of an image. It implements [disk.Disk].
type Reader struct {
	get  Getter
	desc Disk
	root chunk.Name

	mu    sync.Mutex
	nodes map[chunk.Name][]chunk.Name // map blocks seen, bounded by maxNodes
	data  map[chunk.Name][]byte       // data blocks seen lately, bounded by maxData
	order []chunk.Name
}

const (
	maxNodes = 2048 // 32 KiB each
	maxData  = 64
)

// NewReader opens a disk of an image for reading.
func NewReader(get Getter, d Disk) (*Reader, error) {
	root, err := d.Root()
	if err != nil {
		return nil, err
	}
	return &Reader{get: get, desc: d, root: root, nodes: map[chunk.Name][]chunk.Name{}, data: map[chunk.Name][]byte{}}, nil
}

// Size implements [disk.Disk].
func (r *Reader) Size() int64 { return r.desc.Size }

// MapNames reads the content of a map block. Errors wrap [chunk.ErrDamaged].
func MapNames(body []byte) ([]chunk.Name, error) {
	if len(body)%32 != 0 || len(body) > Fanout*32 {
		return nil, fmt.Errorf("%w: it has %d bytes, which is no row of names", chunk.ErrDamaged, len(body))
	}
	names := make([]chunk.Name, len(body)/32)
	for i := range names {
		names[i] = chunk.Name(body[i*32:])
	}
	return names, nil
}

// node gives a map block's names.
func (r *Reader) node(ctx context.Context, name chunk.Name) ([]chunk.Name, error) {
	if name.IsZero() {
		return nil, nil
	}
	r.mu.Lock()
	names, ok := r.nodes[name]
	r.mu.Unlock()
	if ok {
		return names, nil
	}
	body, err := r.get.Get(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("map block %s: %w", name, err)
	}
	if names, err = MapNames(body); err != nil {
		return nil, fmt.Errorf("map block %s: %w", name, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.nodes) >= maxNodes {
		clear(r.nodes)
	}
	r.nodes[name] = names
	return names, nil
}

// block names the data block at an index, and tells how many blocks from there on are zeros for sure (0 if it is not).
func (r *Reader) block(ctx context.Context, index int64) (name chunk.Name, zeros int64, err error) {
	name = r.root
	span := int64(1) // blocks under one name of the level
	l := levels(blocks(r.desc.Size, r.desc.BlockSize))
	for range l - 1 {
		span *= Fanout
	}
	if name.IsZero() {
		return name, span*Fanout - index, nil
	}
	for ; ; span /= Fanout {
		names, err := r.node(ctx, name)
		if err != nil {
			return name, 0, err
		}
		slot := index / span % Fanout
		if slot >= int64(len(names)) {
			return chunk.Name{}, (Fanout-slot)*span - index%span, nil
		}
		if name = names[slot]; name.IsZero() {
			return name, span - index%span, nil
		}
		if span == 1 {
			return name, 0, nil
		}
	}
}

// Held counts the blocks from first on, n of them, that are not zeros. It costs what they are, not what they span.
func (r *Reader) Held(ctx context.Context, first, n int64) (held int64, err error) {
	for at := first; at < first+n; {
		_, zeros, err := r.block(ctx, at)
		if err != nil {
			return 0, err
		}
		if zeros == 0 {
			held++
		}
		at += max(1, zeros)
	}
	return held, nil
}

// at names what lies at a height over the block of an index: 0 the block itself.
func (r *Reader) at(ctx context.Context, height int, index int64) (chunk.Name, error) {
	name := r.root
	for h := r.desc.Height(); h > height; h-- {
		names, err := r.node(ctx, name)
		if err != nil {
			return chunk.Name{}, err
		}
		span := int64(1)
		for range h - 1 {
			span *= Fanout
		}
		slot := index / span % Fanout
		if slot >= int64(len(names)) {
			return chunk.Name{}, nil
		}
		name = names[slot]
	}
	return name, nil
}

// Extents implements [disk.Disk].
func (r *Reader) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	bs := int64(r.desc.BlockSize)
	var out []disk.Extent
	for at := offset; at < offset+length && len(out) < 1024; {
		_, zeros, err := r.block(ctx, at/bs)
		if err != nil {
			return nil, err
		}
		kind, end := disk.Data, (at/bs+1)*bs
		if zeros > 0 {
			kind, end = disk.Zero, (at/bs+zeros)*bs
		}
		end = min(end, offset+length)
		if n := len(out); n > 0 && out[n-1].Kind == kind {
			out[n-1].Length += end - at
		} else {
			out = append(out, disk.Extent{Offset: at, Length: end - at, Kind: kind})
		}
		at = end
	}
	return out, nil
}

// ReadAt implements [io.ReaderAt].
func (r *Reader) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("read at %d: negative offset", off)
	}
	bs := int64(r.desc.BlockSize)
	var n int
	for n < len(p) && off < r.desc.Size {
		within := off % bs
		want := min(int64(len(p)-n), bs-within, r.desc.Size-off)
		name, _, err := r.block(context.Background(), off/bs)
		if err != nil {
			return n, err
		}
		if name.IsZero() {
			clear(p[n : n+int(want)])
		} else {
			body, err := r.content(name)
			if err != nil {
				return n, fmt.Errorf("disk %s at byte %d: %w", r.desc.Target, off, err)
			}
			copy(p[n:n+int(want)], body[within:])
		}
		n, off = n+int(want), off+want
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// content gives a data block, from the small cache if it was read lately.
func (r *Reader) content(name chunk.Name) ([]byte, error) {
	r.mu.Lock()
	body, ok := r.data[name]
	r.mu.Unlock()
	if ok {
		return body, nil
	}
	body, err := r.get.Get(context.Background(), name)
	if err != nil {
		return nil, err
	}
	if len(body) != r.desc.BlockSize {
		return nil, fmt.Errorf("block %s: %w: it has %d bytes, not %d", name, chunk.ErrDamaged, len(body), r.desc.BlockSize)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, ok := r.data[name]; !ok {
		if len(r.order) >= maxData {
			delete(r.data, r.order[0])
			r.order = r.order[1:]
		}
		r.data[name] = body
		r.order = append(r.order, name)
	}
	return body, nil
}

// ErrSkip is what a visit to a map block returns to pass over what hangs on it.
var ErrSkip = errors.New("skip this map block")

// Names calls visit for every block of the disk, map blocks before what they name, with the disk's range in bytes that
// hangs on it. A block that occurs more than once is visited each time.
func (r *Reader) Names(ctx context.Context, visit func(name chunk.Name, isMap bool, offset, length int64) error) error {
	span := int64(1)
	for range levels(blocks(r.desc.Size, r.desc.BlockSize)) - 1 {
		span *= Fanout
	}
	return r.walk(ctx, r.root, 0, span, visit)
}

func (r *Reader) walk(ctx context.Context, name chunk.Name, first, span int64, visit func(chunk.Name, bool, int64, int64) error) error {
	if name.IsZero() {
		return nil
	}
	bs := int64(r.desc.BlockSize)
	if err := visit(name, true, first*bs, span*Fanout*bs); err != nil {
		if err == ErrSkip {
			return nil
		}
		return err
	}
	names, err := r.node(ctx, name)
	if err != nil {
		return err
	}
	for i, child := range names {
		at := first + int64(i)*span
		switch {
		case child.IsZero():
		case span > 1:
			err = r.walk(ctx, child, at, span/Fanout, visit)
		default:
			err = visit(child, false, at*bs, min(bs, r.desc.Size-at*bs))
		}
		if err != nil {
			return err
		}
	}
	return nil
}
