package used

import (
	"encoding/binary"
	"io"
)

// fat reads the file allocation table of FAT12, FAT16 and FAT32 (Microsoft, "FAT: General Overview of On-Disk Format", 1.03; ECMA-107).
func fat(r io.ReaderAt, size int64, m *Ranges) (int64, error) {
	b := make([]byte, 512)
	if err := readFull(r, b, 0); err != nil {
		return 0, err
	}
	le := binary.LittleEndian
	sector, per := int64(le.Uint16(b[11:])), int64(b[13])
	reserved, tables, root := int64(le.Uint16(b[14:])), int64(b[16]), int64(le.Uint16(b[17:]))
	sectors, length := int64(le.Uint16(b[19:])), int64(le.Uint16(b[22:]))
	if sectors == 0 {
		sectors = int64(le.Uint32(b[32:]))
	}
	if length == 0 {
		length = int64(le.Uint32(b[36:]))
	}
	if sector < 512 || sector > 4096 || sector&(sector-1) != 0 || per == 0 || per&(per-1) != 0 || reserved == 0 || tables == 0 || tables > 4 || length == 0 || sectors*sector > size {
		return 0, unknown("it has no boot sector that makes sense")
	}
	begin := reserved + tables*length + (root*32+sector-1)/sector // of cluster 2
	clusters := (sectors - begin) / per
	if begin >= sectors || clusters <= 0 {
		return 0, odd("its boot sector")
	}
	bits := int64(32)
	switch {
	case clusters < 4085:
		bits = 12
	case clusters < 65525:
		bits = 16
	}
	if (clusters+2)*bits/8 > length*sector {
		return 0, odd("a table of %d sectors for %d clusters", length, clusters)
	}
	m.Add(0, begin*sector)
	// Two to a multiple of 12 bits, so that no entry is cut in two.
	const part = 3 * 64 << 10
	table := make([]byte, part+4)
	for from := int64(0); from < clusters+2; from += part * 8 / bits {
		n := min(part*8/bits, clusters+2-from)
		bytes := (n*bits + 7) / 8
		if err := readFull(r, table[:bytes], reserved*sector+from*bits/8); err != nil {
			return 0, err
		}
		clear(table[bytes:])
		for i := range n {
			var entry uint32
			switch bits {
			case 12:
				entry = uint32(le.Uint16(table[i*3/2:])) >> (i % 2 * 4) & 0xfff
			case 16:
				entry = uint32(le.Uint16(table[i*2:]))
			default:
				entry = le.Uint32(table[i*4:]) & 0x0fffffff
			}
			if c := from + i; c >= 2 && entry != 0 {
				m.Add((begin+(c-2)*per)*sector, per*sector)
			}
		}
	}
	return sectors * sector, nil
}
