package image

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sort"
	"sync"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
)

// A rope says of which pieces a stream of bytes consists, in their order: files have no place of their own as ranges of a disk do, so what lies
// behind one that grew would move. Its blocks tell lengths only, and end where a name says so: what did not change hangs on the same blocks, wherever
// it lies by now.

const (
	// ropeHeight is what a rope's leaf is told from a map block of a disk by: its height is this and 1, that of the blocks above it more.
	ropeHeight = 64
	// highestRope bounds a rope's height: as much as anybody can store.
	highestRope = ropeHeight + 16
	// leastEntries and mostEntries bound a block's entries; between them it ends after one whose name begins with a byte of zeros.
	leastEntries, mostEntries = 64, 1024
	// ropeLeaf is the length of a leaf's entry: the piece's length 4, its name 32. ropeNode is that of a block's above: bytes under it 8, its name 32.
	ropeLeaf, ropeNode = 36, 40
)

// strand is an entry of a rope's block: so many bytes, and what has them.
type strand struct {
	length int64
	name   chunk.Name
}

// decodeRope reads a block of a rope. Errors wrap [chunk.ErrDamaged].
func decodeRope(body []byte, height int) ([]strand, error) {
	size := ropeNode
	if height == ropeHeight+1 {
		size = ropeLeaf
	}
	if len(body) == 0 || len(body)%size != 0 || height > highestRope {
		return nil, fmt.Errorf("%w: it has %d bytes, which is no row of a rope's", chunk.ErrDamaged, len(body))
	}
	row := make([]strand, len(body)/size)
	sum := int64(0)
	for i := range row {
		e := body[i*size:]
		if size == ropeLeaf {
			row[i] = strand{int64(binary.BigEndian.Uint32(e)), chunk.Name(e[4:])}
		} else {
			row[i] = strand{int64(binary.BigEndian.Uint64(e)), chunk.Name(e[8:])}
		}
		n := row[i].length
		if sum += n; n <= 0 || size == ropeLeaf && n > cut.MaxPiece || sum <= 0 || row[i].name.IsZero() {
			return nil, fmt.Errorf("%w: its entry %d can't be one", chunk.ErrDamaged, i)
		}
	}
	return row, nil
}

// Stream is a stream of bytes of an image, as its manifest names it. Size is in bytes.
type Stream struct {
	Size int64 `json:"size"`
	// Rope is the name of the root of its rope in hexadecimal, "" for none; Height is the root's, 1 for a leaf.
	Rope   string `json:"rope,omitempty"`
	Height int    `json:"height,omitempty"`
}

// Check says what can't be true of it. Errors wrap [chunk.ErrDamaged].
func (s Stream) Check() error {
	name, err := chunk.ParseName(s.Rope)
	if err == nil && (s.Size < 0 || (s.Size == 0) != name.IsZero() || s.Size > 0 && s.Height < 1 || s.Height < 0 || s.Height > highestRope-ropeHeight) {
		err = fmt.Errorf("%w: a stream of %d bytes has a rope of height %d", chunk.ErrDamaged, s.Size, s.Height)
	}
	return err
}

// RopeWriter builds a rope from pieces in their order. It keeps one block a level in memory.
type RopeWriter struct {
	put    Putter
	levels [][]strand // the leaves' first
	size   int64
}

// NewRopeWriter begins a rope.
func NewRopeWriter(put Putter) *RopeWriter { return &RopeWriter{put: put} }

// Add adds a piece of length bytes.
func (w *RopeWriter) Add(ctx context.Context, piece chunk.Name, length int64) error {
	w.size += length
	return w.add(ctx, 0, strand{length, piece})
}

func (w *RopeWriter) add(ctx context.Context, level int, s strand) error {
	if level == len(w.levels) {
		w.levels = append(w.levels, nil)
	}
	w.levels[level] = append(w.levels[level], s)
	if n := len(w.levels[level]); n < leastEntries || n < mostEntries && s.name[0] != 0 {
		return nil
	}
	return w.end(ctx, level)
}

// end stores the block under way of a level, and names it in the level above.
func (w *RopeWriter) end(ctx context.Context, level int) error {
	s, err := w.store(ctx, level)
	if err != nil {
		return err
	}
	return w.add(ctx, level+1, s)
}

func (w *RopeWriter) store(ctx context.Context, level int) (out strand, err error) {
	row := w.levels[level]
	w.levels[level] = row[:0]
	body := make([]byte, 0, len(row)*ropeNode)
	for _, s := range row {
		if out.length += s.length; level == 0 {
			body = binary.BigEndian.AppendUint32(body, uint32(s.length))
		} else {
			body = binary.BigEndian.AppendUint64(body, uint64(s.length))
		}
		body = append(body, s.name[:]...)
	}
	out.name, err = w.put.PutMap(ctx, body)
	return out, err
}

// Finish stores what is left.
func (w *RopeWriter) Finish(ctx context.Context) (Stream, error) {
	if w.size == 0 {
		return Stream{}, nil
	}
	for level := 0; ; level++ {
		row := w.levels[level]
		top := level == len(w.levels)-1
		if top && len(row) == 1 && level > 0 { // a block that names one other is none
			return Stream{w.size, row[0].name.String(), level}, nil
		}
		if len(row) == 0 {
			continue
		}
		if top {
			s, err := w.store(ctx, level)
			return Stream{w.size, s.name.String(), level + 1}, err
		}
		if err := w.end(ctx, level); err != nil {
			return Stream{}, err
		}
	}
}

// Rope is a stream of an image, open for reading. Its methods may be called by several goroutines at once.
type Rope struct {
	get    Getter
	stream Stream
	root   chunk.Name

	mu     sync.Mutex
	blocks map[node][]strand // seen, bounded by maxRopes
}

