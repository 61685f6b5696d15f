package used

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"hash/crc32"
	"io"
	"math"

	"golang.org/x/crypto/blake2b"
)

// What of btrfs matters here (Btrfs On-disk Format, btrfs.readthedocs.io): a superblock; chunks, which say where on which device a range of its one
// address space lies; and the extent tree, which has each range in use. Numbers are little-endian.
const (
	btrfsSuper     = 64 << 10 // where the superblock is, and its copies at 64 MiB and 256 GiB
	btrfsMagic     = "_BHRfS_M"
	btrfsKept      = 1 << 20 // at the beginning, for boot loaders
	btrfsHead      = 101     // of a tree's block
	btrfsDeepest   = 8
	btrfsChunk     = 228 // CHUNK_ITEM
	btrfsRoot      = 132 // ROOT_ITEM
	btrfsExtent    = 168 // EXTENT_ITEM
	btrfsMetadata  = 169 // METADATA_ITEM
	btrfsExtents   = 2   // the tree of extents
	btrfsStriped   = 0x8 | 0x40 | 0x80 | 0x100
	btrfsKnown     = 0x10fff &^ (1 << 12) // features: all up to three and four copies, but for zones, and simple quotas
	btrfsMostChunk = 1 << 20
)

// btrfs finds what is in use on a device of a btrfs that is not mounted.
func btrfs(r io.ReaderAt, size int64, m *Ranges) (int64, error) { return btrfsOf(r, size, m, false) }

