// Package digest finds what changed on a disk whose source keeps no list of that: it has a digest of each block of 64 KiB, as the disk was when
// it was last read.
//
// A file of digests is, in big-endian numbers: the magic "lodgeDig", a version (4 bytes), the length of a block (4), the disk's length in bytes (8);
// then 16 bytes for each block, of which those that are all zero are 16 zeros and those that are not known 16 times 0xff; and last the BLAKE3
// digest (32 bytes) of everything before it, without which the file is worth nothing. A block's digest is the first 16 bytes of its BLAKE3
// digest; the last block may be shorter.
package digest

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/disk"
)

const (
	// Block is what one digest is of, in bytes.
	Block = 64 << 10
	// Size is the length of a digest, in bytes.
	Size = 16

	magic      = "lodgeDig"
	version    = 1
	headerSize = 24
	// stretch is how much is read at once, in blocks, readers how many read at the same time.
	stretch, readers = 16, 4
)

var (
	zero    [Size]byte
	unknown = [Size]byte(bytes.Repeat([]byte{0xff}, Size))
)

// ErrDamaged marks a file of digests that is not whole.
var ErrDamaged = errors.New("the file of digests is damaged")

// File is what digests are kept in.
type File interface {
	io.ReaderAt
	io.WriterAt
}

// blocks is how many blocks a disk has.
func blocks(size int64) int64 { return (size + Block - 1) / Block }

// length is that of a file of digests without its own digest.
func length(size int64) int64 { return headerSize + blocks(size)*Size }

// of is the digest of a block.
func of(block []byte) (d [Size]byte) {
	if len(bytes.TrimLeft(block[:min(len(block), 64)], "\x00")) == 0 && len(bytes.TrimLeft(block, "\x00")) == 0 {
		return zero
	}
	sum := blake3.Sum256(block)
	return [Size]byte(sum[:])
}

// Writer writes the digests of a disk.
type Writer struct {
	f    File
	size int64
	// sparse says that what is no data is known to be zeros, and need not be noted.
	sparse bool
}

// Create begins a file of digests of a disk of so many bytes; none is known yet. The file is empty.
func Create(f File, size int64) (*Writer, error) {
	w := &Writer{f: f, size: size}
	if err := w.head(); err != nil {
		return nil, err
	}
	return w, w.Forget(disk.Extent{Length: size})
}

// SparseFile is a file in which zeros take no room.
type SparseFile interface {
	File
	Truncate(size int64) error
}

// CreateSparse is Create for a disk of which only some ranges are data, in rising order, now or later: all else of it stays zeros. Of a disk that is
// large and nearly empty the file takes little room.
func CreateSparse(f SparseFile, size int64, data []disk.Extent) (*Writer, error) {
	w := &Writer{f: f, size: size, sparse: true}
	if err := w.head(); err != nil {
		return nil, err
	}
	if err := f.Truncate(length(size)); err != nil {
		return nil, err
	}
	for _, e := range data {
		if err := w.Forget(e); err != nil {
			return nil, err
		}
	}
	return w, nil
}

func (w *Writer) head() error {
	head := append([]byte(magic), make([]byte, headerSize-len(magic))...)
	binary.BigEndian.PutUint32(head[8:], version)
	binary.BigEndian.PutUint32(head[12:], Block)
	binary.BigEndian.PutUint64(head[16:], uint64(w.size))
	_, err := w.f.WriteAt(head, 0)
	return err
}

// put keeps the digests of neighbouring blocks.
func (w *Writer) put(first int64, digests []byte) error {
	_, err := w.f.WriteAt(digests, headerSize+first*Size)
	return err
}

// Forget makes the blocks that a range touches unknown: they will be taken for changed.
func (w *Writer) Forget(e disk.Extent) error {
	first, last := e.Offset/Block, blocks(e.End())
	for ; first < last; first += 4096 {
		if err := w.put(first, bytes.Repeat(unknown[:], int(min(4096, last-first)))); err != nil {
			return err
		}
	}
	return nil
}

// Finish ends the file. After it nothing is written any more.
func (w *Writer) Finish() error {
	sum, err := sumOf(w.f, length(w.size))
	if err != nil {
		return err
	}
	_, err = w.f.WriteAt(sum, length(w.size))
	return err
}