type node struct {
	name   chunk.Name
	height int
}

// maxRopes bounds the blocks that are kept, of about 12 KiB each.
const maxRopes = 256

// OpenRope opens a stream.
func OpenRope(get Getter, s Stream) (*Rope, error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	root, err := chunk.ParseName(s.Rope)
	return &Rope{get: get, stream: s, root: root, blocks: map[node][]strand{}}, err
}

// Size is the stream's length in bytes.
func (r *Rope) Size() int64 { return r.stream.Size }

func (r *Rope) block(ctx context.Context, n node) ([]strand, error) {
	r.mu.Lock()
	row, ok := r.blocks[n]
	r.mu.Unlock()
	if ok {
		return row, nil
	}
	body, err := r.get.GetMap(ctx, n.name)
	if err == nil {
		row, err = decodeRope(body, n.height)
	}
	if err != nil {
		return nil, fmt.Errorf("rope block %s: %w", n.name, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.blocks) >= maxRopes {
		clear(r.blocks)
	}
	r.blocks[n] = row
	return row, nil
}

// Pieces calls visit for the pieces that have bytes of a range, in order, each with the place where it begins in the stream.
func (r *Rope) Pieces(ctx context.Context, from, until int64, visit func(Visit) error) error {
	if from >= until || r.stream.Size == 0 {
		return nil
	}
	return r.walk(ctx, node{r.root, ropeHeight + r.stream.Height}, 0, r.stream.Size, from, until, visit)
}

// walk visits what hangs on a block that begins at a byte and is to have so many.
func (r *Rope) walk(ctx context.Context, n node, at, length, from, until int64, visit func(Visit) error) error {
	row, err := r.block(ctx, n)
	if err != nil {
		return err
	}
	ends := make([]int64, len(row))
	sum := int64(0)
	for i, s := range row {
		sum += s.length
		ends[i] = at + sum
	}
	if sum != length {
		return fmt.Errorf("rope block %s: %w: it has %d bytes where %d are to be", n.name, chunk.ErrDamaged, sum, length)
	}
	for i := sort.Search(len(row), func(i int) bool { return ends[i] > from }); i < len(row); i++ {
		begin := ends[i] - row[i].length
		if begin >= until {
			return nil
		}
		if n.height == ropeHeight+1 {
			err = visit(Visit{Name: row[i].name, Offset: begin, Length: row[i].length})
		} else {
			err = r.walk(ctx, node{row[i].name, n.height - 1}, begin, row[i].length, from, until, visit)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// ReadAt implements [io.ReaderAt].
func (r *Rope) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("read at byte %d", off)
	}
	length := max(0, min(int64(len(p)), r.stream.Size-off))
	var wanted []Wanted
	err := r.Pieces(context.Background(), off, off+length, func(v Visit) error {
		from := max(0, off-v.Offset)
		wanted = append(wanted, Wanted{Piece: v.Name, From: from, At: int(v.Offset + from - off), Length: int(min(v.Length, off+length-v.Offset) - from)})
		return nil
	})
	if err == nil {
		err = r.get.ReadParts(context.Background(), p[:length], wanted)
	}
	if err != nil {
		return 0, err
	}
	if length < int64(len(p)) {
		return int(length), io.EOF
	}
	return int(length), nil
}

// Tree is what hangs on one root in an image: the map of a disk, or a rope.
type Tree struct {
	// What says what it is, for people: a disk's target, "files" or "list of files".
	What   string
	Root   chunk.Name
	Height int
	Size   int64
}

// Span is how many bytes the root covers: those of a disk's lie over its end.
func (t Tree) Span() int64 {
	if t.Height > ropeHeight {
		return t.Size
	}
	return Span(t.Height)
}

// Walk calls visit for every block of the tree, before what hangs on it, and every part of a piece, in order. What occurs more than once is visited
// each time; [ErrSkip] passes over what hangs on a block.
func (t Tree) Walk(ctx context.Context, get Getter, visit func(Visit) error) error {
	if t.Root.IsZero() {
		return nil
	}
	return t.walk(ctx, get, Visit{Name: t.Root, Height: t.Height, Length: t.Span()}, visit)
}

func (t Tree) walk(ctx context.Context, get Getter, v Visit, visit func(Visit) error) error {
	whole := v
	v.Length = min(v.Length, t.Size-v.Offset) // a disk's last may lie over its end
	if err := visit(v); err == ErrSkip && v.Height > 0 {
		return nil
	} else if err != nil || v.Height == 0 {
		return err
	}
	body, err := get.GetMap(ctx, v.Name)
	if err == nil {
		err = Children(body, v.Height, whole.Offset, func(v Visit) error { return t.walk(ctx, get, v, visit) })
	}
	if err != nil && errors.Is(err, chunk.ErrDamaged) {
		return fmt.Errorf("map block %s: %w", v.Name, err)
	}
	return err
}

// Trees lists all that an image keeps in pieces.
func (m *Manifest) Trees() (out []Tree, err error) {
	for _, d := range m.Disks {
		root, err := d.Root()
		if err != nil {
			return nil, err
		}
		out = append(out, Tree{d.Target, root, d.Height(), d.Size})
	}
	if m.Files == nil {
		return out, nil
	}
	for _, t := range []struct {
		what string
		Stream
	}{{"list of files", m.Files.List}, {"files", m.Files.Content}} {
		tree, err := TreeOf(t.what, t.Stream)
		if err != nil {
			return nil, err
		}
		if !tree.Root.IsZero() {
			out = append(out, tree)
		}
	}
	return out, nil
}

// TreeOf is the tree of a stream.
func TreeOf(what string, s Stream) (Tree, error) {
	root, err := chunk.ParseName(s.Rope)
	return Tree{what, root, ropeHeight + s.Height, s.Size}, err
}
