package proof

import (
	"context"
	"fmt"
	"io"

	"github.com/zeebo/blake3"

	"keenlodge/internal/core/disk"
)

// stretch is how much of a disk one digest is of at most, and how much is compared at once, in bytes.
const stretch = 4 << 20

// given is a disk of an image that is written out: it has digests of what was read of it, so that what lies there then is compared without reading the
// image again. One goroutine reads it, in rising order.
type given struct {
	disk.Disk
	read []part
	hash *blake3.Hasher
}

// part is a range of the disk, and the BLAKE3 of what the image has there.
type part struct {
	offset, length int64
	sum            [32]byte
}

// ReadAt implements [disk.Disk].
func (g *given) ReadAt(p []byte, offset int64) (int, error) {
	n, err := g.Disk.ReadAt(p, offset)
	last := len(g.read) - 1
	if last < 0 || g.read[last].offset+g.read[last].length != offset || g.read[last].length+int64(n) > stretch {
		g.end()
		g.read, g.hash, last = append(g.read, part{offset: offset}), blake3.New(), last+1
	}
	g.hash.Write(p[:n])
	g.read[last].length += int64(n)
	return n, err
}

// end notes the digest of the last part.
func (g *given) end() {
	if g.hash != nil {
		g.hash.Sum(g.read[len(g.read)-1].sum[:0])
	}
}

// compare compares what was written out with what was read of the image, and tells how much that was. What was not read must be zeros in both. That they differ
// is no verdict on the image, of which each piece was matched when it was read.
func (g *given) compare(ctx context.Context, there disk.Disk, progress func(int64)) (data int64, err error) {
	g.end()
	if there.Size() != g.Size() {
		return 0, fmt.Errorf("it was written out as %d bytes, and has %d", there.Size(), g.Size())
	}
	p := make([]byte, stretch)
	at := int64(0)
	for _, r := range append(g.read, part{offset: g.Size()}) {
		for _, d := range []disk.Disk{g.Disk, there} {
			if err := zeros(ctx, d, at, r.offset); err != nil {
				return data, err
			}
		}
		at = r.offset + r.length
		if _, err := there.ReadAt(p[:r.length], r.offset); err != nil && err != io.EOF {
			return data, fmt.Errorf("what was written out: %w", err)
		}
		if r.length > 0 && blake3.Sum256(p[:r.length]) != r.sum {
			return data, fmt.Errorf("what was written out differs from the image in the %d bytes at %d: the scratch folder's medium does not keep what it is given", r.length, r.offset)
		}
		data += r.length
		progress(r.length)
		if ctx.Err() != nil {
			return data, context.Cause(ctx)
		}
	}
	return data, nil
}

// zeros makes sure that a range of a disk is said to be zeros.
func zeros(ctx context.Context, d disk.Disk, from, to int64) error {
	for from < to {
		extents, err := d.Extents(ctx, from, to-from)
		if err != nil {
			return err
		}
		if len(extents) == 0 || extents[0].Kind != disk.Zero {
			return fmt.Errorf("of the %d bytes at %d nothing was written out, and they are not zeros", to-from, from)
		}
		from = extents[0].End()
	}
	return nil
}
