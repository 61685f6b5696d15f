package moment

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/agent/block"
	"keenlodge/internal/core/digest"
	"keenlodge/internal/core/disk"
)

// live is a disk that is written to while it is read. What is not in use reads as zeros. It implements [disk.Disk].
type live struct {
	block.Device
	r *block.Direct // with holes, where they are allowed

	mu sync.Mutex
	m  *block.Map // what comes into use is added
}

// Size implements [disk.Disk].
func (d *live) Size() int64 { return d.r.Size() }

// Extents implements [disk.Disk].
func (d *live) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.m.Used.Extents(offset, length), nil
}

// ReadAt implements [io.ReaderAt].
func (d *live) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= d.Size() {
		return d.r.ReadAt(p, off)
	}
	want := min(int64(len(p)), d.Size()-off)
	for at := off; at < off+want; {
		extents, err := d.Extents(context.Background(), at, off+want-at)
		if err != nil {
			return int(at - off), err
		}
		for _, e := range extents {
			part := p[e.Offset-off : e.End()-off]
			if e.Kind == disk.Zero {
				clear(part)
			} else if n, err := d.r.ReadAt(part, e.Offset); n < len(part) {
				return int(e.Offset-off) + n, err
			}
			at = e.End()
		}
	}
	if want < int64(len(p)) {
		return int(want), io.EOF
	}
	return int(want), nil
}

// wanted leaves out of what was written what nobody needs.
func (d *live) wanted(w written) written {
	for _, e := range d.m.Ignored.All() {
		for b := range w {
			from, to := b*span, (b+1)*span
			if from >= e.Offset && to <= e.End() {
				delete(w, b)
			}
		}
	}
	return w
}

// use adds what was written to what is in use.
func (d *live) use(extents []disk.Extent) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, e := range extents {
		first := e.Offset / span * span
		d.m.Used.Add(first, (e.End()+span-1)/span*span-first)
	}
}

// patch is what was written to a disk: all else of it is unchanged. It implements [disk.Disk].
type patch struct {
	size    int64
	extents []disk.Extent
	from    disk.Disk // reads what was written
}

func (p *patch) Size() int64 { return p.size }

// ReadAt implements [io.ReaderAt].
func (p *patch) ReadAt(b []byte, off int64) (int, error) { return p.from.ReadAt(b, off) }

// Extents implements [disk.Disk].
func (p *patch) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	return disk.Between(p.extents, offset, length, disk.Unchanged), nil
}

// copied are ranges of a disk, as they were when they were read into memory. What lies between them is read from the disk itself, for whoever
// wants more than was written.
type copied struct {
	disk.Disk
	extents []disk.Extent
	bytes   [][]byte
}

// copyOf makes room for ranges.
func copyOf(d disk.Disk, extents []disk.Extent) *copied {
	c := &copied{Disk: d, extents: extents}
	for _, e := range extents {
		c.bytes = append(c.bytes, block.Buffer(int(e.Length), page))
	}
	return c
}

// fill reads the ranges, several at once.
func (c *copied) fill(ctx context.Context, r *block.Direct) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readers)
	const step = 1 << 20
	for i, e := range c.extents {
		for at := int64(0); at < e.Length; at += step {
			part := c.bytes[i][at:min(at+step, e.Length)]
			group.Go(func() error {
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				if n, err := r.ReadAt(part, e.Offset+at); n < len(part) {
					return fmt.Errorf("read %d bytes at %d: %w", len(part), e.Offset+at, err)
				}
				return nil
			})
		}
	}
	return group.Wait()
}

// ReadAt implements [io.ReaderAt].
func (c *copied) ReadAt(p []byte, off int64) (n int, err error) {
	end := off + int64(len(p))
	i := disk.From(c.extents, off)
	if n = len(p); i == len(c.extents) || c.extents[i].Offset > off || c.extents[i].End() < end {
		n, err = c.Disk.ReadAt(p, off)
	}
	for ; i < len(c.extents) && c.extents[i].Offset < end; i++ {
		if from, to := max(off, c.extents[i].Offset), min(off+int64(n), c.extents[i].End()); from < to {
			copy(p[from-off:to-off], c.bytes[i][from-c.extents[i].Offset:])
		}
	}
	return n, err
}

// remembered is a disk whose digests are written down as it is read, or compared, for the image of an ID.
type remembered struct {
	*digest.Writer
	file  *os.File
	place string
}

// keep makes the digests those of an image that exists.
func (g *remembered) keep() error {
	err := g.Finish()
	err = errors.Join(err, g.file.Sync(), g.file.Close())
	if err == nil {
		err = os.Rename(g.file.Name(), g.place)
	}
	return err
}

// drop throws them away. After keep it does nothing.
func (g *remembered) drop() {
	g.file.Close()
	os.Remove(g.file.Name())
}
