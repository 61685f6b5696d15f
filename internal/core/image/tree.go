package image

import (
	"context"
	"encoding/binary"
	"fmt"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
)

const (
	// leafUnits is how much of a disk one leaf of its map describes, in units of [cut.Unit]: 4 MiB. Small leaves keep an image small of
	// which little changed here and there.
	leafUnits = 1024
	// fanout is the number of names in a map block above the leaves.
	fanout = 256
	// entryBytes is the length of an entry of a leaf: begin in the leaf 2, length 2, begin in the piece 2 (all in units), the piece's name.
	entryBytes = 38
)

// Part says that a range of a disk is a part of a piece. Lengths are in units of [cut.Unit]; At is counted from the disk's begin, From from
// the piece's.
type Part struct {
	At, Units, From int64
	Piece           chunk.Name
}

// End is the first unit after the range.
func (p Part) End() int64 { return p.At + p.Units }

// clip is what of the range lies within bounds, which it must touch.
func (p Part) clip(at, end int64) Part {
	from := max(p.At, at)
	return Part{from, min(p.End(), end) - from, p.From + from - p.At, p.Piece}
}

// units is the length of a disk in units, the last of which may lie over its end.
func units(size int64) int64 { return (size + cut.Unit - 1) / cut.Unit }

// height is how many levels of map blocks a disk of size bytes has, the leaves among them: at least one lies over the leaves.
func height(size int64) int {
	h := 2
	for n := (units(size) + leafUnits - 1) / leafUnits; n > fanout; n = (n + fanout - 1) / fanout {
		h++
	}
	return h
}

// span is how many units a map block at a height describes; leaves are at height 1.
func span(height int) int64 {
	n := int64(leafUnits)
	for range height - 1 {
		n *= fanout
	}
	return n
}

// decodeNames reads the content of a map block above the leaves. Errors wrap [chunk.ErrDamaged].
func decodeNames(body []byte) ([]chunk.Name, error) {
	if len(body)%32 != 0 || len(body) > fanout*32 {
		return nil, fmt.Errorf("%w: it has %d bytes, which is no row of names", chunk.ErrDamaged, len(body))
	}
	row := make([]chunk.Name, len(body)/32)
	for i := range row {
		row[i] = chunk.Name(body[i*32:])
	}
	return row, nil
}

// decodeParts reads the content of a leaf that begins at a unit of its disk: ranges in rising order, between which are zeros. Errors wrap
// [chunk.ErrDamaged].
func decodeParts(body []byte, at int64) ([]Part, error) {
	if len(body)%entryBytes != 0 {
		return nil, fmt.Errorf("%w: it has %d bytes, which is no row of ranges", chunk.ErrDamaged, len(body))
	}
	row := make([]Part, len(body)/entryBytes)
	next := int64(0)
	for i := range row {
		e := body[i*entryBytes:]
		first, n, from := int64(binary.BigEndian.Uint16(e)), int64(binary.BigEndian.Uint16(e[2:])), int64(binary.BigEndian.Uint16(e[4:]))
		row[i] = Part{at + first, n, from, chunk.Name(e[6:])}
		if first < next || n == 0 || first+n > leafUnits || (from+n)*cut.Unit > cut.MaxPiece || row[i].Piece.IsZero() {
			return nil, fmt.Errorf("%w: its entry %d can't be one", chunk.ErrDamaged, i)
		}
		next = first + n
	}
	return row, nil
}

func encodeParts(parts []Part, at int64) []byte {
	body := make([]byte, 0, len(parts)*entryBytes)
	for _, p := range parts {
		body = binary.BigEndian.AppendUint16(body, uint16(p.At-at))
		body = binary.BigEndian.AppendUint16(body, uint16(p.Units))
		body = binary.BigEndian.AppendUint16(body, uint16(p.From))
		body = append(body, p.Piece[:]...)
	}
	return body
}

// Putter stores map blocks.
type Putter interface {
	// PutMap stores a map block and returns its name. It does not keep the slice.
	PutMap(ctx context.Context, body []byte) (chunk.Name, error)
	// Keep makes sure that a piece (height 0), or a map block and all that hangs on it, of an older image stays.
	Keep(ctx context.Context, name chunk.Name, height int) error
}

