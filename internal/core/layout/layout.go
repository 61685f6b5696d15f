// Package layout reads how a disk is divided into partitions, and plans how a disk of another size is divided for the same ones: which grow, which get
// smaller, which move. What is planned is a disk again ([Plan.Compose]), made of stretches of the old one and new tables, so nothing is written to know
// what will be. What has to be done inside of file systems is told, and done elsewhere.
package layout

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"

	"keenlodge/internal/core/disk"
)

// Table is a kind of partition table.
type Table string

// The kinds: that of UEFI (Unified Extensible Firmware Interface Specification 2.10, section 5), that of the PC's BIOS, and none: the disk is one volume.
const (
	GPT  Table = "gpt"
	MBR  Table = "mbr"
	None Table = "none"
)

// Tables are all of them.
var Tables = []Table{GPT, MBR, None}

// ErrDamaged marks a table that makes no sense.
var ErrDamaged = errors.New("its partition table makes no sense")

// Part is a partition. Offset and Length are in bytes.
type Part struct {
	// Number is the kernel's; 0 is a disk without a table.
	Number         int
	Offset, Length int64
	Format         string // as [disk.Format] names it, or "logical" of the box that holds logical partitions

	entry []byte // as it lies in the table
	box   bool   // it holds logical partitions
	table int64  // of a logical partition: where its own table lies
}

// End is the offset of the first byte behind it.
func (p Part) End() int64 { return p.Offset + p.Length }

// Name is what it is called, as a part of a disk of a name.
func (p Part) Name(disk string) string {
	if p.Number == 0 {
		return disk
	}
	return fmt.Sprint(disk, p.Number)
}

// Of is the partition of a disk, as a disk of its own.
func (p Part) Of(d disk.Disk) (disk.Disk, error) {
	return disk.Stretches(p.Length, []disk.Stretch{{Length: p.Length, From: d, At: p.Offset}})
}

// Disk is how a disk is divided. Parts are in the order in which they lie on it; the box of logical partitions comes before those.
type Disk struct {
	Size   int64
	Sector int64 // bytes
	Table  Table
	Parts  []Part

	boot    []byte // the first 512 bytes
	head    []byte // the same of an MBR, the header of a GPT
	entries int    // of a GPT, and bytes of each
	width   int
	slots   []byte // all of them, as they lie there
}

// What a PC's table has (GPT specification, table 5.1; the chain of logical partitions is no standard's, but everybody's).
const (
	mbrEntries, mbrEntry = 446, 16
	protective           = 0xee
	// mostLogical bounds a chain of logical partitions, mostEntries the entries of a GPT.
	mostLogical, mostEntries = 128, 1024
)

func isBox(kind byte) bool { return kind == 0x05 || kind == 0x0f || kind == 0x85 }

// Read reads how a disk is divided. The disk's word is not trusted: what can't be is [ErrDamaged].
func Read(d disk.Disk) (Disk, error) {
	l := Disk{Size: d.Size(), Sector: 512, Table: None}
	whole := Part{Length: l.Size, Format: disk.Format(d, 0, l.Size)}
	head := make([]byte, 512)
	if l.Size < 4096 || whole.Format != "" {
		l.Parts = []Part{whole}
		return l, nil
	}
	if n, err := d.ReadAt(head, 0); n < len(head) {
		return l, err
	}
	if head[510] != 0x55 || head[511] != 0xaa {
		l.Parts = []Part{whole}
		return l, nil
	}
	l.boot, l.head = head, head
	err := error(nil)
	if head[mbrEntries+4] == protective {
		err = l.readGPT(d)
	} else {
		err = l.readMBR(d)
	}
	if err != nil {
		return l, err
	}
	slices.SortStableFunc(l.Parts, func(a, b Part) int {
		switch {
		case a.Offset < b.Offset, a.Offset == b.Offset && a.box:
			return -1
		}
		return 1
	})
	end := int64(0)
	for i := range l.Parts {
		p := &l.Parts[i]
		if p.Length <= 0 || p.Offset < l.Sector || p.Offset > l.Size || p.Length > l.Size-p.Offset {
			return l, fmt.Errorf("%w: partition %d lies at %d+%d, outside of a disk of %d bytes", ErrDamaged, p.Number, p.Offset, p.Length, l.Size)
		}
		if !p.box {
			if p.Offset < end {
				return l, fmt.Errorf("%w: partition %d begins within the one before it", ErrDamaged, p.Number)
			}
			end = p.End()
			p.Format = disk.Format(d, p.Offset, p.Length)
		}
	}
	return l, nil
}

