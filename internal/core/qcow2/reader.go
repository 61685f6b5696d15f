package qcow2

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"

	"keenlodge/internal/core/disk"
)

const (
	maxTables   = 64 // L2 tables held in memory
	maxClusters = 64 // clusters held that were compressed
	mostExtents = 1024
	mostLooks   = 1 << 16 // clusters that one call for extents looks at
)

// Image is a qcow2 file, open for reading. It implements [disk.Disk].
type Image struct {
	r       io.ReaderAt
	h       header
	backing disk.Disk // nil for none
	l1      []uint64

	mu       sync.Mutex
	tables   map[int64][]uint64 // by L1 index
	expanded map[uint64][]byte  // by L2 entry
	order    []uint64
}

// Backing is the name of the file that a qcow2 file lies over, as it says itself, or "". It is the file's word: check it before
// anything is opened by it. Errors wrap [ErrDamaged] where it fits.
func Backing(r io.ReaderAt) (string, error) {
	h, err := decodeHeader(r)
	return h.backing, err
}

// Open reads a file's header and first table. backing is what it lies over, nil for one that stands alone.
func Open(r io.ReaderAt, backing disk.Disk) (*Image, error) {
	h, err := decodeHeader(r)
	if err != nil {
		return nil, err
	}
	if (h.backing != "") != (backing != nil) {
		return nil, fmt.Errorf("%w: it lies over %q, which is not what was expected", ErrDamaged, h.backing)
	}
	m := &Image{r: r, h: h, backing: backing, tables: map[int64][]uint64{}, expanded: map[uint64][]byte{}}
	// No more entries than the disk needs: what lies behind them says nothing.
	m.l1, err = m.table(h.l1, ceil(ceil(h.size, m.cluster()), m.cluster()/8))
	return m, err
}

func (m *Image) cluster() int64 { return 1 << m.h.clusterBits }

// Size implements [disk.Disk].
func (m *Image) Size() int64 { return m.h.size }

// table reads n entries.
func (m *Image) table(at, n int64) ([]uint64, error) {
	body := make([]byte, 8*n)
	if _, err := m.r.ReadAt(body, at); err != nil {
		return nil, fmt.Errorf("%w: a table of %d entries at byte %d: %v", ErrDamaged, n, at, err)
	}
	out := make([]uint64, n)
	for i := range out {
		out[i] = binary.BigEndian.Uint64(body[8*i:])
	}
	return out, nil
}

// entry is the L2 entry of a cluster of the disk, 0 for one that is left to the backing file.
func (m *Image) entry(index int64) (uint64, error) {
	per := m.cluster() / 8
	at := int64(m.l1[index/per] & offsetMask)
	if at == 0 {
		return 0, nil
	}
	m.mu.Lock()
	table, ok := m.tables[index/per]
	m.mu.Unlock()
	if !ok {
		var err error
		if table, err = m.table(at, per); err != nil {
			return 0, err
		}
		m.mu.Lock()
		if len(m.tables) >= maxTables {
			clear(m.tables)
		}
		m.tables[index/per] = table
		m.mu.Unlock()
	}
	return table[index%per], nil
}

// Extents implements [disk.Disk].
func (m *Image) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	var out []disk.Extent
	add := func(e disk.Extent) {
		if n := len(out); n > 0 && out[n-1].Kind == e.Kind {
			out[n-1].Length += e.Length
		} else {
			out = append(out, e)
		}
	}
	for at, looks := offset, 0; at < offset+length && len(out) < mostExtents && looks < mostLooks; looks++ {
		index := at / m.cluster()
		end := min(offset+length, (index+1)*m.cluster())
		entry, err := m.entry(index)
		if err != nil {
			return nil, err
		}
		switch {
		case entry&compressed != 0 || entry&(offsetMask|zeroFlag) != 0 && entry&zeroFlag == 0:
			add(disk.Extent{Offset: at, Length: end - at, Kind: disk.Data})
		case entry&zeroFlag != 0 || m.backing == nil || at >= m.backing.Size():
			if per := m.cluster() / 8; m.backing == nil && m.l1[index/per]&offsetMask == 0 {
				end = min(offset+length, (index/per+1)*per*m.cluster()) // a whole table that is not there
			}
			add(disk.Extent{Offset: at, Length: end - at, Kind: disk.Zero})
		default:
			under, err := m.backing.Extents(ctx, at, min(end, m.backing.Size())-at)
			if err != nil {
				return nil, err
			}
			for _, e := range under {
				add(e)
			}
			end = under[len(under)-1].End()
		}
		at = end
	}
	return out, nil
}