// btrfsOf finds what is in use on a device of a btrfs, as its last commit has it. What was written by fsync(2) after that is in no tree of extents:
// of one that is mounted whoever follows writes knows it.
func btrfsOf(r io.ReaderAt, size int64, m *Ranges, mounted bool) (int64, error) {
	super := make([]byte, 4096)
	if err := readFull(r, super, btrfsSuper); err != nil {
		return 0, err
	}
	if string(super[0x40:0x48]) != btrfsMagic {
		return 0, unknown("it is no btrfs")
	}
	le := binary.LittleEndian
	b := &btrfsReader{r: r, m: m, size: size, node: int64(le.Uint32(super[0x94:])), device: le.Uint64(super[0xc9:]), sum: le.Uint16(super[0xc4:])}
	if features := le.Uint64(super[0xbc:]); features&^btrfsKnown != 0 {
		return 0, unknown("features %#x", features)
	}
	if !b.right(super) {
		return 0, odd("the superblock's checksum is wrong")
	}
	end, log := int64(le.Uint64(super[0xd1:])), le.Uint64(super[0x60:])
	if b.node < 4096 || b.node > 64<<10 || b.node&(b.node-1) != 0 || end <= btrfsKept || end > size {
		return 0, odd("its blocks have %d bytes, and it %d of %d", b.node, end, size)
	}
	if log != 0 && !mounted {
		return 0, unknown("what was written last has to be played back first")
	}
	b.left = size/b.node + btrfsDeepest
	m.Add(0, btrfsKept)
	m.Add(64<<20, 4096)
	m.Add(256<<30, 4096)
	// The chunks of the tree of chunks stand in the superblock.
	n := le.Uint32(super[0xa0:])
	if n > 2048 {
		return 0, odd("the superblock has %d bytes of chunks", n)
	}
	for first := super[0x32b : 0x32b+n]; len(first) > 0; {
		if len(first) < 17+48 {
			return 0, odd("the superblock's chunks are cut")
		}
		used, err := b.chunk(le.Uint64(first[9:]), first[17:])
		if err != nil {
			return 0, err
		}
		first = first[17+used:]
	}
	err := b.walk(le.Uint64(super[0x58:]), le.Uint64(super[0xa4:]), int(super[0xc7]), func(kind byte, object, offset uint64, body []byte) error {
		if kind != btrfsChunk {
			return nil
		}
		_, err := b.chunk(offset, body)
		return err
	})
	if err != nil {
		return 0, err
	}
	var root, rootGeneration uint64
	level := 0
	err = b.walk(le.Uint64(super[0x50:]), le.Uint64(super[0x48:]), int(super[0xc6]), func(kind byte, object, _ uint64, body []byte) error {
		if kind == btrfsRoot && object == btrfsExtents {
			if len(body) < 239 {
				return odd("the root of the tree of extents is cut")
			}
			rootGeneration, root, level = le.Uint64(body[160:]), le.Uint64(body[176:]), int(body[238])
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	if root == 0 {
		return 0, odd("it has no tree of extents")
	}
	err = b.walk(root, rootGeneration, level, func(kind byte, object, offset uint64, _ []byte) error {
		switch kind {
		case btrfsExtent:
			return b.use(object, offset)
		case btrfsMetadata:
			return b.use(object, uint64(b.node))
		}
		return nil
	})
	return end, err
}

// btrfsReader reads trees of a btrfs.
type btrfsReader struct {
	r      io.ReaderAt
	m      *Ranges
	size   int64 // of the device
	node   int64 // of a tree's block
	device uint64
	sum    uint16 // kind of the checksums
	chunks []btrfsRange
	left   int64 // blocks that may still be read: there are no more
}

// btrfsRange is a chunk: where a range of addresses lies on this device. Striped ones lie there in parts.
type btrfsRange struct {
	logical, length uint64
	places          []int64
	striped         bool
}

// right reports whether a block's checksum is. Those of a kind that is not known here count as right: there is more to tell a block by.
func (b *btrfsReader) right(block []byte) bool {
	var sum []byte
	switch b.sum {
	case 0:
		sum = binary.LittleEndian.AppendUint32(nil, crc32.Checksum(block[32:], crc32.MakeTable(crc32.Castagnoli)))
	case 2:
		s := sha256.Sum256(block[32:])
		sum = s[:]
	case 3:
		s := blake2b.Sum256(block[32:])
		sum = s[:]
	}
	return bytes.Equal(sum, block[:len(sum)])
}

// chunk takes a chunk, and tells how long its item is. All of a striped one is in use: its ranges aren't worked out.
func (b *btrfsReader) chunk(logical uint64, body []byte) (length int, err error) {
	le := binary.LittleEndian
	if len(body) < 48 {
		return 0, odd("a chunk is cut")
	}
	c := btrfsRange{logical: logical, length: le.Uint64(body), striped: le.Uint64(body[24:])&btrfsStriped != 0}
	stripes := int(le.Uint16(body[44:]))
	length = 48 + 32*stripes
	if stripes == 0 || len(body) < length || c.length == 0 || c.length > math.MaxInt64/2 || logical > math.MaxInt64/2 || len(b.chunks) >= btrfsMostChunk {
		return 0, odd("a chunk of %d bytes has %d stripes", c.length, stripes)
	}
	for i := range stripes {
		s := body[48+32*i:]
		if le.Uint64(s) != b.device {
			continue
		}
		at := le.Uint64(s[8:])
		if at > uint64(b.size) {
			return 0, odd("a chunk lies at %d", at)
		}
		c.places = append(c.places, int64(at))
		if c.striped {
			b.m.Add(int64(at), int64(c.length))
		}
	}
	b.chunks = append(b.chunks, c)
	return length, nil
}

// of finds the chunk of an address. Addresses come in rising order, mostly of one chunk.
func (b *btrfsReader) of(logical uint64) (btrfsRange, bool) {
	for i := len(b.chunks) - 1; i >= 0; i-- {
		if c := b.chunks[i]; logical >= c.logical && logical-c.logical < c.length {
			if last := len(b.chunks) - 1; i != last {
				b.chunks[i], b.chunks[last] = b.chunks[last], b.chunks[i]
			}
			return c, true
		}
	}
	return btrfsRange{}, false
}

// use adds a range of addresses.
func (b *btrfsReader) use(logical, length uint64) error {
	c, ok := b.of(logical)
	if !ok || length > c.length-(logical-c.logical) {
		return odd("%d bytes at address %d lie in no chunk", length, logical)
	}
	for _, at := range c.places {
		if !c.striped {
			b.m.Add(at+int64(logical-c.logical), int64(length))
		}
	}
	return nil
}

// walk visits a tree's items. Blocks are told by their address, generation and level, so that none is taken for another that was written over it
// meanwhile, and by their checksum.
func (b *btrfsReader) walk(logical, generation uint64, level int, visit func(kind byte, object, offset uint64, body []byte) error) error {
	le := binary.LittleEndian
	if level > btrfsDeepest {
		return odd("a tree has %d levels", level)
	}
	block, err := b.read(logical, generation, level)
	if err != nil {
		return err
	}
	items, width := int64(le.Uint32(block[96:])), int64(25)
	if level > 0 {
		width = 33
	}
	if items > (b.node-btrfsHead)/width {
		return odd("the block at address %d has %d items", logical, items)
	}
	for i := range items {
		item := block[btrfsHead+width*i:]
		if level > 0 {
			if err := b.walk(le.Uint64(item[17:]), le.Uint64(item[25:]), level-1, visit); err != nil {
				return err
			}
			continue
		}
		from, n := int64(le.Uint32(item[17:]))+btrfsHead, int64(le.Uint32(item[21:]))
		if from+n > b.node {
			return odd("an item of the block at address %d lies past its end", logical)
		}
		if err := visit(item[8], le.Uint64(item), le.Uint64(item[9:]), block[from:from+n]); err != nil {
			return err
		}
	}
	return nil
}

// read reads a tree's block, from whichever of its copies is right.
func (b *btrfsReader) read(logical, generation uint64, level int) ([]byte, error) {
	if b.left--; b.left < 0 {
		return nil, odd("its trees have more blocks than there can be")
	}
	le := binary.LittleEndian
	c, ok := b.of(logical)
	if !ok || uint64(b.node) > c.length-(logical-c.logical) {
		return nil, odd("the block at address %d lies in no chunk", logical)
	}
	if c.striped || len(c.places) == 0 {
		return nil, unknown("its trees lie on several devices")
	}
	block := make([]byte, b.node)
	for _, at := range c.places {
		if err := readFull(b.r, block, at+int64(logical-c.logical)); err != nil {
			return nil, err
		}
		if b.right(block) && le.Uint64(block[48:]) == logical && le.Uint64(block[80:]) == generation && int(block[100]) == level {
			return block, nil
		}
	}
	return nil, odd("the block at address %d is not the one that is meant", logical)
}
