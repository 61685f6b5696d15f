package vhdx

import (
	"context"
	"errors"
	"fmt"
	"io"

	"keenlodge/internal/core/disk"
)

const (
	// mostLog and mostMetadata bound what is read of a file to open it, in bytes.
	mostLog, mostMetadata = 256 * mib, 64 * mib
	// mostExtents is how many extents one call gives, mostLooks how many blocks it looks at.
	mostExtents, mostLooks = 1024, 1 << 16
	// tableStep is how many entries of the block allocation table are read at once.
	tableStep = 8 * kib
)

// Image is a VHDX file, open for reading. It implements [disk.Disk].
type Image struct {
	r                    io.ReaderAt // with its log played back
	length               int64
	size, block, logical int64
	table                int64 // where it lies
	tables               *steps
}

// Open opens a file of so many bytes. What of its log is to be played back is played back in memory: the file itself is not changed. Errors wrap [ErrDamaged]
// where the file is to blame; one that leans on another is refused.
func Open(r io.ReaderAt, length int64) (*Image, error) {
	if p := make([]byte, 8); read(r, p, 0) != nil || string(p) != signatureFile {
		return nil, fmt.Errorf("%w: it does not begin as one", ErrDamaged)
	}
	h, err := currentHeader(r)
	if err != nil {
		return nil, err
	}
	if h.log != (guid{}) {
		if r, length, err = replay(r, length, h); err != nil {
			return nil, fmt.Errorf("play its log back: %w", err)
		}
	}
	m := &Image{r: r, length: length}
	bat, metadata, err := regions(r, length)
	if err != nil {
		return nil, err
	}
	if err := m.readMetadata(metadata); err != nil {
		return nil, err
	}
	if need := 8 * entries(m.size, m.block, m.logical); bat.length < need {
		return nil, fmt.Errorf("%w: its block allocation table has %d bytes, and its disk needs %d", ErrDamaged, bat.length, need)
	}
	m.table, m.tables = bat.at, newSteps()
	return m, nil
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

// header is what a header says of the log.
type header struct {
	sequence          uint64
	log               guid
	logAt, logLength  int64
	version, logBears uint16
}

// currentHeader is the newer one of the two that are whole ([MS-VHDX] 2.2.2).
func currentHeader(r io.ReaderAt) (h header, err error) {
	found := false
	for i := range int64(2) {
		p := make([]byte, headerLength)
		if err := read(r, p, headerAt+i*headerAt); err != nil {
			return h, err
		}
		if string(p[:4]) != signatureHeader || !sealed(p) {
			continue
		}
		one := header{sequence: le.Uint64(p[8:]), log: guid(p[48:64]), logBears: le.Uint16(p[64:]), version: le.Uint16(p[66:]), logLength: int64(le.Uint32(p[68:])), logAt: int64(le.Uint64(p[72:]))}
		if !found || one.sequence > h.sequence {
			h, found = one, true
		}
	}
	switch {
	case !found:
		return h, fmt.Errorf("%w: neither of its headers is whole", ErrDamaged)
	case h.version != 1 || h.logBears != 0:
		return h, fmt.Errorf("it is of VHDX version %d with a log of version %d, which are not known here", h.version, h.logBears)
	case h.logAt < headersEnd || h.logAt%mib != 0 || h.logLength%mib != 0 || h.logLength > mostLog:
		return h, fmt.Errorf("%w: its log lies at %d and has %d bytes", ErrDamaged, h.logAt, h.logLength)
	}
	return h, nil
}

// region is where a part of a file lies.
type region struct{ at, length int64 }

// regions finds the block allocation table and the metadata ([MS-VHDX] 2.2.3).
func regions(r io.ReaderAt, length int64) (bat, metadata region, err error) {
	for i := range int64(2) {
		p := make([]byte, regionLength)
		if err := read(r, p, regionAt+i*regionLength); err != nil {
			return bat, metadata, err
		}
		n := int(le.Uint32(p[8:]))
		if string(p[:4]) != signatureRegion || !sealed(p) || n > 2047 {
			continue
		}
		for k := range n {
			e := p[16+32*k:]
			one := region{int64(le.Uint64(e[16:])), int64(le.Uint32(e[24:]))}
			if one.at < headersEnd || one.at%mib != 0 || one.length%mib != 0 || one.at > length || one.length > length-one.at {
				return bat, metadata, fmt.Errorf("%w: a region lies at %d and has %d bytes, in a file of %d", ErrDamaged, one.at, one.length, length)
			}
			switch guid(e[:16]) {
			case regionBAT:
				bat = one
			case regionMetadata:
				metadata = one
			default:
				if le.Uint32(e[28:])&1 != 0 {
					return bat, metadata, fmt.Errorf("it has a region %x that one must understand, and that is not known here", e[:16])
				}
			}
		}
		if bat.length == 0 || metadata.length < 64*kib {
			return bat, metadata, fmt.Errorf("%w: it has no block allocation table, or no metadata", ErrDamaged)
		}
		return bat, metadata, nil
	}
	return bat, metadata, fmt.Errorf("%w: neither of its region tables is whole", ErrDamaged)
}

// readMetadata reads what is to be known of the disk ([MS-VHDX] 2.6).
func (m *Image) readMetadata(at region) error {
	p := make([]byte, min(at.length, mostMetadata))
	if err := read(m.r, p, at.at); err != nil {
		return err
	}
	n := int(le.Uint16(p[10:]))
	if string(p[:8]) != signatureMetadata || n > 2047 {
		return fmt.Errorf("%w: its metadata does not begin as such", ErrDamaged)
	}
	var flags uint32
	for i := range n {
		e := p[32+32*i:]
		from, length := int64(le.Uint32(e[16:])), int64(le.Uint32(e[20:]))
		if length == 0 {
			from = 64 * kib
		}
		if from < 64*kib || from > int64(len(p)) || length > int64(len(p))-from {
			return fmt.Errorf("%w: an item of its metadata lies at %d and has %d bytes", ErrDamaged, from, length)
		}
		body := make([]byte, max(length, 8))
		copy(body, p[from:from+length])
		switch guid(e[:16]) {
		case itemFile:
			m.block, flags = int64(le.Uint32(body)), le.Uint32(body[4:])
		case itemSize:
			m.size = int64(le.Uint64(body))
		case itemLogical:
			m.logical = int64(le.Uint32(body))
		case itemID, itemPhysical:
		default:
			if le.Uint32(e[24:])&(1<<2) != 0 && flags&2 == 0 {
				return fmt.Errorf("it has an item of metadata %x that one must understand, and that is not known here", e[:16])
			}
		}
	}
	if flags&2 != 0 {
		return errors.New("it leans on another file; merge it into that one first")
	}
	switch {
	case m.block < leastBlock || m.block > mostBlock || m.block&(m.block-1) != 0:
		return fmt.Errorf("%w: its blocks have %d bytes", ErrDamaged, m.block)
	case m.logical != 512 && m.logical != 4096:
		return fmt.Errorf("%w: its sectors have %d bytes", ErrDamaged, m.logical)
	case m.size <= 0 || m.size > mostSize || m.size%m.logical != 0:
		return fmt.Errorf("%w: its disk has %d bytes", ErrDamaged, m.size)
	}
	return nil
}

// Size implements [disk.Disk].
func (m *Image) Size() int64 { return m.size }

// Sector is the length of the disk's logical sectors, in bytes.
func (m *Image) Sector() int64 { return m.logical }

// at is where a block lies in the file, 0 for one of zeros.
func (m *Image) at(block int64) (int64, error) {
	index := block + block/ratio(m.block, m.logical)
	step := index / tableStep
	table, err := m.tables.get(step, func() ([]uint64, error) {
		n := min(tableStep, entries(m.size, m.block, m.logical)-step*tableStep)
		p := make([]byte, 8*n)
		if err := read(m.r, p, m.table+8*step*tableStep); err != nil {
			return nil, err
		}
		out := make([]uint64, n)
		for i := range out {
			out[i] = le.Uint64(p[8*i:])
		}
		return out, nil
	})
	if err != nil {
		return 0, err
	}
	entry := table[index%tableStep]
	switch entry & stateMask {
	case notPresent, undefined, stateZero, unmapped:
		return 0, nil
	case present:
	default:
		return 0, fmt.Errorf("%w: block %d is in state %d", ErrDamaged, block, entry&stateMask)
	}
	at := int64(entry>>offsetShift) * mib
	if at < headersEnd || at > m.length || min(m.block, m.size-block*m.block) > m.length-at {
		return 0, fmt.Errorf("%w: block %d lies at %d, and the file has %d bytes", ErrDamaged, block, at, m.length)
	}
	return at, nil
}

// Extents implements [disk.Disk].
func (m *Image) Extents(ctx context.Context, offset, length int64) (out []disk.Extent, err error) {
	for at, looks := offset, 0; at < offset+length && len(out) < mostExtents && looks < mostLooks; looks++ {
		end := min(offset+length, (at/m.block+1)*m.block)
		lies, err := m.at(at / m.block)
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
	for n < len(p) && off < m.size {
		within := off % m.block
		piece := p[n:][:min(int64(len(p)-n), m.block-within, m.size-off)]
		at, err := m.at(off / m.block)
		if err == nil && at == 0 {
			clear(piece)
		} else if err == nil {
			err = read(m.r, piece, at+within)
		}
		if err != nil {
			return n, fmt.Errorf("byte %d of the disk: %w", off, err)
		}
		n, off = n+len(piece), off+int64(len(piece))
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
