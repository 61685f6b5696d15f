package vmdk

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"

	"github.com/klauspost/compress/zlib"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/inorder"
)

// level is zlib's. What a higher one gains is little, and compressing is what takes the time.
const level = 2

// descriptorSectors is how much room the text is given that describes the file.
const descriptorSectors = 20

// Write writes a disk as a stream-optimised file, and tells how long that is, in bytes. name is what the file calls itself. A disk's size must be whole sectors
// of 512 bytes, and 62 TiB at the most.
func Write(ctx context.Context, w io.Writer, d disk.Disk, name string) (int64, error) {
	if d.Size()%sector != 0 || d.Size() == 0 || d.Size() > mostSize {
		return 0, fmt.Errorf("a disk of %d bytes can't become VMDK: that takes whole sectors of 512 bytes, and 62 TiB at the most", d.Size())
	}
	s := &stream{d: d, out: counter{w: w}, directory: make([]uint32, ceil(d.Size(), grain*entriesOfTable))}
	h := header{version: 3, flags: flagNewlines | flagCompressed | flagMarkers, capacity: uint64(d.Size() / sector), grain: grainSectors, descriptorAt: 1, descriptorCount: descriptorSectors,
		entries: entriesOfTable, directory: atEnd, overhead: grainSectors, compression: deflate}
	s.out.write(h.encode())
	text, err := describe(d.Size(), name)
	if err != nil {
		return 0, err
	}
	s.out.write(append(text, make([]byte, (grainSectors-1)*sector-len(text))...))
	if err := s.grains(ctx); err != nil {
		return s.out.n, err
	}
	at := s.mark(grainDirectory, int64(len(s.directory))*4)
	s.words(s.directory)
	h.directory = uint64(at)
	s.mark(footer, headerLength)
	s.out.write(h.encode())
	s.out.write(make([]byte, sector)) // the end of the stream
	return s.out.n, s.out.err
}

// describe is the text that describes a file.
func describe(size int64, name string) ([]byte, error) {
	var id [4]byte
	rand.Read(id[:])
	sectors := size / sector
	text := fmt.Sprintf("# Disk DescriptorFile\nversion=1\nCID=%08x\nparentCID=ffffffff\ncreateType=\"streamOptimized\"\n\n# Extent description\nRW %d SPARSE \"%s\"\n\n# The Disk Data Base\n#DDB\n\nddb.virtualHWVersion = \"4\"\nddb.geometry.cylinders = \"%d\"\nddb.geometry.heads = \"255\"\nddb.geometry.sectors = \"63\"\nddb.adapterType = \"lsilogic\"\n",
		le.Uint32(id[:]), sectors, name, min(sectors/(255*63), 65535))
	if len(text) > descriptorSectors*sector {
		return nil, fmt.Errorf("the name %.80q is too long for a VMDK file", name)
	}
	return []byte(text), nil
}

// stream is a file that is being written.
type stream struct {
	d         disk.Disk
	out       counter
	directory []uint32
	table     []uint32 // that grains go to just now
	number    int64    // its own
}

// packed is a grain, by its number, with its marker; nil for one of zeros.
type packed struct {
	number int64
	body   *bytes.Buffer
}

// grains writes all grains that hold something, each table's with the table behind them.
func (s *stream) grains(ctx context.Context) error {
	var walked error
	wanted := func(yield func(int64) bool) {
		last := int64(-1)
		stop := errors.New("stop")
		walked = disk.Walk(ctx, s.d, func(e disk.Extent) error {
			if e.Kind == disk.Zero {
				return nil
			}
			if e.Kind == disk.Unchanged {
				return fmt.Errorf("the disk at byte %d is only known to be unchanged, and VMDK files of ours lean on no other", e.Offset)
			}
			for n := max(e.Offset/grain, last+1); n <= (e.End()-1)/grain; n++ {
				if last = n; !yield(n) {
					return stop
				}
			}
			return nil
		})
		if walked == stop {
			walked = nil
		}
	}
	err := inorder.Do(ctx, batches(wanted), runtime.GOMAXPROCS(0)+2, s.pack, func(all []packed) error {
		for _, p := range all {
			s.put(p)
		}
		return s.out.err
	})
	if err == nil {
		err = walked
	}
	if err == nil {
		s.closeTable()
		err = s.out.err
	}
	return err
}

