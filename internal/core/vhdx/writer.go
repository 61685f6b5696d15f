package vhdx

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"runtime"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/inorder"
)

// Where the parts of a file lie that this package writes, in bytes. The table is followed by the blocks.
const (
	logAt, logLength           = mib, mib
	metadataAt, metadataLength = 2 * mib, mib
	tableAt                    = 3 * mib
	// creator is who made it, as the format asks.
	creator = "keenlodge"
	// mostBlocks is how many blocks a disk is cut into at most, for which blocks grow.
	mostBlocks = mib
)

// File is a dynamic file that is laid out and can be written.
type File struct {
	d       disk.Disk
	block   int64
	present []int64 // blocks that hold data, in rising order
}

// New lays a file out of a disk. It asks the disk for its extents and reads no data. A disk's size must be whole sectors of 512 bytes, and 64 TiB at the most.
func New(ctx context.Context, d disk.Disk) (*File, error) {
	if d.Size()%sector != 0 || d.Size() == 0 || d.Size() > mostSize {
		return nil, fmt.Errorf("a disk of %d bytes can't become VHDX: that takes whole sectors of 512 bytes, and 64 TiB at the most", d.Size())
	}
	f := &File{d: d, block: leastBlock}
	for ceil(d.Size(), f.block) > mostBlocks {
		f.block *= 2
	}
	err := disk.Walk(ctx, d, func(e disk.Extent) error {
		switch e.Kind {
		case disk.Zero:
			return nil
		case disk.Unchanged:
			return fmt.Errorf("the disk at byte %d is only known to be unchanged, and VHDX files of ours lean on no other", e.Offset)
		}
		for b := e.Offset / f.block; b <= (e.End()-1)/f.block; b++ {
			if n := len(f.present); n == 0 || f.present[n-1] < b {
				f.present = append(f.present, b)
			}
		}
		return nil
	})
	return f, err
}

// tableLength is that of the block allocation table with what is left free behind it.
func (f *File) tableLength() int64 {
	return ceil(8*entries(f.d.Size(), f.block, sector), mib) * mib
}

// Size is the file's length in bytes.
func (f *File) Size() int64 { return tableAt + f.tableLength() + int64(len(f.present))*f.block }

// WriteTo writes the file, from its begin to its end. It may be called once only.
func (f *File) WriteTo(w io.Writer) (int64, error) {
	out := &counter{w: w}
	head := make([]byte, tableAt)
	copy(head, signatureFile)
	copy(head[8:], wide(creator))
	write, data, id := make([]byte, 16), make([]byte, 16), make([]byte, 16)
	for _, g := range [][]byte{write, data, id} {
		rand.Read(g)
	}
	for i := range 2 {
		p := head[headerAt+i*headerAt:][:headerLength]
		copy(p, signatureHeader)
		le.PutUint64(p[8:], uint64(i+1))
		copy(p[16:], write)
		copy(p[32:], data) // the log's is zero: there is nothing to play back
		le.PutUint16(p[66:], 1)
		le.PutUint32(p[68:], logLength)
		le.PutUint64(p[72:], logAt)
		seal(p)
		p = head[regionAt+i*regionLength:][:regionLength]
		copy(p, signatureRegion)
		le.PutUint32(p[8:], 2)
		for k, r := range []struct {
			id         guid
			at, length int64
		}{{regionBAT, tableAt, f.tableLength()}, {regionMetadata, metadataAt, metadataLength}} {
			e := p[16+32*k:]
			copy(e, r.id[:])
			le.PutUint64(e[16:], uint64(r.at))
			le.PutUint32(e[24:], uint32(r.length))
			le.PutUint32(e[28:], 1)
		}
		seal(p)
	}
	f.metadata(head[metadataAt:], id)
	out.write(head)
	f.writeTable(out)
	if out.err == nil {
		out.err = f.writeBlocks(out)
	}
	return out.n, out.err
}

// metadata writes what is to be known of the disk ([MS-VHDX] 2.6).
func (f *File) metadata(p, id []byte) {
	const isDisk, required = 1 << 1, 1 << 2
	items := []struct {
		id    guid
		flags uint32
		body  []byte
	}{
		{itemFile, required, le.AppendUint32(le.AppendUint32(nil, uint32(f.block)), 0)},
		{itemSize, isDisk | required, le.AppendUint64(nil, uint64(f.d.Size()))},
		{itemID, isDisk | required, id},
		{itemLogical, isDisk | required, le.AppendUint32(nil, sector)},
		{itemPhysical, isDisk | required, le.AppendUint32(nil, 4096)},
	}
	copy(p, signatureMetadata)
	le.PutUint16(p[10:], uint16(len(items)))
	at := 64 * kib
	for i, item := range items {
		e := p[32+32*i:]
		copy(e, item.id[:])
		le.PutUint32(e[16:], uint32(at))
		le.PutUint32(e[20:], uint32(len(item.body)))
		le.PutUint32(e[24:], item.flags)
		at += copy(p[at:], item.body)
	}
}

// writeTable writes where each block lies.
func (f *File) writeTable(out *counter) {
	p := make([]byte, 0, mib)
	flush := func() {
		out.write(p)
		p = p[:0]
	}
	next, at := 0, tableAt+f.tableLength()
	per := ratio(f.block, sector)
	for b := range ceil(f.d.Size(), f.block) {
		entry := uint64(notPresent)
		if next < len(f.present) && f.present[next] == b {
			entry = uint64(at/mib)<<offsetShift | present
			next, at = next+1, at+f.block
		}
		if p = le.AppendUint64(p, entry); len(p) == mib {
			flush()
		}
		if (b+1)%per == 0 && b+1 < ceil(f.d.Size(), f.block) {
			if p = le.AppendUint64(p, notPresent); len(p) == mib { // of the sector bitmap
				flush()
			}
		}
	}
	flush()
	if rest := out.n % mib; rest > 0 {
		out.write(make([]byte, mib-rest))
	}
}

// writeBlocks copies the blocks that hold data, and reads some while one is written.
func (f *File) writeBlocks(out *counter) error {
	pieces := func(yield func(at int64) bool) {
		for _, b := range f.present {
			for at := b * f.block; at < (b+1)*f.block; at += mib {
				if !yield(at) {
					return
				}
			}
		}
	}
	atOnce := runtime.GOMAXPROCS(0) + 2
	free := make(chan []byte, atOnce+2)
	for range cap(free) {
		free <- make([]byte, mib)
	}
	return inorder.Do(context.Background(), pieces, atOnce, func(ctx context.Context, at int64) ([]byte, error) {
		var p []byte
		select {
		case p = <-free:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
		want := max(0, min(mib, f.d.Size()-at)) // what lies behind the disk's end is zeros
		clear(p[want:])
		if n, err := f.d.ReadAt(p[:want], at); int64(n) < want {
			if err == nil || err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return nil, fmt.Errorf("read the disk at byte %d: %w", at, err)
		}
		return p, nil
	}, func(p []byte) error {
		out.write(p)
		free <- p
		return out.err
	})
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