// ReadAt implements [io.ReaderAt]. Errors wrap [ErrDamaged] where the file is to blame.
func (m *Image) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, fmt.Errorf("read at %d: negative offset", off)
	}
	n := 0
	for n < len(p) && off < m.h.size {
		step, err := m.readSome(p[n:min(int64(len(p)), int64(n)+m.h.size-off)], off)
		if err != nil {
			return n, err
		}
		n, off = n+step, off+int64(step)
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// readSome reads what lies together from off on.
func (m *Image) readSome(p []byte, off int64) (int, error) {
	span := m.cluster()
	index, within := off/span, off%span
	entry, err := m.entry(index)
	if err != nil {
		return 0, err
	}
	p = p[:min(int64(len(p)), m.together(index, entry, within+int64(len(p)))-within)]
	switch {
	case entry&compressed != 0:
		body, err := m.expand(entry)
		if err != nil {
			return 0, fmt.Errorf("byte %d of the disk: %w", off, err)
		}
		return copy(p, body[within:]), nil
	case entry&zeroFlag != 0:
		clear(p)
	case entry&offsetMask != 0:
		if got, err := m.r.ReadAt(p, int64(entry&offsetMask)+within); got < len(p) {
			if err == io.EOF {
				err = fmt.Errorf("%w: it is cut off", ErrDamaged)
			}
			return got, fmt.Errorf("byte %d of the disk: %w", off, err)
		}
	case m.backing == nil || off >= m.backing.Size():
		clear(p)
	default:
		p = p[:min(int64(len(p)), m.backing.Size()-off)]
		if got, err := m.backing.ReadAt(p, off); got < len(p) {
			return got, fmt.Errorf("byte %d of the backing file's disk: %w", off, err)
		}
	}
	return len(p), nil
}

// together is how many bytes from the beginning of a cluster on, up to length, can be read in one go.
func (m *Image) together(index int64, entry uint64, length int64) int64 {
	span := m.cluster()
	n := span
	if entry&compressed != 0 {
		return n
	}
	for i := int64(1); n < length && index+i < ceil(m.h.size, span); i++ {
		next, err := m.entry(index + i)
		if err != nil || next&compressed != 0 || next&zeroFlag != entry&zeroFlag {
			break
		}
		want := entry & offsetMask
		if want != 0 {
			want += uint64(i * span)
		}
		if entry&zeroFlag == 0 && next&offsetMask != want {
			break
		}
		n += span
	}
	return n
}

// expand gives a compressed cluster's content.
func (m *Image) expand(entry uint64) ([]byte, error) {
	m.mu.Lock()
	body, ok := m.expanded[entry]
	m.mu.Unlock()
	if ok {
		return body, nil
	}
	bits := 62 - (m.h.clusterBits - 8) // of the offset; above them stands how many sectors more than one it takes
	at := int64(entry & (1<<bits - 1))
	length := int64(entry&^(copied|compressed)>>bits+1)*512 - at%512
	packed := make([]byte, length)
	n, err := m.r.ReadAt(packed, at)
	if err != nil && err != io.EOF { // the last one may end before its sectors do
		return nil, err
	}
	if body, err = unpack(packed[:n], m.h.zstd, m.cluster()); err != nil {
		return nil, fmt.Errorf("%w: the compressed cluster at byte %d of the file: %v", ErrDamaged, at, err)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, ok := m.expanded[entry]; !ok {
		if len(m.order) >= maxClusters {
			delete(m.expanded, m.order[0])
			m.order = m.order[1:]
		}
		m.expanded[entry], m.order = body, append(m.order, entry)
	}
	return body, nil
}

var decoders = sync.Pool{New: func() any {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(16<<20))
	if err != nil {
		panic(err) // the options are constants
	}
	return d
}}

// unpack expands a cluster. What follows it in its last sector is another's, so the stream is read until the cluster is full.
func unpack(packed []byte, isZstd bool, size int64) ([]byte, error) {
	body := make([]byte, size)
	if !isZstd {
		_, err := io.ReadFull(flate.NewReader(bytes.NewReader(packed)), body)
		return body, err
	}
	d := decoders.Get().(*zstd.Decoder)
	defer decoders.Put(d)
	if err := d.Reset(bytes.NewReader(packed)); err != nil {
		return nil, err
	}
	_, err := io.ReadFull(d, body)
	return body, err
}
