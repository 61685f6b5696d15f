package disk

import (
	"context"
	"io"
	"slices"
)

// From is the index of the first of some extents, in rising order, that ends after an offset; their number where none does.
func From(extents []Extent, offset int64) int {
	i, _ := slices.BinarySearchFunc(extents, offset, func(e Extent, at int64) int {
		if e.End() <= at {
			return -1
		}
		return 1
	})
	return i
}

// mostExtents bounds the extents of one answer, so that memory stays bounded whatever a disk holds.
const mostExtents = 1 << 16

// Between tells a range by some extents, in rising order, and what lies between them as of another kind. The answer may end before the range does; it is
// never empty, unless the range is.
func Between(given []Extent, offset, length int64, other Kind) (out []Extent) {
	i := From(given, offset)
	for end := offset + length; offset < end && len(out) < mostExtents; offset = out[len(out)-1].End() {
		e := Extent{offset, end - offset, other}
		if i < len(given) && given[i].Offset <= offset {
			e.Kind, e.Length = given[i].Kind, min(end, given[i].End())-offset
			i++
		} else if i < len(given) {
			e.Length = min(end, given[i].Offset) - offset
		}
		out = append(out, e)
	}
	return out
}

// Over is a disk as it is after a change: where top says [Unchanged] it is as under, of which that may be [Unchanged] in turn. Both are of one
// length. Closing is theirs.
func Over(top, under Disk) Disk { return over{top, under} }

type over struct{ top, under Disk }

func (o over) Size() int64 { return o.under.Size() }

// Extents implements [Disk].
func (o over) Extents(ctx context.Context, offset, length int64) (out []Extent, err error) {
	changed, err := o.top.Extents(ctx, offset, length)
	if err != nil {
		return nil, err
	}
	for _, e := range changed {
		if e.Kind != Unchanged {
			out = append(out, e)
			continue
		}
		for at := e.Offset; at < e.End(); {
			below, err := o.under.Extents(ctx, at, e.End()-at)
			if err != nil {
				return nil, err
			}
			if len(below) == 0 {
				return out, nil // whoever walks notices
			}
			out = append(out, below...)
			at = below[len(below)-1].End()
		}
	}
	return out, nil
}

// ReadAt implements [io.ReaderAt].
func (o over) ReadAt(p []byte, off int64) (n int, err error) {
	ctx := context.Background()
	end := min(off+int64(len(p)), o.Size())
	for at := off; at < end; {
		changed, err := o.top.Extents(ctx, at, end-at)
		if err != nil {
			return n, err
		}
		for _, e := range changed {
			from := o.top
			if e.Kind == Unchanged {
				from = o.under
			}
			part := p[e.Offset-off : e.End()-off]
			if got, err := from.ReadAt(part, e.Offset); got < len(part) {
				return n + got, err
			}
			n, at = int(e.End()-off), e.End()
		}
		if len(changed) == 0 {
			break
		}
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