// TreeWriter builds a disk's map from ranges in rising order. It keeps one map block a level in memory.
type TreeWriter struct {
	put   Putter
	units int64
	next  int64 // the first unit that may be set
	leaf  []Part
	// at is the number of the leaf under way, leaves how many were closed.
	at, leaves int64
	levels     [][]chunk.Name // above the leaves, the lowest first
}

// NewTreeWriter starts the map of a disk of size bytes.
func NewTreeWriter(put Putter, size int64) *TreeWriter {
	return &TreeWriter{put: put, units: units(size), levels: make([][]chunk.Name, height(size)-1)}
}

// Set says what a range is. What is passed over is zeros. Ranges must rise.
func (w *TreeWriter) Set(ctx context.Context, p Part) error {
	if err := w.pass(p.At, p.Units); err != nil {
		return err
	}
	for at := p.At; at < p.End(); {
		if err := w.turn(ctx, at/leafUnits); err != nil {
			return err
		}
		end := (at/leafUnits + 1) * leafUnits
		w.add(p.clip(at, end))
		at = end
	}
	return nil
}

// add adds a range to the leaf under way, joined to the one before where it goes on.
func (w *TreeWriter) add(p Part) {
	if n := len(w.leaf); n > 0 {
		last := &w.leaf[n-1]
		if last.Piece == p.Piece && last.End() == p.At && last.From+last.Units == p.From {
			last.Units += p.Units
			return
		}
	}
	w.leaf = append(w.leaf, p)
}

func (w *TreeWriter) pass(at, n int64) error {
	if at < w.next || n <= 0 || at+n > w.units {
		return fmt.Errorf("units %d to %d of a disk of %d, after unit %d: out of order", at, at+n-1, w.units, w.next-1)
	}
	w.next = at + n
	return nil
}

// Keep takes a range from the same place of an older disk of the same height. Whole map blocks are taken as they are, so that it costs what
// changed, not what there is. Ranges must rise, as for Set.
func (w *TreeWriter) Keep(ctx context.Context, base *Reader, at, n int64) error {
	if base.height != len(w.levels)+1 {
		return fmt.Errorf("a map of %d levels can't be taken into one of %d", base.height, len(w.levels)+1)
	}
	if err := w.pass(at, n); err != nil {
		return err
	}
	for at < w.next {
		if at%leafUnits != 0 || at+leafUnits > w.next && w.next < w.units {
			end := min(w.next, (at/leafUnits+1)*leafUnits)
			if err := w.keepParts(ctx, base, at, end); err != nil {
				return err
			}
			at = end
			continue
		}
		if err := w.turn(ctx, at/leafUnits); err != nil {
			return err
		}
		// As high as the place and the length allow. What is under way above must begin with it.
		h := 1
		for h+1 < base.height && len(w.levels[h-1]) == 0 && at%span(h+1) == 0 && (at+span(h+1) <= w.next || w.next == w.units) {
			h++
		}
		name, err := base.at(ctx, h, at)
		if err != nil {
			return err
		}
		if !name.IsZero() {
			if err := w.put.Keep(ctx, name, h); err != nil {
				return err
			}
		}
		if err := w.addName(ctx, h-1, name); err != nil {
			return err
		}
		at = min(at+span(h), w.next)
		w.leaves = (at + leafUnits - 1) / leafUnits
		w.at = w.leaves
	}
	return nil
}

// keepParts takes a part of a leaf.
func (w *TreeWriter) keepParts(ctx context.Context, base *Reader, at, end int64) error {
	if err := w.turn(ctx, at/leafUnits); err != nil {
		return err
	}
	parts, err := base.parts(ctx, at)
	if err != nil {
		return err
	}
	for _, p := range parts {
		if p.End() <= at || p.At >= end {
			continue
		}
		if err := w.put.Keep(ctx, p.Piece, 0); err != nil {
			return err
		}
		w.add(p.clip(at, end))
	}
	return nil
}

// turn makes a leaf the one under way: it closes the one before, and passes over those between.
func (w *TreeWriter) turn(ctx context.Context, leaf int64) error {
	if leaf == w.at {
		return nil
	}
	if err := w.closeLeaf(ctx); err != nil {
		return err
	}
	if err := w.skip(ctx, 0, leaf-w.leaves); err != nil {
		return err
	}
	w.at, w.leaves = leaf, leaf
	return nil
}

