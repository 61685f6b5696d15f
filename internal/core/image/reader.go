package image

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"sync"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
)

// Getter gives what is stored, verified against its name.
type Getter interface {
	// GetMap gives a map block. The caller must not change it.
	GetMap(ctx context.Context, name chunk.Name) ([]byte, error)
	// ReadParts reads parts of pieces into p, where they are wanted, in rising order. What lies between them in p is left as it is.
	ReadParts(ctx context.Context, p []byte, parts []Wanted) error
}

// Wanted is a part of a piece that is wanted in a buffer: Length bytes from byte From of the piece on, at byte At of the buffer.
type Wanted struct {
	Piece      chunk.Name
	From       int64
	At, Length int
}

// Reader is a disk of an image. It implements [disk.Disk].
type Reader struct {
	get    Getter
	desc   Disk
	root   chunk.Name
	height int

	mu     sync.Mutex
	names  map[chunk.Name][]chunk.Name // map blocks seen, bounded by maxNames
	leaves map[place][]Part            // leaves seen, bounded by maxLeaves
}

// place is where a leaf lies: the same one may lie at several, where a disk repeats itself.
type place struct {
	name chunk.Name
	at   int64
}

const (
	maxNames  = 1024 // 8 KiB each
	maxLeaves = 4096 // about 3 KiB each
)

// NewReader opens a disk of an image for reading.
func NewReader(get Getter, d Disk) (*Reader, error) {
	root, err := d.Root()
	if err != nil {
		return nil, err
	}
	return &Reader{get: get, desc: d, root: root, height: height(d.Size), names: map[chunk.Name][]chunk.Name{}, leaves: map[place][]Part{}}, nil
}

// Size implements [disk.Disk].
func (r *Reader) Size() int64 { return r.desc.Size }

