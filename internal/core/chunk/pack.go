package chunk

import (
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"fmt"
)

// A pack is
//
//	blocks      one after the other, as stored
//	directory   one entry of EntrySize bytes for each block
//	tail        TailSize bytes: "KLPACK\x00\x02", number of entries (uint32, big endian), a digest (32 bytes)
//
// so that it can be written in one stream, and read by its last bytes where no index knows it. In a sealed store each
// block and the directory are sealed by themselves. The digest is the store's name for the pack's name and the directory
// as it lies there, so that neither a changed directory nor a pack under another's name is taken for true.

const (
	// EntrySize is the length of a directory entry in bytes: name 32, offset 4, stored length 4, length 4, codec 1.
	EntrySize = 45
	// TailSize is the length of a pack's tail in bytes.
	TailSize = 44
	// MaxEntries bounds a directory, for readers of damaged packs.
	MaxEntries = 1 << 20

	packMagic = "KLPACK\x00\x02"
)

// Entry says where in its pack a block lies. All lengths are in bytes.
type Entry struct {
	Name   Name
	Offset uint32
	Stored uint32
	Size   uint32
	Codec  Codec
}

// PackID names a pack: 128 random bits. A name is never used again.
type PackID [16]byte

func (id PackID) String() string { return hex.EncodeToString(id[:]) }

// NewPackID draws a pack's name.
func NewPackID() PackID {
	var id PackID
	rand.Read(id[:])
	return id
}

// ParsePackID reads what String wrote.
func ParsePackID(s string) (PackID, error) {
	var id PackID
	if len(s) == 2*len(id) {
		if _, err := hex.Decode(id[:], []byte(s)); err == nil {
			return id, nil
		}
	}
	return id, fmt.Errorf("pack name %q: not 32 hexadecimal digits", s)
}

// Pack gathers blocks.
type Pack struct {
	id      PackID
	seal    *Seal
	own     *PackSeal
	body    []byte
	entries []Entry
}

// NewPack makes an empty pack, which uses body's memory.
func NewPack(seal *Seal, id PackID, body []byte) *Pack {
	return &Pack{id: id, seal: seal, own: seal.Pack(id), body: body[:0]}
}

// Add appends a compressed block; size is the block's length before compression.
func (p *Pack) Add(name Name, compressed []byte, codec Codec, size int) {
	offset := len(p.body)
	p.body = p.own.append(p.body, compressed)
	p.entries = append(p.entries, Entry{name, uint32(offset), uint32(len(p.body) - offset), uint32(size), codec})
}

// Len is the number of bytes of blocks so far.
func (p *Pack) Len() int { return len(p.body) }

// ID is the pack's name.
func (p *Pack) ID() PackID { return p.id }

// Entries lists what was added.
func (p *Pack) Entries() []Entry { return p.entries }

// Finish returns the pack's bytes. The pack must not be used again.
func (p *Pack) Finish() []byte {
	at := len(p.body)
	out := p.own.append(p.body, EncodeDirectory(p.entries))
	digest := directoryDigest(p.seal, p.id, out[at:])
	out = append(out, packMagic...)
	out = binary.BigEndian.AppendUint32(out, uint32(len(p.entries)))
	return append(out, digest[:]...)
}

func directoryDigest(seal *Seal, id PackID, directory []byte) Name {
	return seal.Name(append(id[:len(id):len(id)], directory...))
}

// EncodeDirectory writes entries one after the other.
func EncodeDirectory(entries []Entry) []byte {
	out := make([]byte, 0, len(entries)*EntrySize+Overhead)
	for _, e := range entries {
		out = e.append(out)
	}
	return out
}

func (e Entry) append(out []byte) []byte {
	out = append(out, e.Name[:]...)
	out = binary.BigEndian.AppendUint32(out, e.Offset)
	out = binary.BigEndian.AppendUint32(out, e.Stored)
	out = binary.BigEndian.AppendUint32(out, e.Size)
	return append(out, byte(e.Codec))
}

// entryOf reads an entry from its EntrySize bytes.
func entryOf(b []byte) Entry {
	return Entry{Name(b), binary.BigEndian.Uint32(b[32:]), binary.BigEndian.Uint32(b[36:]), binary.BigEndian.Uint32(b[40:]), Codec(b[44])}
}

// Directory is the encoded directory of a pack, checked: entries are read from it as they are needed.
type Directory struct {
	Pack PackID
	body []byte
}

// NewDirectory checks an encoded directory. Errors wrap [ErrDamaged].
func NewDirectory(id PackID, body []byte) (Directory, error) {
	if len(body)%EntrySize != 0 {
		return Directory{}, fmt.Errorf("pack %s: %w: its directory ends inside an entry", id, ErrDamaged)
	}
	d := Directory{id, body}
	for i := range d.Len() {
		if e := d.Entry(i); e.Size > MaxBlock || e.Stored > MaxBlock+Overhead || e.Codec > Zstd || e.Name.IsZero() {
			return Directory{}, fmt.Errorf("pack %s: %w: entry %d of its directory can't be one", id, ErrDamaged, i)
		}
	}
	return d, nil
}

// Len is the number of entries.
func (d Directory) Len() int { return len(d.body) / EntrySize }

// Entry is entry i.
func (d Directory) Entry(i int) Entry { return entryOf(d.body[i*EntrySize:]) }

// ReadDirectory opens a directory as it lies in its pack, and checks it against the pack's tail. Errors wrap [ErrDamaged].
func ReadDirectory(seal *Seal, id PackID, offset int64, directory, tail []byte) (Directory, error) {
	digest := directoryDigest(seal, id, directory)
	if len(tail) != TailSize || string(tail[12:]) != string(digest[:]) {
		return Directory{}, fmt.Errorf("pack %s: %w: its directory does not match its end and its name", id, ErrDamaged)
	}
	body, err := seal.Pack(id).Open(uint32(offset), directory)
	if err != nil {
		return Directory{}, fmt.Errorf("pack %s: %w", id, err)
	}
	return NewDirectory(id, body)
}

// DirectoryRange tells, from a pack's last TailSize bytes and its length, where its directory lies.
func DirectoryRange(seal *Seal, tail []byte, packSize int64) (offset, length int64, err error) {
	if len(tail) != TailSize || string(tail[:8]) != packMagic {
		return 0, 0, fmt.Errorf("%w: it does not end like a pack", ErrDamaged)
	}
	n := binary.BigEndian.Uint32(tail[8:])
	length = int64(n)*EntrySize + int64(seal.Overhead())
	offset = packSize - TailSize - length
	if n > MaxEntries || offset < 0 || offset > 1<<32-1 {
		return 0, 0, fmt.Errorf("%w: its directory of %d entries does not fit", ErrDamaged, n)
	}
	return offset, length, nil
}

// ReadBlock opens, expands and verifies a block as it lies in its pack; compressed is what it was before it was sealed. A Size of
// 0 in the entry is one that is not at hand. Errors wrap [ErrDamaged].
func ReadBlock(seal *Seal, own *PackSeal, e Entry, stored []byte) (block, compressed []byte, err error) {
	if compressed, err = own.Open(e.Offset, stored); err != nil {
		return nil, nil, err
	}
	if e.Size == 0 {
		block, err = ExpandAny(compressed, e.Codec)
	} else {
		block, err = Expand(compressed, e.Codec, int(e.Size))
	}
	if err == nil && seal.Name(block) != e.Name {
		err = fmt.Errorf("%w: its content has another digest", ErrDamaged)
	}
	if err != nil {
		return nil, nil, err
	}
	return block, compressed, nil
}