// closeLeaf stores the leaf under way, if there is one.
func (w *TreeWriter) closeLeaf(ctx context.Context) error {
	if len(w.leaf) == 0 {
		return nil
	}
	if err := w.skip(ctx, 0, w.at-w.leaves); err != nil {
		return err
	}
	name, err := w.put.PutMap(ctx, encodeParts(w.leaf, w.at*leafUnits))
	if err != nil {
		return err
	}
	w.leaf, w.leaves = w.leaf[:0], w.at+1
	return w.addName(ctx, 0, name)
}

// skip adds n zero names at a level, whole map blocks at a time.
func (w *TreeWriter) skip(ctx context.Context, level int, n int64) error {
	for n > 0 {
		if len(w.levels[level]) == 0 && n >= fanout && level+1 < len(w.levels) {
			if err := w.skip(ctx, level+1, n/fanout); err != nil {
				return err
			}
			n %= fanout
			continue
		}
		if err := w.addName(ctx, level, chunk.Name{}); err != nil {
			return err
		}
		n--
	}
	return nil
}

func (w *TreeWriter) addName(ctx context.Context, level int, name chunk.Name) error {
	w.levels[level] = append(w.levels[level], name)
	if len(w.levels[level]) < fanout || level+1 == len(w.levels) {
		return nil
	}
	return w.closeNames(ctx, level)
}

// closeNames stores a level's map block and names it in the level above.
func (w *TreeWriter) closeNames(ctx context.Context, level int) error {
	name, err := w.storeNames(ctx, level)
	if err != nil {
		return err
	}
	return w.addName(ctx, level+1, name)
}

func (w *TreeWriter) storeNames(ctx context.Context, level int) (chunk.Name, error) {
	names := w.levels[level]
	w.levels[level] = names[:0]
	for len(names) > 0 && names[len(names)-1].IsZero() {
		names = names[:len(names)-1]
	}
	if len(names) == 0 {
		return chunk.Name{}, nil
	}
	body := make([]byte, 0, len(names)*32)
	for _, n := range names {
		body = append(body, n[:]...)
	}
	return w.put.PutMap(ctx, body)
}

// Finish stores what is left and returns the root's name in hexadecimal, "" for a disk of zeros.
func (w *TreeWriter) Finish(ctx context.Context) (string, error) {
	if err := w.closeLeaf(ctx); err != nil {
		return "", err
	}
	top := len(w.levels) - 1
	for level := range top {
		if len(w.levels[level]) > 0 {
			if err := w.closeNames(ctx, level); err != nil {
				return "", err
			}
		}
	}
	root, err := w.storeNames(ctx, top)
	if err != nil || root.IsZero() {
		return "", err
	}
	return root.String(), nil
}

// Children calls visit for what a map block of a height names, or a rope's block, that begins at a byte of its disk or stream, as it lies, zeros left
// out. The last may lie over the disk's end. Errors of the map block wrap [chunk.ErrDamaged].
func Children(body []byte, height int, offset int64, visit func(Visit) error) error {
	if height > ropeHeight {
		row, err := decodeRope(body, height)
		for i := 0; i < len(row) && err == nil; i++ {
			below := height - 1
			if below == ropeHeight {
				below = 0
			}
			err = visit(Visit{Name: row[i].name, Height: below, Offset: offset, Length: row[i].length})
			offset += row[i].length
		}
		return err
	}
	if height == 1 {
		parts, err := decodeParts(body, offset/cut.Unit)
		for i := 0; i < len(parts) && err == nil; i++ {
			p := parts[i]
			err = visit(Visit{Name: p.Piece, Offset: p.At * cut.Unit, Length: p.Units * cut.Unit, From: p.From * cut.Unit})
		}
		return err
	}
	names, err := decodeNames(body)
	each := Span(height - 1)
	for i := 0; i < len(names) && err == nil; i++ {
		if !names[i].IsZero() {
			err = visit(Visit{Name: names[i], Height: height - 1, Offset: offset + int64(i)*each, Length: each})
		}
	}
	return err
}