func sumOf(f io.ReaderAt, n int64) ([]byte, error) {
	h := blake3.New()
	if _, err := io.Copy(h, io.NewSectionReader(f, 0, n)); err != nil {
		return nil, err
	}
	return h.Sum(nil), nil
}

// Digests are those of a disk as it was.
type Digests struct {
	f    io.ReaderAt
	size int64
}

// Open reads a file of digests, which has so many bytes, and makes sure that it is whole: [ErrDamaged] otherwise.
func Open(f io.ReaderAt, fileSize int64) (*Digests, error) {
	var head [headerSize]byte
	if _, err := f.ReadAt(head[:], 0); err != nil {
		return nil, fmt.Errorf("%w: it has no header: %w", ErrDamaged, err)
	}
	size := int64(binary.BigEndian.Uint64(head[16:]))
	if string(head[:8]) != magic || binary.BigEndian.Uint32(head[8:]) != version || binary.BigEndian.Uint32(head[12:]) != Block || size < 0 || size > 1<<60 || length(size)+32 != fileSize {
		return nil, fmt.Errorf("%w: its header makes no sense", ErrDamaged)
	}
	sum, err := sumOf(f, length(size))
	if err != nil {
		return nil, err
	}
	var kept [32]byte
	if _, err := f.ReadAt(kept[:], length(size)); err != nil || !bytes.Equal(sum, kept[:]) {
		return nil, ErrDamaged
	}
	return &Digests{f, size}, nil
}

// DiskSize is the disk's length in bytes.
func (d *Digests) DiskSize() int64 { return d.size }

// Watched is a disk whose digests are written down as it is read. It implements [disk.Disk].
type Watched struct {
	disk.Disk
	w  *Writer
	mu sync.Mutex
	// failed is why digests could not be written: then there are none.
	failed error
}

// Watch writes down the digests of the blocks of a disk that are read as a whole; the others stay unknown, and will be taken for changed.
func (w *Writer) Watch(d disk.Disk) *Watched { return &Watched{Disk: d, w: w} }

// ReadAt implements [io.ReaderAt].
func (k *Watched) ReadAt(p []byte, off int64) (int, error) {
	n, err := k.Disk.ReadAt(p, off)
	first := (off + Block - 1) / Block
	var digests []byte
	for at := first * Block; at < off+int64(n); at += Block {
		end := min(at+Block, k.w.size)
		if end > off+int64(n) {
			break
		}
		d := of(p[at-off : end-off])
		digests = append(digests, d[:]...)
	}
	if len(digests) > 0 {
		if put := k.w.put(first, digests); put != nil {
			k.fail(put)
		}
	}
	return n, err
}

// Extents implements [disk.Disk]: blocks within holes are known without being read.
func (k *Watched) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	found, err := k.Disk.Extents(ctx, offset, length)
	var hole disk.Extent
	for _, e := range found {
		if e.Kind == disk.Zero && hole.Length > 0 && hole.End() == e.Offset {
			hole.Length += e.Length
			continue
		}
		k.hole(hole)
		if hole = (disk.Extent{}); e.Kind == disk.Zero {
			hole = e
		}
	}
	k.hole(hole)
	return found, err
}

// hole notes the blocks that lie in a hole.
func (k *Watched) hole(e disk.Extent) {
	if k.w.sparse {
		return
	}
	first, last := within(e, k.w.size)
	for ; first < last; first += 4096 {
		if put := k.w.put(first, make([]byte, min(4096, last-first)*Size)); put != nil {
			k.fail(put)
		}
	}
}

// within is the range of blocks that an extent of a disk covers as a whole.
func within(e disk.Extent, size int64) (first, last int64) {
	first, last = (e.Offset+Block-1)/Block, e.End()/Block
	if e.End() == size {
		last = blocks(size)
	}
	return first, last
}

func (k *Watched) fail(err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.failed = errors.Join(k.failed, err)
}

// Err is why digests could not be written, nil if they are.
func (k *Watched) Err() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.failed
}

// Changed is a disk that tells as unchanged what is as its older digests say. It implements [disk.Disk].
type Changed struct {
	disk.Disk
	same []uint64 // a bit for each block
}

