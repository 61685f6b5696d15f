// Package used tells which ranges of a file system hold something, from the file system's own lists, so that nobody reads what is free. It reads
// ext2, ext3, ext4, vfat, xfs and btrfs; of any other, of one with a feature that it does not know, and of one whose journal has to be played back first, it
// says so, and all has to be read.
//
// What it reads may be hostile, or be written to meanwhile: whatever it finds, its answer lies within the file system.
package used

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"keenlodge/internal/core/disk"
)

// ErrUnknown marks a file system that is not one of those, or has a feature that changes where data lies.
var ErrUnknown = errors.New("what is free in it is not known")

// ErrOdd marks lists that make no sense.
var ErrOdd = errors.New("its lists of what is free make no sense")

func unknown(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrUnknown, fmt.Sprintf(format, args...))
}

func odd(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrOdd, fmt.Sprintf(format, args...))
}

// Of tells the ranges that are in use of a file system of a kind, as in [disk.Part]: in rising order, not adjoining, each of some bytes. size is
// that of where it lies; what lies beyond the file system's own end is in use. ErrUnknown and ErrOdd say that all of it has to be read.
func Of(kind string, r io.ReaderAt, size int64) (*Ranges, error) {
	readers := map[string]func(io.ReaderAt, int64, *Ranges) (end int64, err error){
		"ext2": ext, "ext3": ext, "ext4": ext, "vfat": fat, "btrfs": btrfs, "xfs": xfs,
	}
	read, ok := readers[kind]
	if !ok {
		return nil, unknown("%q", kind)
	}
	m, err := whole(r, size, read)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", kind, err)
	}
	return m, nil
}

// whole has what a reader finds, and what lies beyond the file system's end.
func whole(r io.ReaderAt, size int64, read func(io.ReaderAt, int64, *Ranges) (end int64, err error)) (*Ranges, error) {
	m := New(size)
	end, err := read(r, size, m)
	if err != nil {
		return nil, err
	}
	if end < 0 || end > size {
		return nil, odd("it ends at byte %d of %d", end, size)
	}
	m.Add(end, size-end)
	return m, nil
}

// OfMounted is [Of] for an ext2, ext3 or ext4 that is mounted. r reads its device through the kernel's cache, which has what is not on the device
// yet.
func OfMounted(r io.ReaderAt, size int64) (*Ranges, error) {
	return whole(r, size, func(r io.ReaderAt, size int64, m *Ranges) (int64, error) { return extOf(r, size, m, true) })
}

// committedTries is how often a btrfs is read that commits while it is read.
const committedTries = 5

// OfCommitted is [Of] for a btrfs that is mounted, as its last commit has it: what was written after that is not in it.
func OfCommitted(r io.ReaderAt, size int64) (m *Ranges, err error) {
	for range committedTries {
		m, err = whole(r, size, func(r io.ReaderAt, size int64, m *Ranges) (int64, error) { return btrfsOf(r, size, m, true) })
		if err == nil || !errors.Is(err, ErrOdd) {
			break
		}
	}
	return m, err
}

// mostRanges bounds how many ranges are kept, and so the memory: 64 MiB. Beyond it smaller gaps count as used.
const mostRanges = 4 << 20

// firstGap is what counts as used between two ranges from the beginning, in bytes: a request costs more than reading so much.
const firstGap = 16 << 10

// Ranges are ranges of something of a size, in bytes.
type Ranges struct {
	size int64
	all  []disk.Extent // as they were added, but for those that join the one before; sorted when they are asked for
	good bool          // they are sorted
	gap  int64
	most int
}

// New has no ranges.
func New(size int64) *Ranges { return &Ranges{size: size, gap: firstGap, most: mostRanges, good: true} }

// Size is that of what the ranges are of.
func (m *Ranges) Size() int64 { return m.size }

// Add adds a range, which may overlap others. What lies outside is left out.
func (m *Ranges) Add(offset, length int64) {
	if offset < 0 {
		offset, length = 0, length+offset
	}
	length = min(length, m.size-offset)
	if length <= 0 {
		return
	}
	if n := len(m.all); n > 0 {
		last := &m.all[n-1]
		if offset >= last.Offset && offset <= last.End()+m.gap {
			last.Length = max(last.End(), offset+length) - last.Offset
			return
		}
		m.good = m.good && offset > last.Offset
	}
	m.all = append(m.all, disk.Extent{Offset: offset, Length: length, Kind: disk.Data})
	for len(m.all) > m.most {
		m.tidy()
		if len(m.all) > m.most/2 {
			m.gap *= 2
			m.good = false // to be joined again
		}
	}
}

// tidy sorts the ranges, and joins those that lie near each other.
func (m *Ranges) tidy() {
	slices.SortFunc(m.all, func(a, b disk.Extent) int {
		switch {
		case a.Offset < b.Offset:
			return -1
		case a.Offset > b.Offset:
			return 1
		}
		return 0
	})
	out := m.all[:0]
	for _, e := range m.all {
		if n := len(out); n > 0 && e.Offset <= out[n-1].End()+m.gap {
			out[n-1].Length = max(out[n-1].End(), e.End()) - out[n-1].Offset
			continue
		}
		out = append(out, e)
	}
	m.all, m.good = out, true
}

// All are the ranges, in rising order. They are the Ranges' own.
func (m *Ranges) All() []disk.Extent {
	if !m.good {
		m.tidy()
	}
	return m.all
}

// Bytes is how much the ranges hold together.
func (m *Ranges) Bytes() (n int64) {
	for _, e := range m.All() {
		n += e.Length
	}
	return n
}

// Join adds the ranges of something that lies at an offset.
func (m *Ranges) Join(at int64, other *Ranges) {
	for _, e := range other.All() {
		m.Add(at+e.Offset, e.Length)
	}
}

// Extents tells a range: [disk.Data] where something is, [disk.Zero] elsewhere. offset and length lie within.
func (m *Ranges) Extents(offset, length int64) []disk.Extent {
	return disk.Between(m.All(), offset, length, disk.Zero)
}

// readFull reads a block of a file system.
func readFull(r io.ReaderAt, p []byte, at int64) error {
	if at < 0 {
		return odd("it points to byte %d", at)
	}
	if n, err := r.ReadAt(p, at); n < len(p) {
		if err == nil || errors.Is(err, io.EOF) {
			return odd("it points to %d bytes at %d, past its end", len(p), at)
		}
		return fmt.Errorf("read %d bytes at %d: %w", len(p), at, err)
	}
	return nil
}
