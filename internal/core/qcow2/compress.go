package qcow2

import (
	"context"
	"encoding/binary"
	"io"
	"maps"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
)

// Compress writes a disk as a qcow2 file whose clusters are compressed with Zstandard where that gains something; QEMU reads
// such files since version 5.1. backing is as for [New]. The file is written from its beginning on but for its first cluster,
// which comes last: until then it is no qcow2 file. It returns the file's length in bytes. Memory does not grow with the disk.
func Compress(ctx context.Context, w io.WriterAt, d disk.Disk, backing string) (int64, error) {
	runs, err := cut(ctx, d, backing)
	if err != nil {
		return 0, err
	}
	p := &packer{w: w, d: d, backing: backing, at: cluster, l1: make([]uint64, tables(d.Size())), open: map[int64][]uint16{}}
	p.count(0, 1) // the header
	group, ctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0)
	work, order := make(chan *packed, workers), make(chan *packed, 2*workers)
	group.Go(func() error {
		defer close(work)
		defer close(order)
		const step = 16
		for _, r := range runs {
			for i := int64(0); i < r.n; {
				n := r.n - i
				if !r.zeros {
					n = min(step, n)
				}
				c := &packed{run: run{r.first + i, n, r.zeros}, done: make(chan struct{})}
				i += n
				for _, to := range []chan *packed{order, work} {
					select {
					case to <- c:
					case <-ctx.Done():
						return context.Cause(ctx)
					}
				}
			}
		}
		return nil
	})
	for range workers {
		group.Go(func() error {
			for c := range work {
				if err := c.pack(d); err != nil {
					return err
				}
				close(c.done)
			}
			return nil
		})
	}
	group.Go(func() error {
		for c := range order {
			select {
			case <-c.done:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
			if err := p.add(c); err != nil {
				return err
			}
		}
		return p.finish()
	})
	err = group.Wait()
	return p.at, err
}

// packed is a row of clusters on its way into the file.
type packed struct {
	run
	bodies [][]byte // one a cluster: compressed, whole, or empty for zeros
	done   chan struct{}
}

func (c *packed) pack(d disk.Disk) error {
	if c.zeros {
		return nil
	}
	body := make([]byte, c.n*cluster)
	if err := readClusters(d, body, c.first); err != nil {
		return err
	}
	for ; len(body) > 0; body = body[cluster:] {
		whole := body[:cluster]
		if disk.IsZero(whole) {
			c.bodies = append(c.bodies, nil)
			continue
		}
		small, _ := chunk.Compress(whole, make([]byte, 0, chunk.Bound(cluster)), chunk.Ordinary)
		c.bodies = append(c.bodies, small)
	}
	return nil
}

// packer writes the file in rising order.
type packer struct {
	w       io.WriterAt
	d       disk.Disk
	backing string
	at      int64 // where the next byte goes

	l1      []uint64
	l2      []uint64 // the table that is being filled
	l2Index int64

	open   map[int64][]uint16 // refcount blocks that may still change, by number
	blocks []int64            // where finished ones lie, by number
}

// count raises the counts of n clusters of the file.
func (p *packer) count(first, n int64) {
	for i := first; i < first+n; i++ {
		b := p.open[i/perRefblock]
		if b == nil {
			b = make([]uint16, perRefblock)
			p.open[i/perRefblock] = b
		}
		b[i%perRefblock]++
	}
}

// take finds room for whole clusters.
func (p *packer) take(n int64) int64 {
	at := ceil(p.at, cluster) * cluster
	p.at = at + n*cluster
	p.count(at/cluster, n)
	return at
}

