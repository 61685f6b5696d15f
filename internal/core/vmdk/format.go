// Package vmdk reads and writes disk images in the format VMDK: stream-optimised ones are written, which is what OVF packages hold; those and sparse ones in one
// file are read (VMware, Virtual Disk Format 5.0).
package vmdk

import (
	"encoding/binary"
	"errors"
)

const (
	sector       = 512
	magic        = 0x564d444b // "KDMV"
	headerLength = sector

	// grainSectors is how large grains are that this package writes, entriesOfTable how many a table has.
	grainSectors, entriesOfTable = 128, 512
	grain                        = grainSectors * sector

	flagNewlines, flagZeroed, flagCompressed, flagMarkers = 1 << 0, 1 << 2, 1 << 16, 1 << 17
	deflate                                               = 1

	// atEnd says that where the directory lies stands in a footer.
	atEnd = ^uint64(0)

	// Kinds of markers.
	endOfStream, grainTable, grainDirectory, footer = 0, 1, 2, 3

	mostSize = 62 << 40
)

// ErrDamaged marks a file whose bytes are not what they should be.
var ErrDamaged = errors.New("damaged VMDK file")

var le = binary.LittleEndian

// header is a sparse extent's. Places and lengths are in sectors.
type header struct {
	version, flags                uint32
	capacity, grain               uint64
	descriptorAt, descriptorCount uint64
	entries                       uint32
	directory, overhead           uint64
	compression                   uint16
}

// encode makes its sector.
func (h header) encode() []byte {
	p := make([]byte, headerLength)
	le.PutUint32(p, magic)
	le.PutUint32(p[4:], h.version)
	le.PutUint32(p[8:], h.flags)
	le.PutUint64(p[12:], h.capacity)
	le.PutUint64(p[20:], h.grain)
	le.PutUint64(p[28:], h.descriptorAt)
	le.PutUint64(p[36:], h.descriptorCount)
	le.PutUint32(p[44:], h.entries)
	le.PutUint64(p[56:], h.directory)
	le.PutUint64(p[64:], h.overhead)
	copy(p[73:], "\n \r\n") // by which it shows that it went through a transfer of text
	le.PutUint16(p[77:], h.compression)
	return p
}

// decode reads one; ok is false for what is none.
func decode(p []byte) (h header, ok bool) {
	h = header{version: le.Uint32(p[4:]), flags: le.Uint32(p[8:]), capacity: le.Uint64(p[12:]), grain: le.Uint64(p[20:]), descriptorAt: le.Uint64(p[28:]), descriptorCount: le.Uint64(p[36:]),
		entries: le.Uint32(p[44:]), directory: le.Uint64(p[56:]), overhead: le.Uint64(p[64:]), compression: le.Uint16(p[77:])}
	return h, le.Uint32(p) == magic
}

func ceil(n, by int64) int64 { return (n + by - 1) / by }
