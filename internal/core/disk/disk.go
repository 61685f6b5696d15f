// Package disk is the one shape in which disks travel through the lodge: bytes at an offset, a size, and a list of
// extents. A hypervisor's snapshot, an image in a store and a file on the host all are a [Disk]; backing up, restoring,
// mounting and proving are short functions over it.
package disk

import (
	"bytes"
	"context"
	"fmt"
	"io"
)

// Kind tells what an extent holds.
type Kind uint8

const (
	// Data must be read to be known.
	Data Kind = iota
	// Zero reads as zeros and need not be read.
	Zero
	// Unchanged is data that reads as it did in an older image of the same disk, by the word of the source.
	Unchanged
)

func (k Kind) String() string { return [...]string{"data", "zero", "unchanged"}[k] }

// Extent is a run of bytes of one kind. Offset and Length are in bytes.
type Extent struct {
	Offset, Length int64
	Kind           Kind
}

// End is the offset of the first byte after the extent.
func (e Extent) End() int64 { return e.Offset + e.Length }

// Disk is a readable disk. ReadAt may be called by several goroutines at once.
type Disk interface {
	io.ReaderAt
	// Size is the disk's length in bytes.
	Size() int64
	// Extents describes the disk from offset on: adjoining, not empty, the first begins at offset. They may end
	// before offset+length (ask again from there) but never after it. Offset and length lie within the disk.
	Extents(ctx context.Context, offset, length int64) ([]Extent, error)
}

// Walk calls visit for the extents of the whole disk in order, neighbours of one kind joined.
func Walk(ctx context.Context, d Disk, visit func(Extent) error) error {
	var run Extent
	for at := int64(0); at < d.Size(); {
		extents, err := d.Extents(ctx, at, d.Size()-at)
		if err != nil {
			return err
		}
		if len(extents) == 0 {
			return fmt.Errorf("extents of the disk from byte %d: none were given", at)
		}
		for _, e := range extents {
			if e.Offset != at || e.Length <= 0 || e.End() > d.Size() {
				return fmt.Errorf("extents of the disk at byte %d: %d+%d is out of order", at, e.Offset, e.Length)
			}
			at = e.End()
			if run.Length > 0 && run.Kind == e.Kind {
				run.Length += e.Length
				continue
			}
			if run.Length > 0 {
				if err := visit(run); err != nil {
					return err
				}
			}
			run = e
		}
	}
	if run.Length == 0 {
		return nil
	}
	return visit(run)
}

// Allocated is the number of bytes in data extents.
func Allocated(ctx context.Context, d Disk) (int64, error) {
	var sum int64
	err := Walk(ctx, d, func(e Extent) error {
		if e.Kind == Data {
			sum += e.Length
		}
		return nil
	})
	return sum, err
}

// IsZero reports whether p holds only zeros.
func IsZero(p []byte) bool {
	for len(p) >= len(zeros) {
		if !bytes.Equal(p[:len(zeros)], zeros[:]) {
			return false
		}
		p = p[len(zeros):]
	}
	return bytes.Equal(p, zeros[:len(p)])
}

var zeros [4096]byte

// Memory is a disk in memory, all of it data.
type Memory []byte

// Size implements [Disk].
func (m Memory) Size() int64 { return int64(len(m)) }

// ReadAt implements [Disk].
func (m Memory) ReadAt(p []byte, off int64) (int, error) { return bytes.NewReader(m).ReadAt(p, off) }

// Extents implements [Disk].
func (m Memory) Extents(_ context.Context, offset, length int64) ([]Extent, error) {
	return []Extent{{offset, length, Data}}, nil
}

// FirstDifference compares two disks and returns the offset of the first byte that differs, or -1 if they are the same.
// Ranges that both call zero are not read.
func FirstDifference(ctx context.Context, a, b Disk) (int64, error) {
	if a.Size() != b.Size() {
		return min(a.Size(), b.Size()), nil
	}
	return FirstDifferenceIn(ctx, a, b, 0, a.Size())
}

// FirstDifferenceIn is [FirstDifference] of a range that both have.
func FirstDifferenceIn(ctx context.Context, a, b Disk, offset, length int64) (int64, error) {
	const step = 1 << 20
	one, two := make([]byte, step), make([]byte, step)
	for at, end := offset, offset+length; at < end; {
		n := min(step, end-at)
		ea, err := a.Extents(ctx, at, n)
		if err != nil {
			return 0, err
		}
		eb, err := b.Extents(ctx, at, n)
		if err != nil {
			return 0, err
		}
		n = min(ea[0].Length, eb[0].Length)
		if ea[0].Kind == Data || eb[0].Kind == Data {
			if err := readFull(a, one[:n], at); err != nil {
				return 0, err
			}
			if err := readFull(b, two[:n], at); err != nil {
				return 0, err
			}
			for i := range n {
				if one[i] != two[i] {
					return at + i, nil
				}
			}
		}
		at += n
	}
	return -1, nil
}

func readFull(d Disk, p []byte, at int64) error {
	n, err := d.ReadAt(p, at)
	if n == len(p) {
		return nil
	}
	return fmt.Errorf("read %d bytes at %d: %w", len(p), at, err)
}