func (p *packer) add(c *packed) error {
	for i := range c.n {
		entry := uint64(0)
		var body []byte
		if !c.zeros {
			body = c.bodies[i]
		}
		switch {
		case len(body) == 0 && p.backing != "":
			entry = zeroFlag
		case len(body) == cluster:
			at := p.take(1)
			if _, err := p.w.WriteAt(body, at); err != nil {
				return err
			}
			entry = copied | uint64(at)
		case len(body) > 0:
			at := p.at
			if _, err := p.w.WriteAt(body, at); err != nil {
				return err
			}
			last := at + int64(len(body)) - 1
			entry = compressed | uint64(last/512-at/512)<<(62-(clusterBits-8)) | uint64(at)
			p.count(at/cluster, last/cluster-at/cluster+1)
			p.at = last + 1
		}
		if err := p.set(c.first+i, entry); err != nil {
			return err
		}
	}
	return p.settle()
}

// set notes an L2 entry. The table before is written when the next begins.
func (p *packer) set(index int64, entry uint64) error {
	if entry == 0 {
		return nil
	}
	if t := index / perTable; p.l2 == nil || p.l2Index != t {
		if err := p.closeTable(); err != nil {
			return err
		}
		p.l2, p.l2Index = make([]uint64, perTable), t
	}
	p.l2[index%perTable] = entry
	return nil
}

func (p *packer) closeTable() error {
	if p.l2 == nil {
		return nil
	}
	at := p.take(1)
	p.l1[p.l2Index] = copied | uint64(at)
	err := p.write(at, p.l2)
	p.l2 = nil
	return err
}

func (p *packer) write(at int64, entries []uint64) error {
	body := make([]byte, 0, len(entries)*8)
	for _, e := range entries {
		body = binary.BigEndian.AppendUint64(body, e)
	}
	body = append(body, make([]byte, (cluster-len(body)%cluster)%cluster)...)
	_, err := p.w.WriteAt(body, at)
	return err
}

// settle writes the refcount blocks that lie behind us as a whole.
func (p *packer) settle() error {
	for _, b := range slices.Sorted(maps.Keys(p.open)) {
		if p.at < (b+1)*perRefblock*cluster {
			break
		}
		if err := p.closeBlock(b, p.take(1)); err != nil {
			return err
		}
	}
	return nil
}

func (p *packer) closeBlock(b, at int64) error {
	for int64(len(p.blocks)) <= b {
		p.blocks = append(p.blocks, 0)
	}
	p.blocks[b] = at
	body := make([]byte, 0, cluster)
	for _, n := range p.open[b] {
		body = binary.BigEndian.AppendUint16(body, n)
	}
	delete(p.open, b)
	_, err := p.w.WriteAt(body, at)
	return err
}

// finish writes the tables that are left, and the header, which makes it a qcow2 file.
func (p *packer) finish() error {
	if err := p.closeTable(); err != nil {
		return err
	}
	l1At := p.take(max(1, ceil(int64(len(p.l1)), perTable)))
	if err := p.write(l1At, p.l1); err != nil {
		return err
	}
	// What is left of the counts counts itself, too: room for one block more than there are is enough, for a block covers
	// far more clusters than the table and the last blocks take.
	tableLength := ceil(p.at/cluster/perRefblock+2, perTable)
	tableAt := p.take(tableLength)
	last := (p.at + 2*cluster) / cluster / perRefblock
	for b := p.at / cluster / perRefblock; b <= last; b++ {
		if p.open[b] == nil {
			p.open[b] = make([]uint16, perRefblock)
		}
	}
	left := slices.Sorted(maps.Keys(p.open))
	at := p.take(int64(len(left)))
	for i, b := range left {
		if err := p.closeBlock(b, at+int64(i)*cluster); err != nil {
			return err
		}
	}
	table := make([]uint64, tableLength*perTable)
	for b, at := range p.blocks {
		table[b] = uint64(at)
	}
	if err := p.write(tableAt, table); err != nil {
		return err
	}
	first := make([]byte, cluster)
	copy(first, header{size: p.d.Size(), backing: p.backing, zstd: true, l1: l1At, refTable: tableAt, refClusters: tableLength}.encode())
	_, err := p.w.WriteAt(first, 0)
	return err
}