// readGPT reads the first table, or the one at the end where that is damaged, in sectors of 512 bytes or of 4 KiB.
func (l *Disk) readGPT(d disk.Disk) error {
	for _, sector := range []int64{512, 4096} {
		for _, at := range []int64{sector, l.Size/sector*sector - sector} {
			head := make([]byte, sector)
			if n, err := d.ReadAt(head, at); n < len(head) {
				return err
			}
			le := binary.LittleEndian
			length := le.Uint32(head[12:])
			if string(head[:8]) != "EFI PART" || length < 92 || int64(length) > sector {
				continue
			}
			sum := le.Uint32(head[16:])
			le.PutUint32(head[16:], 0)
			if crc32.ChecksumIEEE(head[:length]) != sum {
				continue
			}
			n, width := le.Uint32(head[80:]), le.Uint32(head[84:])
			if n == 0 || n > mostEntries || width < 128 || width > 4096 || width%8 != 0 {
				continue
			}
			slots := make([]byte, int(n)*int(width))
			from := le.Uint64(head[72:])
			if from > uint64(l.Size/sector) {
				continue
			}
			if got, err := d.ReadAt(slots, int64(from)*sector); got < len(slots) {
				if err == nil {
					err = ErrDamaged
				}
				return err
			}
			if crc32.ChecksumIEEE(slots) != le.Uint32(head[88:]) {
				continue
			}
			l.Table, l.Sector, l.head, l.entries, l.width, l.slots = GPT, sector, head[:length], int(n), int(width), slots
			for i := range l.entries {
				e := slots[i*l.width : (i+1)*l.width]
				if disk.IsZero(e[:16]) {
					continue
				}
				first, last := le.Uint64(e[32:]), le.Uint64(e[40:])
				if most := uint64(l.Size / sector); first > last || last >= most {
					return fmt.Errorf("%w: partition %d ends outside of the disk", ErrDamaged, i+1)
				}
				l.Parts = append(l.Parts, Part{Number: i + 1, Offset: int64(first) * sector, Length: int64(last-first+1) * sector, entry: e})
			}
			return nil
		}
	}
	return fmt.Errorf("%w: the GUID partition table is damaged, and so is its copy at the disk's end", ErrDamaged)
}

// span is where a PC's entry says that its partition is, in bytes from the start of something.
func span(e []byte) (offset, length int64) {
	return int64(binary.LittleEndian.Uint32(e[8:])) * 512, int64(binary.LittleEndian.Uint32(e[12:])) * 512
}

func (l *Disk) readMBR(d disk.Disk) error {
	l.Table = MBR
	for i := range 4 {
		e := l.head[mbrEntries+i*mbrEntry:][:mbrEntry]
		if e[4] == 0 {
			continue
		}
		offset, length := span(e)
		p := Part{Number: i + 1, Offset: offset, Length: length, entry: e, box: isBox(e[4])}
		if p.box {
			p.Format = "logical"
		}
		l.Parts = append(l.Parts, p)
		if !p.box {
			continue
		}
		for at, n, looks := offset, 5, 0; ; looks++ {
			if looks > mostLogical || at < offset || at >= offset+length || at > l.Size-512 {
				return fmt.Errorf("%w: its chain of logical partitions leads out of their box", ErrDamaged)
			}
			s := make([]byte, 512)
			if got, err := d.ReadAt(s, at); got < len(s) {
				return err
			}
			if s[510] != 0x55 || s[511] != 0xaa {
				break // a box that holds nothing yet
			}
			own, next := s[mbrEntries:][:mbrEntry], s[mbrEntries+mbrEntry:][:mbrEntry]
			if own[4] != 0 {
				from, long := span(own)
				l.Parts = append(l.Parts, Part{Number: n, Offset: at + from, Length: long, entry: own, table: at})
				n++
			}
			if next[4] == 0 {
				break
			}
			further, _ := span(next)
			if at = offset + further; further == 0 {
				return fmt.Errorf("%w: its chain of logical partitions goes around", ErrDamaged)
			}
		}
	}
	return nil
}