// batch is how many grains are read and packed at once.
const batch = 16

// batches puts neighbours together, so that they are read at once.
func batches(numbers func(func(int64) bool)) func(func([2]int64) bool) {
	return func(yield func([2]int64) bool) {
		run, ok := [2]int64{}, true
		numbers(func(n int64) bool {
			if run[1] > 0 && n == run[0]+run[1] && run[1] < batch {
				run[1]++
				return true
			}
			if run[1] > 0 {
				ok = yield(run)
			}
			run = [2]int64{n, 1}
			return ok
		})
		if ok && run[1] > 0 {
			yield(run)
		}
	}
}

// packers are compressors that were used before, buffers what they write to.
var (
	packers = sync.Pool{New: func() any { w, _ := zlib.NewWriterLevel(io.Discard, level); return w }}
	buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}
)

// pack reads and compresses some grains, which begin with that of a number.
func (s *stream) pack(_ context.Context, run [2]int64) ([]packed, error) {
	p := make([]byte, run[1]*grain)
	at := run[0] * grain
	want := min(int64(len(p)), s.d.Size()-at)
	if n, err := s.d.ReadAt(p[:want], at); int64(n) < want {
		if err == nil || err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return nil, fmt.Errorf("read the disk at byte %d: %w", at, err)
	}
	var out []packed
	for i := range run[1] {
		body := p[i*grain:][:grain]
		if disk.IsZero(body) {
			continue
		}
		b := buffers.Get().(*bytes.Buffer)
		b.Reset()
		b.Write(make([]byte, 12)) // the marker's: where, and how long
		z := packers.Get().(*zlib.Writer)
		z.Reset(b)
		_, err := z.Write(body)
		if err = errors.Join(err, z.Close()); err != nil {
			return nil, err
		}
		packers.Put(z)
		le.PutUint64(b.Bytes(), uint64((run[0]+i)*grainSectors))
		le.PutUint32(b.Bytes()[8:], uint32(b.Len()-12))
		b.Write(make([]byte, ceil(int64(b.Len()), sector)*sector-int64(b.Len())))
		out = append(out, packed{run[0] + i, b})
	}
	return out, nil
}

// put writes a grain.
func (s *stream) put(p packed) {
	if n := p.number / entriesOfTable; s.table == nil || n != s.number {
		s.closeTable()
		s.table, s.number = make([]uint32, entriesOfTable), n
	}
	s.table[p.number%entriesOfTable] = uint32(s.out.n / sector)
	if s.out.n/sector > 1<<32-1 {
		s.out.err = errors.New("what the disk holds takes more than 2 TiB, which VMDK files can't have; export it as qcow2 or vhdx")
	}
	s.out.write(p.body.Bytes())
	buffers.Put(p.body)
}

// closeTable writes the table of the grains that were written last.
func (s *stream) closeTable() {
	if s.table != nil {
		s.directory[s.number] = uint32(s.mark(grainTable, entriesOfTable*4))
		s.words(s.table)
		s.table = nil
	}
}

// mark writes a marker of so many bytes that follow, and tells in which sector these begin.
func (s *stream) mark(kind uint32, length int64) int64 {
	p := make([]byte, sector)
	le.PutUint64(p, uint64(ceil(length, sector)))
	le.PutUint32(p[12:], kind)
	s.out.write(p)
	return s.out.n / sector
}

// words writes numbers, to the end of a sector.
func (s *stream) words(all []uint32) {
	p := make([]byte, 0, ceil(int64(len(all))*4, sector)*sector)
	for _, w := range all {
		p = le.AppendUint32(p, w)
	}
	s.out.write(p[:cap(p)])
}

// counter writes, counts and keeps the first error.
type counter struct {
	w   io.Writer
	n   int64
	err error
}

func (c *counter) write(p []byte) {
	if c.err == nil {
		n, err := c.w.Write(p)
		c.n, c.err = c.n+int64(n), err
	}
}
