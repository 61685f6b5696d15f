package disk

import (
	"context"
	"fmt"
	"io"
)

// Stretch is a range of a disk that is made of others: the bytes of From at At on, at Offset.
type Stretch struct {
	Offset, Length int64
	From           Disk
	At             int64
}

// Stretches is a disk of a size that is made of stretches, in rising order; between them are zeros. Closing those below is the caller's.
func Stretches(size int64, of []Stretch) (Disk, error) {
	end := int64(0)
	for _, s := range of {
		if s.Length <= 0 || s.Offset < end || s.Offset > size-s.Length || s.At < 0 || s.At > s.From.Size()-s.Length {
			return nil, fmt.Errorf("a stretch of %d bytes at %d, from %d on, does not fit into a disk of %d bytes", s.Length, s.Offset, s.At, size)
		}
		end = s.Offset + s.Length
	}
	return stretched{size, of}, nil
}

type stretched struct {
	size int64
	of   []Stretch
}

func (d stretched) Size() int64 { return d.size }

// from is the index of the first stretch that ends after an offset.
func (d stretched) from(offset int64) int {
	i := 0
	for i < len(d.of) && d.of[i].Offset+d.of[i].Length <= offset {
		i++
	}
	return i
}

// Extents implements [Disk].
func (d stretched) Extents(ctx context.Context, offset, length int64) (out []Extent, err error) {
	end := offset + length
	for i := d.from(offset); offset < end; i++ {
		next := end
		if i < len(d.of) {
			next = min(end, d.of[i].Offset)
		}
		if next > offset {
			out = append(out, Extent{offset, next - offset, Zero})
			offset = next
		}
		if offset >= end {
			break
		}
		s := d.of[i]
		for to := min(end, s.Offset+s.Length); offset < to; {
			below, err := s.From.Extents(ctx, s.At+offset-s.Offset, to-offset)
			if err != nil || len(below) == 0 {
				return out, err
			}
			for _, e := range below {
				out = append(out, Extent{e.Offset - s.At + s.Offset, e.Length, e.Kind})
				offset += e.Length
			}
		}
	}
	return out, nil
}

// ReadAt implements [io.ReaderAt].
func (d stretched) ReadAt(p []byte, off int64) (n int, err error) {
	end := min(off+int64(len(p)), d.size)
	for i := d.from(off); off+int64(n) < end; i++ {
		at, next := off+int64(n), end
		if i < len(d.of) {
			next = min(end, d.of[i].Offset)
		}
		if next > at {
			clear(p[n : n+int(next-at)])
			n, at = n+int(next-at), next
		}
		if at >= end {
			break
		}
		s := d.of[i]
		part := p[n : n+int(min(end, s.Offset+s.Length)-at)]
		got, err := s.From.ReadAt(part, s.At+at-s.Offset)
		if n += got; got < len(part) {
			return n, err
		}
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
