package used

import (
	"cmp"
	"encoding/binary"
	"io"
	"math/bits"
	"slices"

	"keenlodge/internal/core/disk"
)

// Features of ext2, ext3 and ext4 (Linux, Documentation/filesystems/ext4/super.rst) that are known here: none of the others may be set that says
// that who does not know it must not touch the file system.
const (
	extRecover, extMetaBG, ext64bit, extBigalloc = 0x4, 0x10, 0x80, 0x200 // the last one is of those for writing only
	extJournalDev                                = 0x8
	extKnown                                     = 0x2 | extMetaBG | 0x40 | ext64bit | 0x100 | 0x200 | 0x400 | 0x1000 | 0x2000 | 0x4000 | 0x8000 | 0x10000 | 0x20000
	extSparseSuper, extSparse2, extCsums         = 0x1, 0x200, 0x10 | 0x400
)

type extSuper struct {
	block, cluster            int64 // bytes
	blocks, first, perGroup   uint64
	inodesPer                 uint64
	descSize                  int64
	incompat, roCompat        uint32
	compat                    uint32
	inodeSize, reservedBlocks int64
	firstMeta                 uint64
	backups                   [2]uint32
}

// ext reads the block bitmaps of all groups. Of a group whose bitmap was never written only what describes the file system is used.
func ext(r io.ReaderAt, size int64, m *Ranges) (int64, error) { return extOf(r, size, m, false) }

// extOf reads one that may be mounted: then its journal is played back in what is read.
func extOf(r io.ReaderAt, size int64, m *Ranges, mounted bool) (int64, error) {
	sb := make([]byte, 1024)
	if err := readFull(r, sb, 1024); err != nil {
		return 0, err
	}
	le := binary.LittleEndian
	if le.Uint16(sb[0x38:]) != 0xef53 {
		return 0, unknown("it has no superblock")
	}
	s := extSuper{block: 1024 << min(le.Uint32(sb[0x18:]), 20), first: uint64(le.Uint32(sb[0x14:])), perGroup: uint64(le.Uint32(sb[0x20:])), inodesPer: uint64(le.Uint32(sb[0x28:])),
		blocks: uint64(le.Uint32(sb[4:])), compat: le.Uint32(sb[0x5c:]), incompat: le.Uint32(sb[0x60:]), roCompat: le.Uint32(sb[0x64:]), descSize: 32, inodeSize: 128,
		reservedBlocks: int64(le.Uint16(sb[0xce:])), firstMeta: uint64(le.Uint32(sb[0x104:])), backups: [2]uint32{le.Uint32(sb[0x24c:]), le.Uint32(sb[0x250:])}}
	s.cluster = s.block
	if le.Uint32(sb[0x4c:]) > 0 {
		s.inodeSize = int64(le.Uint16(sb[0x58:]))
	}
	if s.incompat&extRecover != 0 && !mounted {
		return 0, unknown("its journal has to be played back first")
	}
	if s.incompat&^uint32(extKnown|extRecover) != 0 || s.incompat&extJournalDev != 0 {
		return 0, unknown("it has features %#x", s.incompat)
	}
	if s.incompat&ext64bit != 0 {
		s.blocks |= uint64(le.Uint32(sb[0x150:])) << 32
		s.descSize = int64(le.Uint16(sb[0xfe:]))
	}
	if s.roCompat&extBigalloc != 0 {
		s.cluster = 1024 << min(le.Uint32(sb[0x1c:]), 30)
	}
	if s.block > 64<<10 || s.cluster < s.block || s.cluster > 1<<30 || s.perGroup == 0 || s.inodesPer == 0 || s.descSize < 32 || s.descSize > s.block || s.descSize&(s.descSize-1) != 0 ||
		s.inodeSize < 128 || s.inodeSize > s.block || s.blocks > uint64(size/s.block) || s.first >= s.blocks {
		return 0, odd("its superblock")
	}
	if s.perGroup%uint64(s.cluster/s.block) != 0 || s.perGroup/uint64(s.cluster/s.block) > uint64(8*s.block) {
		return 0, odd("its superblock: groups of %d blocks", s.perGroup)
	}
	m.Add(0, max(2048, s.block)) // a boot sector, and the superblock
	groups, err := s.read(r)
	if err != nil {
		return 0, err
	}
	empty := s.emptyTables(groups)
	bitmap := make([]byte, s.block)
	for i, d := range groups {
		g := uint64(i)
		begin := s.first + g*s.perGroup
		n := min(s.perGroup, s.blocks-begin)
		m.Add(int64(begin)*s.block, s.overhead(g)*s.block)
		if d.flags&extBlockUninit == 0 {
			if err := readFull(r, bitmap, int64(d.blockMap)*s.block); err != nil {
				return 0, err
			}
			ones(bitmap, int64((n*uint64(s.block)+uint64(s.cluster)-1)/uint64(s.cluster)), func(from, to int64) {
				addBut(m, int64(begin)*s.block+from*s.cluster, (to-from)*s.cluster, empty)
			})
		}
		m.Add(int64(d.blockMap)*s.block, s.block)
		m.Add(int64(d.inodeMap)*s.block, s.block)
		m.Add(int64(d.inodes)*s.block, s.tableUsed(d))
	}
	return int64(s.blocks) * s.block, nil
}

// extGroup is what describes a group: where its bitmaps and its table of inodes lie, in blocks, and how many inodes at the table's end are unused.
type extGroup struct {
	blockMap, inodeMap, inodes uint64
	unused                     uint32
	flags                      uint16
}

// Flags of a group, where its descriptor has a checksum: its table and bitmap of inodes, or its bitmap of blocks, were never written.
const extInodeUninit, extBlockUninit = 1, 2