// node gives the names in a map block above the leaves.
func (r *Reader) node(ctx context.Context, name chunk.Name) ([]chunk.Name, error) {
	r.mu.Lock()
	names, ok := r.names[name]
	r.mu.Unlock()
	if ok {
		return names, nil
	}
	body, err := r.get.GetMap(ctx, name)
	if err == nil {
		names, err = decodeNames(body)
	}
	if err != nil {
		return nil, fmt.Errorf("map block %s: %w", name, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.names) >= maxNames {
		clear(r.names)
	}
	r.names[name] = names
	return names, nil
}

// leaf gives the ranges of a leaf that begins at a unit.
func (r *Reader) leaf(ctx context.Context, name chunk.Name, at int64) ([]Part, error) {
	k := place{name, at}
	r.mu.Lock()
	parts, ok := r.leaves[k]
	r.mu.Unlock()
	if ok {
		return parts, nil
	}
	body, err := r.get.GetMap(ctx, name)
	if err == nil {
		parts, err = decodeParts(body, at)
	}
	if err != nil {
		return nil, fmt.Errorf("map block %s: %w", name, err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.leaves) >= maxLeaves {
		clear(r.leaves)
	}
	r.leaves[k] = parts
	return parts, nil
}

// find goes down to the map block of a height over a unit. Where there is none on the way, all of what that would have described is zeros:
// covers is how many units from the unit on a zero name covers.
func (r *Reader) find(ctx context.Context, height int, unit int64) (name chunk.Name, covers int64, err error) {
	name = r.root
	for h := r.height; ; h-- {
		if name.IsZero() {
			return name, span(h) - unit%span(h), nil
		}
		if h == height {
			return name, 0, nil
		}
		names, err := r.node(ctx, name)
		if err != nil {
			return name, 0, err
		}
		slot := unit / span(h-1) % fanout
		if slot >= int64(len(names)) {
			return chunk.Name{}, span(h) - unit%span(h), nil
		}
		name = names[slot]
	}
}

// at names what lies at a height over a unit.
func (r *Reader) at(ctx context.Context, height int, unit int64) (chunk.Name, error) {
	name, _, err := r.find(ctx, height, unit)
	return name, err
}

// parts gives the ranges of the leaf over a unit.
func (r *Reader) parts(ctx context.Context, unit int64) ([]Part, error) {
	name, err := r.at(ctx, 1, unit)
	if err != nil || name.IsZero() {
		return nil, err
	}
	return r.leaf(ctx, name, unit/leafUnits*leafUnits)
}

// next gives what lies at a unit: a range that has it, or how many units from there on are zeros for sure.
func (r *Reader) next(ctx context.Context, unit int64) (p Part, zeros int64, err error) {
	name, covers, err := r.find(ctx, 1, unit)
	if err != nil || name.IsZero() {
		return p, covers, err
	}
	begin := unit / leafUnits * leafUnits
	parts, err := r.leaf(ctx, name, begin)
	if err != nil {
		return p, 0, err
	}
	i := sort.Search(len(parts), func(i int) bool { return parts[i].End() > unit })
	if i == len(parts) {
		return p, begin + leafUnits - unit, nil
	}
	if parts[i].At > unit {
		return p, parts[i].At - unit, nil
	}
	return parts[i], 0, nil
}

// Held counts the bytes from a unit on, n units, that are not zeros. It costs what they are, not what they span.
func (r *Reader) Held(ctx context.Context, unit, n int64) (bytes int64, err error) {
	for at, end := unit, unit+n; at < end; {
		p, zeros, err := r.next(ctx, at)
		if err != nil {
			return 0, err
		}
		if zeros == 0 {
			zeros = min(p.End(), end) - at
			bytes += zeros * cut.Unit
		}
		at += zeros
	}
	return bytes, nil
}

// Extents implements [disk.Disk].
func (r *Reader) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	var out []disk.Extent
	for at := offset; at < offset+length && len(out) < 1024; {
		p, zeros, err := r.next(ctx, at/cut.Unit)
		if err != nil {
			return nil, err
		}
		kind, end := disk.Data, p.End()*cut.Unit
		if zeros > 0 {
			kind, end = disk.Zero, (at/cut.Unit+zeros)*cut.Unit
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
	ctx := context.Background()
	var wanted []Wanted
	n := 0
	for at := off; n < len(p) && at < r.desc.Size; at = off + int64(n) {
		part, zeros, err := r.next(ctx, at/cut.Unit)
		if err != nil {
			return 0, err
		}
		end := part.End() * cut.Unit
		if zeros > 0 {
			end = (at/cut.Unit + zeros) * cut.Unit
		}
		length := int(min(int64(len(p)-n), end-at, r.desc.Size-at))
		if zeros > 0 {
			clear(p[n : n+length])
		} else {
			wanted = append(wanted, Wanted{part.Piece, part.From*cut.Unit + at - part.At*cut.Unit, n, length})
		}
		n += length
	}
	if err := r.get.ReadParts(ctx, p, wanted); err != nil {
		return 0, fmt.Errorf("disk %s, from byte %d on: %w", r.desc.Target, off, err)
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// ErrSkip is what a visit to a map block returns to pass over what hangs on it.
var ErrSkip = errors.New("skip this map block")

// Visit is what [Reader.Walk] shows: a map block (Height 1 or more), or a part of a piece (Height 0), with the range of the disk in bytes
// that hangs on it, and for a piece where in it that begins.
type Visit struct {
	Name                 chunk.Name
	Height               int
	Offset, Length, From int64
}

// Walk calls visit for every map block of the disk, before what hangs on it, and every range. What occurs more than once is visited each
// time.
func (r *Reader) Walk(ctx context.Context, visit func(Visit) error) error {
	return Tree{r.desc.Target, r.root, r.height, r.desc.Size}.Walk(ctx, r.get, visit)
}

// Span is how many bytes of a disk a map block of a height describes.
func Span(height int) int64 { return span(height) * cut.Unit }
