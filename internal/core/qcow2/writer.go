package qcow2

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"keenlodge/internal/core/disk"
)

// File is a qcow2 file that holds a disk, laid out so that it can be written from the first byte to the last: header,
// refcount table, refcount blocks, L1 table, L2 tables, data. Clusters that the disk calls zero are left out, or marked as
// zeros where the file lies over another.
type File struct {
	d       disk.Disk
	backing string
	format  string // of what lies below, "" is qcow2
	runs    []run  // in rising order
	data    int64  // number of clusters to store

	refTable, refBlocks, l1, l2 int64 // lengths in clusters
	l2Used                      []int64
}

// run is a row of clusters of the disk: to store, or to mark as zeros.
type run struct {
	first, n int64
	zeros    bool
}

// New lays a disk out. It asks the disk for its extents and reads no data. A disk's size must be whole sectors of 512 bytes.
// backing, if not empty, is the relative name of the qcow2 file that the new one lies over: what the disk calls unchanged is left
// to it. Without one the disk must not call anything so.
func New(ctx context.Context, d disk.Disk, backing string) (*File, error) {
	f := &File{d: d, backing: backing}
	var err error
	if f.runs, err = cut(ctx, d, backing); err != nil {
		return nil, err
	}
	for _, r := range f.runs {
		if !r.zeros {
			f.data += r.n
		}
		for t := r.first / perTable; t <= (r.first+r.n-1)/perTable; t++ {
			if k := len(f.l2Used); k == 0 || f.l2Used[k-1] != t {
				f.l2Used = append(f.l2Used, t)
			}
		}
	}
	f.l2 = int64(len(f.l2Used))
	f.l1 = max(1, ceil(tables(d.Size()), perTable))
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

// Over lays out a file that holds nothing yet, over something of another format at an address that QEMU knows, such as raw at nbd+unix:///vda?socket=/run/vda.
// size is the disk's in bytes.
func Over(ctx context.Context, size int64, backing, format string) (*File, error) {
	f, err := New(ctx, below(size), backing)
	if err == nil {
		f.format = format
	}
	return f, err
}

// below is a disk of which all is left to what lies below it.
type below int64

func (b below) Size() int64 { return int64(b) }

func (below) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Unchanged}}, nil
}

func (below) ReadAt([]byte, int64) (int, error) { return 0, errors.New("nothing of it is here") }

// tables is the number of L2 tables over a disk of size bytes.
func tables(size int64) int64 { return ceil(ceil(size, cluster), perTable) }

// cut sorts a disk's clusters. One of which a part is data, or a part zeros and a part unchanged, is stored whole.
func cut(ctx context.Context, d disk.Disk, backing string) (runs []run, err error) {
	if d.Size()%512 != 0 {
		return nil, fmt.Errorf("a disk of %d bytes can't become qcow2: not whole sectors of 512 bytes", d.Size())
	}
	if len(backing) > 1023 {
		return nil, fmt.Errorf("the backing file's name has %d bytes; qcow2 takes 1023", len(backing))
	}
	var next int64 // the first cluster that is not sorted yet
	add := func(first, end int64, zeros bool) {
		if first = max(first, next); first >= end {
			return
		}
		next = end
		if k := len(runs) - 1; k >= 0 && runs[k].zeros == zeros && runs[k].first+runs[k].n == first {
			runs[k].n += end - first
			return
		}
		runs = append(runs, run{first, end - first, zeros})
	}
	err = disk.Walk(ctx, d, func(e disk.Extent) error {
		first, end := e.Offset/cluster, ceil(e.End(), cluster)
		switch {
		case e.Kind == disk.Data:
			add(first, end, false)
		case e.Kind == disk.Unchanged && backing == "":
			return errors.New("the disk calls a range unchanged, but there is no older file to lie over")
		case e.Kind == disk.Zero && backing != "":
			from, to := ceil(e.Offset, cluster), e.End()/cluster
			if e.End() == d.Size() {
				to = end
			}
			add(first, min(from, end), false)
			add(from, to, true)
			add(to, end, false)
		}
		return nil
	})
	return runs, err
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

	be := binary.BigEndian
	out.cluster(header{size: f.d.Size(), backing: f.backing, format: f.format, l1: l1At, refTable: refTableAt, refClusters: f.refTable}.encode())

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
			entry := uint64(zeroFlag)
			if !f.runs[r].zeros {
				entry = copied | uint64(at)
				at += cluster
			}
			binary.BigEndian.PutUint64(p[(i-t*perTable)*8:], entry)
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
			if r.zeros {
				continue
			}
			for i := int64(0); i < r.n; i += step {
				var p []byte
				select {
				case p = <-free:
				case <-stop:
					return
				}
				p = p[:min(step, r.n-i)*cluster]
				err := readClusters(f.d, p, r.first+i)
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

// readClusters reads whole clusters of a disk; what lies behind its end is zeros.
func readClusters(d disk.Disk, p []byte, first int64) error {
	at := first * cluster
	want := min(int64(len(p)), d.Size()-at)
	clear(p[want:])
	n, err := d.ReadAt(p[:want], at)
	if int64(n) == want {
		return nil
	}
	if err == nil {
		err = io.ErrUnexpectedEOF
	}
	return err
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