// read reads the descriptors of all groups.
func (s extSuper) read(r io.ReaderAt) ([]extGroup, error) {
	le := binary.LittleEndian
	groups := make([]extGroup, 0, (s.blocks-s.first+s.perGroup-1)/s.perGroup)
	perBlock := uint64(s.block / s.descSize)
	descs := make([]byte, s.block)
	for g := range uint64(cap(groups)) {
		if g%perBlock == 0 {
			at := s.descAt(g / perBlock)
			if at >= s.blocks {
				return nil, odd("descriptors of group %d", g)
			}
			if err := readFull(r, descs, int64(at)*s.block); err != nil {
				return nil, err
			}
		}
		d := descs[int64(g%perBlock)*s.descSize:][:s.descSize]
		at := func(low, high int) uint64 {
			v := uint64(le.Uint32(d[low:]))
			if s.descSize >= 64 {
				v |= uint64(le.Uint32(d[high:])) << 32
			}
			return v
		}
		group := extGroup{blockMap: at(0, 0x20), inodeMap: at(4, 0x24), inodes: at(8, 0x28)}
		if s.roCompat&uint32(extCsums) != 0 {
			group.flags, group.unused = le.Uint16(d[0x12:]), uint32(le.Uint16(d[0x1c:]))
			if s.descSize >= 64 {
				group.unused |= uint32(le.Uint16(d[0x32:])) << 16
			}
		}
		if group.blockMap >= s.blocks || group.inodeMap >= s.blocks || group.inodes >= s.blocks || s.tableBlocks() > s.blocks-group.inodes || uint64(group.unused) > s.inodesPer {
			return nil, odd("the descriptor of group %d", g)
		}
		groups = append(groups, group)
	}
	return groups, nil
}

func (s extSuper) tableBlocks() uint64 {
	return (s.inodesPer*uint64(s.inodeSize) + uint64(s.block) - 1) / uint64(s.block)
}

// tableUsed is how much of a group's table of inodes was ever used, in bytes.
func (s extSuper) tableUsed(d extGroup) int64 {
	if d.flags&extInodeUninit != 0 {
		return 0
	}
	return int64(s.inodesPer-uint64(d.unused)) * s.inodeSize
}

// emptyTables are the parts of tables of inodes that nobody used yet, in rising order: on a large file system that is new, most of what is in use.
func (s extSuper) emptyTables(groups []extGroup) []disk.Extent {
	var out []disk.Extent
	for _, d := range groups {
		begin := int64(d.inodes) * s.block
		from := begin + (s.tableUsed(d)+s.block-1)/s.block*s.block
		if end := begin + int64(s.tableBlocks())*s.block; from < end {
			out = append(out, disk.Extent{Offset: from, Length: end - from})
		}
	}
	slices.SortFunc(out, func(a, b disk.Extent) int { return cmp.Compare(a.Offset, b.Offset) })
	return out
}

// addBut adds a range but for what lies in others, which are in rising order.
func addBut(m *Ranges, offset, length int64, but []disk.Extent) {
	end := offset + length
	i := disk.From(but, offset)
	for ; i < len(but) && but[i].Offset < end && offset < end; i++ {
		m.Add(offset, but[i].Offset-offset)
		offset = max(offset, but[i].End())
	}
	m.Add(offset, end-offset)
}

// descAt is the block with a block of group descriptors.
func (s extSuper) descAt(i uint64) uint64 {
	group := i * uint64(s.block/s.descSize) // the first group of a meta group has its descriptors
	if s.incompat&extMetaBG == 0 || i < s.firstMeta || group == 0 {
		return 1024/uint64(s.block) + 1 + i // behind the superblock, wherever data begin
	}
	at := s.first + group*s.perGroup
	if s.backup(group) {
		at++
	}
	return at
}

// backup reports whether a group has a copy of the superblock.
func (s extSuper) backup(g uint64) bool {
	switch {
	case g == 0:
		return true
	case s.compat&extSparse2 != 0:
		return uint64(s.backups[0]) == g || uint64(s.backups[1]) == g
	case s.roCompat&extSparseSuper == 0 || g == 1:
		return true
	}
	for _, base := range []uint64{3, 5, 7} {
		for n := base; n <= g; n *= base {
			if n == g {
				return true
			}
		}
	}
	return false
}

// overhead is how many blocks at the begin of a group describe the file system, at most.
func (s extSuper) overhead(g uint64) int64 {
	groups := (s.blocks - s.first + s.perGroup - 1) / s.perGroup
	perBlock := uint64(s.block / s.descSize)
	n := int64(0)
	if s.backup(g) {
		n = 1 + int64((groups+perBlock-1)/perBlock) + s.reservedBlocks
	} else if s.incompat&extMetaBG != 0 {
		n = 1
	}
	if g == 0 {
		n++ // blocks of 1 KiB whose first one is the boot sector's
	}
	return min(n, int64(s.perGroup))
}

// ones calls visit for each run of set bits among the first n, least significant first.
func ones(bitmap []byte, n int64, visit func(from, to int64)) {
	from := int64(-1)
	n = min(n, int64(len(bitmap))*8)
	for at := int64(0); at < n; {
		if at%64 == 0 && at+64 <= n {
			word := binary.LittleEndian.Uint64(bitmap[at/8:])
			if word == 0 && from < 0 || word == 1<<64-1 && from >= 0 {
				at += 64
				continue
			}
			// Up to the next change within the word.
			if from < 0 {
				from = at + int64(bits.TrailingZeros64(word))
				at = from
			}
		}
		set := bitmap[at/8]&(1<<(at%8)) != 0
		if set && from < 0 {
			from = at
		} else if !set && from >= 0 {
			visit(from, at)
			from = -1
		}
		at++
	}
	if from >= 0 {
		visit(from, n)
	}
}
