// Package qcow2 writes disk images in QEMU's open format, version 3, as the QEMU project specifies it (docs/interop/qcow2).
package qcow2

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"

	"keenlodge/internal/core/disk"
)

const (
	clusterBits = 16
	cluster     = 1 << clusterBits
	perTable    = cluster / 8 // entries of 8 bytes in an L1, L2 or refcount table's cluster
	perRefblock = cluster / 2 // 16-bit counts in a refcount block
	copied      = 1 << 63     // the cluster's count is exactly one
)

// File is a qcow2 file that holds a disk, laid out so that it can be written from the first byte to the last: header,
// refcount table, refcount blocks, L1 table, L2 tables, data. Clusters that the disk calls zero are left out.
type File struct {
	d    disk.Disk
	runs []run // of clusters to store, in rising order
	data int64 // their number

	refTable, refBlocks, l1, l2 int64 // lengths in clusters
	l2Used                      []int64
}

// run is a row of clusters of the disk.
type run struct{ first, n int64 }

// New lays a disk out. It asks the disk for its extents and reads no data. A disk's size must be whole sectors of 512 bytes.
func New(ctx context.Context, d disk.Disk) (*File, error) {
	if d.Size()%512 != 0 {
		return nil, fmt.Errorf("a disk of %d bytes can't become qcow2: not whole sectors of 512 bytes", d.Size())
	}
	f := &File{d: d}
	err := disk.Walk(ctx, d, func(e disk.Extent) error {
		if e.Kind == disk.Zero {
			return nil
		}
		first, end := e.Offset/cluster, (e.End()+cluster-1)/cluster
		if k := len(f.runs); k > 0 {
			last := &f.runs[k-1]
			if done := last.first + last.n; first <= done {
				last.n += max(0, end-done)
				return nil
			}
		}
		f.runs = append(f.runs, run{first, end - first})
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, r := range f.runs {
		f.data += r.n
		for t := r.first / perTable; t <= (r.first+r.n-1)/perTable; t++ {
			if k := len(f.l2Used); k == 0 || f.l2Used[k-1] != t {
				f.l2Used = append(f.l2Used, t)
			}
		}
	}
	f.l2 = int64(len(f.l2Used))
	tables := ceil(ceil(d.Size(), cluster), perTable)
	f.l1 = max(1, ceil(tables, perTable))
	// The counts cover the clusters that hold the counts too, so the lengths are found by going round until they fit.
	for f.refBlocks, f.refTable = 1, 1; ; {
		blocks := ceil(f.clusters(), perRefblock)
		table := ceil(blocks, perTable)
		if blocks == f.refBlocks && table == f.refTable {
			return f, nil
		}
		f.refBlocks, f.refTable = blocks, table
	}
}

func ceil(n, by int64) int64 { return (n + by - 1) / by }

func (f *File) clusters() int64 { return 1 + f.refTable + f.refBlocks + f.l1 + f.l2 + f.data }

// Size is the file's length in bytes.
func (f *File) Size() int64 { return f.clusters() * cluster }

// WriteTo writes the whole file. It implements [io.WriterTo].
func (f *File) WriteTo(w io.Writer) (int64, error) {
	out := &counter{w: w}
	refTableAt := int64(cluster)
	refBlocksAt := refTableAt + f.refTable*cluster
	l1At := refBlocksAt + f.refBlocks*cluster
	l2At := l1At + f.l1*cluster
	dataAt := l2At + f.l2*cluster

	header := make([]byte, 0, cluster)
	be := binary.BigEndian
	header = append(header, "QFI\xfb"...)
	header = be.AppendUint32(header, 3)
	header = be.AppendUint64(header, 0) // no backing file
	header = be.AppendUint32(header, 0)
	header = be.AppendUint32(header, clusterBits)
	header = be.AppendUint64(header, uint64(f.d.Size()))
	header = be.AppendUint32(header, 0) // not encrypted
	header = be.AppendUint32(header, uint32(ceil(ceil(f.d.Size(), cluster), perTable)))
	header = be.AppendUint64(header, uint64(l1At))
	header = be.AppendUint64(header, uint64(refTableAt))
	header = be.AppendUint32(header, uint32(f.refTable))
	header = be.AppendUint32(header, 0) // no internal snapshots
	header = be.AppendUint64(header, 0)
	header = be.AppendUint64(header, 0) // incompatible, compatible, autoclear features: none
	header = be.AppendUint64(header, 0)
	header = be.AppendUint64(header, 0)
	header = be.AppendUint32(header, 4) // counts of 1<<4 bits
	header = be.AppendUint32(header, 104)
	out.cluster(header)

	entries := func(n, clusters int64, at func(i int64) uint64) {
		for c := range clusters {
			p := make([]byte, 0, cluster)
			for i := c * perTable; i < min(n, (c+1)*perTable); i++ {
				p = be.AppendUint64(p, at(i))
			}
			out.cluster(p)
		}
	}
	entries(f.refBlocks, f.refTable, func(i int64) uint64 { return uint64(refBlocksAt + i*cluster) })
	for b := range f.refBlocks {
		p := make([]byte, 0, cluster)
		for i := b * perRefblock; i < min(f.clusters(), (b+1)*perRefblock); i++ {
			p = be.AppendUint16(p, 1)
		}
		out.cluster(p)
	}
	next := 0
	entries(f.l1*perTable, f.l1, func(i int64) uint64 {
		if next < len(f.l2Used) && f.l2Used[next] == i {
			next++
			return copied | uint64(l2At+int64(next-1)*cluster)
		}
		return 0
	})
	f.writeL2(out, dataAt)
	if out.err == nil {
		out.err = f.writeData(out)
	}
	return out.n, out.err
}

func (f *File) writeL2(out *counter, dataAt int64) {
	at, r, used := dataAt, 0, int64(0) // used clusters of run r
	for _, t := range f.l2Used {
		p := make([]byte, cluster)
		for r < len(f.runs) {
			i := f.runs[r].first + used
			if i >= (t+1)*perTable {
				break
			}
			binary.BigEndian.PutUint64(p[(i-t*perTable)*8:], copied|uint64(at))
			at += cluster
			if used++; used == f.runs[r].n {
				r, used = r+1, 0
			}
		}
		out.cluster(p)
	}
}

// writeData copies the clusters in steps of up to 1 MiB, reading the next while one is written.
func (f *File) writeData(out *counter) error {
	type piece struct {
		p   []byte
		err error
	}
	const step = 16
	pieces, free := make(chan piece, 2), make(chan []byte, 4)
	for range cap(free) {
		free <- make([]byte, step*cluster)
	}
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		defer close(pieces)
		for _, r := range f.runs {
			for i := int64(0); i < r.n; i += step {
				var p []byte
				select {
				case p = <-free:
				case <-stop:
					return
				}
				p = p[:min(step, r.n-i)*cluster]
				at := (r.first + i) * cluster
				want := min(int64(len(p)), f.d.Size()-at)
				clear(p[want:])
				n, err := f.d.ReadAt(p[:want], at)
				if int64(n) == want {
					err = nil
				} else if err == nil {
					err = io.ErrUnexpectedEOF
				}
				select {
				case pieces <- piece{p, err}:
				case <-stop:
					return
				}
			}
		}
	}()
	for piece := range pieces {
		if piece.err != nil {
			return fmt.Errorf("read the disk: %w", piece.err)
		}
		out.write(piece.p)
		if out.err != nil {
			return out.err
		}
		free <- piece.p[:cap(piece.p)]
	}
	return nil
}

// counter writes, counts and keeps the first error.
type counter struct {
	w   io.Writer
	n   int64
	err error
}

func (c *counter) write(p []byte) {
	if c.err != nil {
		return
	}
	n, err := c.w.Write(p)
	c.n, c.err = c.n+int64(n), err
}

// cluster writes p and zeros up to a whole cluster.
func (c *counter) cluster(p []byte) {
	c.write(p)
	c.write(make([]byte, cluster-len(p)))
}
