package used

import (
	"encoding/binary"
	"io"
)

// What of XFS matters here (XFS Algorithms & Data Structures): a superblock; allocation groups, each with a tree of what is free in it; and the log, of
// which the last record says whether it was unmounted. Numbers are big-endian.
const (
	xfsSector    = 512
	xfsKnown     = 0xef // incompatible features up to parent pointers, but for the one that wants a repair
	xfsLogMagic  = 0xfeedbabe
	xfsUnmounted = 0x20 // XLOG_UNMOUNT_TRANS
	xfsRecord    = 32 << 10
)

// xfs finds what is in use of an XFS that is not mounted, and was unmounted in order.
func xfs(r io.ReaderAt, size int64, m *Ranges) (int64, error) {
	be := binary.BigEndian
	super := make([]byte, xfsSector)
	if err := readFull(r, super, 0); err != nil {
		return 0, err
	}
	if string(super[:4]) != "XFSB" {
		return 0, unknown("it is no xfs")
	}
	version := be.Uint16(super[100:]) & 0xf
	if features := be.Uint32(super[216:]); version < 4 || version > 5 || version == 5 && features&^xfsKnown != 0 {
		return 0, unknown("version %d, features %#x", version, features)
	}
	block, sector, blocks, perGroup, groups := int64(be.Uint32(super[4:])), int64(be.Uint16(super[102:])), be.Uint64(super[8:]), int64(be.Uint32(super[84:])), int64(be.Uint32(super[88:]))
	if block < 512 || block > 64<<10 || block&(block-1) != 0 || sector < 512 || sector > block || blocks > uint64(size/block) || perGroup <= 0 || groups <= 0 || (groups-1)*perGroup >= int64(blocks) || groups*perGroup < int64(blocks) || super[124] > 31 {
		return 0, odd("it has %d blocks of %d bytes in %d groups of %d", blocks, block, groups, perGroup)
	}
	end := int64(blocks) * block
	start := be.Uint64(super[48:])
	log := xfsLog{r: r, at: (int64(start>>super[124])*perGroup + int64(start&(1<<super[124]-1))) * block, sectors: int64(be.Uint32(super[96:])) * block / xfsSector}
	if start == 0 || log.sectors <= 0 || log.at < 0 || log.at > end-log.sectors*xfsSector {
		return 0, unknown("its log lies elsewhere")
	}
	if clean, err := log.clean(); err != nil {
		return 0, err
	} else if !clean {
		return 0, unknown("its log has to be played back first")
	}
	for g := range groups {
		first := g * perGroup * block
		if err := xfsGroup(r, first, sector, block, min(perGroup*block, end-first), version, m); err != nil {
			return 0, err
		}
	}
	return end, nil
}

// xfsGroup adds what is in use of an allocation group: all but what its tree of free ranges has. Leaves are chained, in order.
func xfsGroup(r io.ReaderAt, first, sector, block, length int64, version uint16, m *Ranges) error {
	be := binary.BigEndian
	head := make([]byte, 64)
	if err := readFull(r, head, first+sector); err != nil {
		return err
	}
	if string(head[:4]) != "XAGF" {
		return odd("the group at %d has no head", first)
	}
	at, level := int64(be.Uint32(head[16:])), be.Uint32(head[28:])
	header, magic := int64(56), "AB3B"
	if version == 4 {
		header, magic = 16, "ABTB"
	}
	node := make([]byte, block)
	used := int64(0)
	for left := length / block; ; left-- {
		if left < 0 || at <= 0 || at >= length/block || level == 0 || level > 9 {
			return odd("the tree of the group at %d has no end", first)
		}
		if err := readFull(r, node, first+at*block); err != nil {
			return err
		}
		n := int64(be.Uint16(node[6:]))
		if string(node[:4]) != magic || uint32(be.Uint16(node[4:])) != level-1 {
			return odd("the block at %d is none of a tree of free ranges", first+at*block)
		}
		if level > 1 { // to the first leaf
			most := (block - header) / 12
			if n == 0 || n > most {
				return odd("the block at %d has %d entries", first+at*block, n)
			}
			at, level = int64(be.Uint32(node[header+most*8:])), level-1
			continue
		}
		if n > (block-header)/8 {
			return odd("the block at %d has %d entries", first+at*block, n)
		}
		for i := range n {
			entry := node[header+i*8:]
			from, count := int64(be.Uint32(entry))*block, int64(be.Uint32(entry[4:]))*block
			if from < used || count > length-from {
				return odd("the group at %d has %d free bytes at %d", first, count, from)
			}
			m.Add(first+used, from-used)
			used = from + count
		}
		next := be.Uint32(node[12:])
		if next == 1<<32-1 {
			m.Add(first+used, length-used)
			return nil
		}
		at = int64(next)
	}
}

// xfsLog is the log: a ring of sectors, of which each begins with the number of the round in which it was written, or is the head of a record.
type xfsLog struct {
	r           io.ReaderAt
	at, sectors int64
}

// round is that in which a sector was written; head says that a record begins there.
func (l xfsLog) round(i int64, sector []byte) (round uint32, head bool, err error) {
	if err := readFull(l.r, sector, l.at+i*xfsSector); err != nil {
		return 0, false, err
	}
	be := binary.BigEndian
	if be.Uint32(sector) == xfsLogMagic {
		return be.Uint32(sector[4:]), true, nil
	}
	return be.Uint32(sector), false, nil
}

// clean reports whether the last record of the log is that of an unmount.
func (l xfsLog) clean() (bool, error) {
	be := binary.BigEndian
	sector := make([]byte, xfsSector)
	round, _, err := l.round(0, sector)
	if err != nil {
		return false, err
	}
	// The end is where the sectors of this round end, or the ring's.
	low, high := int64(1), l.sectors
	for low < high {
		mid := (low + high) / 2
		of, _, err := l.round(mid, sector)
		if err != nil {
			return false, err
		}
		if of == round {
			low = mid + 1
		} else {
			high = mid
		}
	}
	const farthest = 2*xfsRecord/xfsSector + 16 // the last record is one of an unmount, and short
	for back := int64(1); back <= min(farthest, l.sectors); back++ {
		i := (low - back + l.sectors) % l.sectors
		_, head, err := l.round(i, sector)
		if err != nil {
			return false, err
		}
		if !head {
			continue
		}
		heads, length := int64(1), int64(be.Uint32(sector[12:]))
		if be.Uint32(sector[8:])&2 != 0 {
			heads = max(1, (int64(be.Uint32(sector[320:]))+xfsRecord-1)/xfsRecord)
		}
		if be.Uint32(sector[40:]) != 1 || length > xfsRecord || heads > farthest || (i+heads+(length+xfsSector-1)/xfsSector)%l.sectors != low%l.sectors {
			return false, nil
		}
		if _, _, err := l.round((i+heads)%l.sectors, sector); err != nil {
			return false, err
		}
		return sector[9]&xfsUnmounted != 0, nil
	}
	return false, nil
}
