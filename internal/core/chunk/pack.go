package chunk

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
)

// A pack is
//
//	blocks      one after the other, as stored
//	directory   one entry of EntrySize bytes for each block
//	tail        TailSize bytes: "KLPACK\x00\x01", number of entries (uint32, big endian), directory's BLAKE3 (32 bytes)
//
// so that it can be written in one stream, and read by its last bytes where no index knows it.

const (
	// EntrySize is the length of a directory entry in bytes: name 32, offset 4, stored length 4, length 4, codec 1.
	EntrySize = 45
	// TailSize is the length of a pack's tail in bytes.
	TailSize = 44
	// MaxEntries bounds a directory, for readers of damaged packs.
	MaxEntries = 1 << 20

	packMagic = "KLPACK\x00\x01"
)

// Entry says where in its pack a block lies. All lengths are in bytes.
type Entry struct {
	Name   Name
	Offset uint32
	Stored uint32
	Size   uint32
	Codec  Codec
}

// PackID names a pack: the first 128 bits of its directory's BLAKE3.
type PackID [16]byte

func (id PackID) String() string { return hex.EncodeToString(id[:]) }

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
	body    []byte
	entries []Entry
}

// NewPack makes an empty pack with room for so many bytes.
func NewPack(room int) *Pack { return &Pack{body: make([]byte, 0, room)} }

// Add appends a stored block; size is the block's length before compression.
func (p *Pack) Add(name Name, stored []byte, codec Codec, size int) {
	p.entries = append(p.entries, Entry{name, uint32(len(p.body)), uint32(len(stored)), uint32(size), codec})
	p.body = append(p.body, stored...)
}

// Len is the number of bytes of blocks so far.
func (p *Pack) Len() int { return len(p.body) }

// Entries lists what was added.
func (p *Pack) Entries() []Entry { return p.entries }

// Finish returns the pack's name and bytes. The pack must not be used again.
func (p *Pack) Finish() (PackID, []byte) {
	directory := EncodeDirectory(p.entries)
	digest := NameOf(directory)
	out := append(p.body, directory...)
	out = append(out, packMagic...)
	out = binary.BigEndian.AppendUint32(out, uint32(len(p.entries)))
	out = append(out, digest[:]...)
	return PackID(digest[:16]), out
}

// EncodeDirectory writes entries one after the other.
func EncodeDirectory(entries []Entry) []byte {
	out := make([]byte, 0, len(entries)*EntrySize)
	for _, e := range entries {
		out = append(out, e.Name[:]...)
		out = binary.BigEndian.AppendUint32(out, e.Offset)
		out = binary.BigEndian.AppendUint32(out, e.Stored)
		out = binary.BigEndian.AppendUint32(out, e.Size)
		out = append(out, byte(e.Codec))
	}
	return out
}

// DecodeDirectory reads a directory and checks it against the pack's name. Errors wrap [ErrDamaged].
func DecodeDirectory(id PackID, directory []byte) ([]Entry, error) {
	if digest := NameOf(directory); PackID(digest[:16]) != id || len(directory)%EntrySize != 0 {
		return nil, fmt.Errorf("pack %s: %w: its directory does not match its name", id, ErrDamaged)
	}
	entries := make([]Entry, len(directory)/EntrySize)
	for i := range entries {
		b := directory[i*EntrySize:]
		e := Entry{
			Offset: binary.BigEndian.Uint32(b[32:]), Stored: binary.BigEndian.Uint32(b[36:]),
			Size: binary.BigEndian.Uint32(b[40:]), Codec: Codec(b[44]),
		}
		copy(e.Name[:], b)
		if e.Size > MaxBlock || e.Stored > MaxBlock {
			return nil, fmt.Errorf("pack %s: %w: entry %d is longer than a block may be", id, ErrDamaged, i)
		}
		entries[i] = e
	}
	return entries, nil
}

// DirectoryRange tells, from a pack's last TailSize bytes and its length, where its directory lies.
func DirectoryRange(tail []byte, packSize int64) (offset, length int64, err error) {
	if len(tail) != TailSize || string(tail[:8]) != packMagic {
		return 0, 0, fmt.Errorf("%w: it does not end like a pack", ErrDamaged)
	}
	n := binary.BigEndian.Uint32(tail[8:])
	length = int64(n) * EntrySize
	offset = packSize - TailSize - length
	if n > MaxEntries || offset < 0 {
		return 0, 0, fmt.Errorf("%w: its directory of %d entries does not fit", ErrDamaged, n)
	}
	return offset, length, nil
}