// Compare reads all of a disk, writes its digests down, and finds what is not as the older digests say. The disks must be of one length. It
// takes 2 MiB of memory for each TiB.
func Compare(ctx context.Context, d disk.Disk, older *Digests, w *Writer) (*Changed, error) {
	if older.size != d.Size() || w.size != d.Size() {
		return nil, fmt.Errorf("the digests are of a disk of %d bytes, this one has %d", older.size, d.Size())
	}
	c := &Changed{Disk: d, same: make([]uint64, (blocks(d.Size())+63)/64)}
	watched := w.Watch(d)
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(readers)
	// Data first: what it overlaps of a block that is partly a hole is read as a whole.
	next := int64(0) // block
	err := disk.Walk(ctx, d, func(e disk.Extent) error {
		if e.Kind == disk.Zero {
			return nil
		}
		for at := max(next, e.Offset/Block); at < blocks(e.End()); at += stretch {
			first, last := at, min(at+stretch, blocks(e.End()))
			next = last
			group.Go(func() error {
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				buffer := buffers.Get().(*[stretch * Block]byte)
				defer buffers.Put(buffer)
				content := buffer[:min(last*Block, d.Size())-first*Block]
				if n, err := d.ReadAt(content, first*Block); n < len(content) {
					return fmt.Errorf("read %d bytes at %d to compare them: %w", len(content), first*Block, err)
				}
				digests := digestsOf(content)
				if err := w.put(first, digests); err != nil {
					return err
				}
				return c.compare(older, first, last, &mu, func(i int64) [Size]byte { return [Size]byte(digests[(i-first)*Size:]) })
			})
		}
		return nil
	})
	err = errors.Join(err, group.Wait())
	if err != nil {
		return nil, err
	}
	// Then the holes: blocks that no data touches.
	err = disk.Walk(ctx, d, func(e disk.Extent) error {
		if e.Kind != disk.Zero {
			return nil
		}
		watched.hole(e)
		first, last := within(e, d.Size())
		for ; first < last; first += 4096 {
			if err := c.compare(older, first, min(first+4096, last), &mu, func(int64) [Size]byte { return zero }); err != nil {
				return err
			}
		}
		return nil
	})
	return c, errors.Join(err, watched.Err())
}

// buffers are those of reads that compare.
var buffers = sync.Pool{New: func() any { return new([stretch * Block]byte) }}

// digestsOf are those of the blocks of a content, one after the other.
func digestsOf(content []byte) []byte {
	digests := make([]byte, 0, blocks(int64(len(content)))*Size)
	for at := 0; at < len(content); at += Block {
		d := of(content[at:min(at+Block, len(content))])
		digests = append(digests, d[:]...)
	}
	return digests
}

// compare marks blocks from first to before last that are as they were.
func (c *Changed) compare(older *Digests, first, last int64, mu *sync.Mutex, now func(int64) [Size]byte) error {
	was := make([]byte, (last-first)*Size)
	if _, err := older.f.ReadAt(was, headerSize+first*Size); err != nil {
		return fmt.Errorf("older digests: %w", err)
	}
	mu.Lock()
	defer mu.Unlock()
	for i := first; i < last; i++ {
		d := now(i)
		if bytes.Equal(was[(i-first)*Size:(i-first+1)*Size], d[:]) && d != unknown {
			c.same[i/64] |= 1 << (i % 64)
		}
	}
	return nil
}

// Extents implements [disk.Disk]: as the disk's own, but for blocks that did not change.
func (c *Changed) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	found, err := c.Disk.Extents(ctx, offset, length)
	if err != nil {
		return nil, err
	}
	var out []disk.Extent
	add := func(from, to int64, kind disk.Kind) {
		if n := len(out); n > 0 && out[n-1].Kind == kind {
			out[n-1].Length += to - from
			return
		}
		out = append(out, disk.Extent{Offset: from, Length: to - from, Kind: kind})
	}
	const most = 1 << 16 // extents in one answer, whatever they hold: memory stays bounded
	for _, e := range found {
		for at := e.Offset; at < e.End(); {
			end := min((at/Block+1)*Block, e.End())
			kind := e.Kind
			if i := at / Block; c.same[i/64]&(1<<(i%64)) != 0 {
				kind = disk.Unchanged
			}
			add(at, end, kind)
			at = end
		}
		if len(out) > most {
			break
		}
	}
	return out, nil
}

// Unchanged is how many bytes of the disk are as they were.
func (c *Changed) Unchanged() (n int64) {
	for i := range blocks(c.Size()) {
		if c.same[i/64]&(1<<(i%64)) != 0 {
			n += min(Block, c.Size()-i*Block)
		}
	}
	return n
}
