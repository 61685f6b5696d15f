package vmdk

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"sync"

	"github.com/klauspost/compress/zlib"

	"keenlodge/internal/core/disk"
)

const (
	// mostExtents is how many extents one call gives, mostLooks how many grains it looks at.
	mostExtents, mostLooks = 1024, 1 << 16
	// mostTables and mostGrains are how many tables are held in memory, and grains that were compressed.
	mostTables, mostGrains = 64, 64
	// mostDescriptor bounds the text that describes a file, in bytes, mostGrain a grain.
	mostDescriptor, mostGrain = 1 << 20, 16 << 20
)

// Image is a VMDK file, open for reading. It implements [disk.Disk].
type Image struct {
	r         io.ReaderAt
	length    int64
	h         header
	grain     int64 // bytes
	directory []uint32

	mu       sync.Mutex
	tables   map[int64][]uint32
	expanded map[int64][]byte
	order    []int64
}

// Open opens a file of so many bytes. Errors wrap [ErrDamaged] where the file is to blame; one that leans on another, or is one of several, is refused.
func Open(r io.ReaderAt, length int64) (*Image, error) {
	p := make([]byte, headerLength)
	if _, err := r.ReadAt(p, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	h, ok := decode(p)
	if !ok {
		if bytes.HasPrefix(p, []byte("# Disk DescriptorFile")) {
			return nil, errors.New("it only describes a disk whose bytes lie in other files; convert it to one file first: qemu-img convert -O vmdk")
		}
		return nil, fmt.Errorf("%w: it does not begin as one", ErrDamaged)
	}
	if h.directory == atEnd && h.flags&flagMarkers != 0 { // where it lies stands in the footer, before the end of the stream
		if length < 3*sector {
			return nil, fmt.Errorf("%w: it is cut off", ErrDamaged)
		}
		if err := read(r, p, length-2*sector); err != nil {
			return nil, err
		}
		if h, ok = decode(p); !ok || h.directory == atEnd {
			return nil, fmt.Errorf("%w: it has no footer: it is cut off", ErrDamaged)
		}
	}
	m := &Image{r: r, length: length, h: h, tables: map[int64][]uint32{}, expanded: map[int64][]byte{}}
	for _, look := range []func() error{m.check, m.readDescriptor, m.readDirectory} {
		if err := look(); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// check refuses what can't be.
func (m *Image) check() error {
	h := m.h
	m.grain = int64(min(h.grain, mostGrain)) * sector
	switch {
	case h.version < 1 || h.version > 3:
		return fmt.Errorf("it is of VMDK version %d, which is not known here", h.version)
	case h.capacity == 0 || h.capacity > mostSize/sector:
		return fmt.Errorf("%w: its disk has %d sectors", ErrDamaged, h.capacity)
	case m.grain < 8*sector || m.grain > mostGrain || m.grain&(m.grain-1) != 0:
		return fmt.Errorf("%w: its grains have %d sectors", ErrDamaged, h.grain)
	case h.entries < 1 || h.entries > 1<<16:
		return fmt.Errorf("%w: its tables have %d entries", ErrDamaged, h.entries)
	case h.flags&flagCompressed != 0 && h.compression != deflate:
		return fmt.Errorf("it is compressed in way %d, which is not known here", h.compression)
	}
	return nil
}

var parent = regexp.MustCompile(`(?im)^\s*parentCID\s*=\s*([0-9a-f]+)`)
var created = regexp.MustCompile(`(?im)^\s*createType\s*=\s*"([^"]*)"`)

// readDescriptor reads the text in the file that describes it.
func (m *Image) readDescriptor() error {
	if m.h.descriptorAt == 0 || m.h.descriptorCount == 0 {
		return errors.New("it is one of several files of a disk; convert that to one file first: qemu-img convert -O vmdk")
	}
	if m.h.descriptorCount > mostDescriptor/sector || m.h.descriptorAt > uint64(m.length/sector) {
		return fmt.Errorf("%w: its descriptor lies in sector %d and has %d", ErrDamaged, m.h.descriptorAt, m.h.descriptorCount)
	}
	p := make([]byte, m.h.descriptorCount*sector)
	if err := read(m.r, p, int64(m.h.descriptorAt)*sector); err != nil {
		return err
	}
	text, _, _ := strings.Cut(string(p), "\x00")
	if at := parent.FindStringSubmatch(text); at != nil && !strings.EqualFold(at[1], "ffffffff") {
		return errors.New("it leans on another file; merge it into that one first")
	}
	if of := created.FindStringSubmatch(text); of != nil && of[1] != "monolithicSparse" && of[1] != "streamOptimized" {
		return fmt.Errorf("it is of type %.40q; of VMDK files those of one sparse file are read (monolithicSparse, streamOptimized): convert it with qemu-img convert -O vmdk", of[1])
	}
	return nil
}

// readDirectory reads where the tables lie.
func (m *Image) readDirectory() error {
	n := ceil(m.Size(), m.grain*int64(m.h.entries))
	if m.h.directory > uint64(m.length/sector) || n*4 > m.length {
		return fmt.Errorf("%w: its directory lies in sector %d and has %d entries", ErrDamaged, m.h.directory, n)
	}
	var err error
	m.directory, err = m.words(int64(m.h.directory)*sector, n)
	return err
}

// words reads numbers.
func (m *Image) words(at, n int64) ([]uint32, error) {
	p := make([]byte, 4*n)
	if err := read(m.r, p, at); err != nil {
		return nil, err
	}
	out := make([]uint32, n)
	for i := range out {
		out[i] = le.Uint32(p[4*i:])
	}
	return out, nil
}

// read fills p, or says why not.
func read(r io.ReaderAt, p []byte, at int64) error {
	if n, err := r.ReadAt(p, at); n < len(p) {
		if err == nil || errors.Is(err, io.EOF) {
			err = fmt.Errorf("%w: it is cut off", ErrDamaged)
		}
		return err
	}
	return nil
}

// Size implements [disk.Disk].
func (m *Image) Size() int64 { return int64(m.h.capacity) * sector }

// at is where a grain lies in the file, in bytes, 0 for one of zeros.
func (m *Image) at(number int64) (int64, error) {
	t := number / int64(m.h.entries)
	if m.directory[t] == 0 {
		return 0, nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	table, ok := m.tables[t]
	if !ok {
		var err error
		if table, err = m.words(int64(m.directory[t])*sector, int64(m.h.entries)); err != nil {
			return 0, fmt.Errorf("table %d: %w", t, err)
		}
		if len(m.tables) == mostTables {
			clear(m.tables)
		}
		m.tables[t] = table
	}
	entry := table[number%int64(m.h.entries)]
	if entry == 1 && m.h.flags&flagZeroed != 0 {
		return 0, nil
	}
	return int64(entry) * sector, nil
}

// Extents implements [disk.Disk].
func (m *Image) Extents(_ context.Context, offset, length int64) (out []disk.Extent, err error) {
	for at, looks := offset, 0; at < offset+length && len(out) < mostExtents && looks < mostLooks; looks++ {
		end := min(offset+length, (at/m.grain+1)*m.grain)
		lies, err := m.at(at / m.grain)
		if err != nil {
			return nil, err
		}
		kind := disk.Data
		if lies == 0 {
			kind = disk.Zero
		}
		if n := len(out); n > 0 && out[n-1].Kind == kind {
			out[n-1].Length += end - at
		} else {
			out = append(out, disk.Extent{Offset: at, Length: end - at, Kind: kind})
		}
		at = end
	}
	return out, nil
}

// ReadAt implements [io.ReaderAt]. Errors wrap [ErrDamaged] where the file is to blame.
func (m *Image) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("read at %d: negative offset", off)
	}
	for n < len(p) && off < m.Size() {
		within := off % m.grain
		piece := p[n:][:min(int64(len(p)-n), m.grain-within, m.Size()-off)]
		if err := m.readGrain(piece, off/m.grain, within); err != nil {
			return n, fmt.Errorf("byte %d of the disk: %w", off, err)
		}
		n, off = n+len(piece), off+int64(len(piece))
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// readGrain reads some of one grain.
func (m *Image) readGrain(p []byte, number, within int64) error {
	at, err := m.at(number)
	switch {
	case err != nil:
		return err
	case at == 0:
		clear(p)
		return nil
	case m.h.flags&flagCompressed == 0:
		return read(m.r, p, at+within)
	}
	m.mu.Lock()
	body, ok := m.expanded[number]
	m.mu.Unlock()
	if !ok {
		if body, err = m.expand(number, at); err != nil {
			return err
		}
		m.mu.Lock()
		if _, there := m.expanded[number]; !there {
			if len(m.order) == mostGrains {
				delete(m.expanded, m.order[0])
				m.order = m.order[1:]
			}
			m.expanded[number], m.order = body, append(m.order, number)
		}
		m.mu.Unlock()
	}
	copy(p, body[within:])
	return nil
}

// expand reads a grain that is compressed. One at the disk's end may be shorter.
func (m *Image) expand(number, at int64) ([]byte, error) {
	var mark [12]byte
	if err := read(m.r, mark[:], at); err != nil {
		return nil, err
	}
	length := int64(le.Uint32(mark[8:]))
	if le.Uint64(mark[:]) != uint64(number*m.grain/sector) || length == 0 || length > 2*m.grain+1024 {
		return nil, fmt.Errorf("%w: what lies at %d of it is another grain, or none", ErrDamaged, at)
	}
	packed := make([]byte, length)
	if err := read(m.r, packed, at+12); err != nil {
		return nil, err
	}
	z, err := zlib.NewReader(bytes.NewReader(packed))
	body := make([]byte, m.grain)
	n := 0
	if err == nil {
		n, err = io.ReadFull(z, body)
	}
	if errors.Is(err, io.ErrUnexpectedEOF) && int64(n) >= min(m.grain, m.Size()-number*m.grain) {
		err = nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w: grain %d: %w", ErrDamaged, number, err)
	}
	return body, nil
}
