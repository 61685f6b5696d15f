package chunk

import (
	"encoding/binary"
	"fmt"
)

// ObjectKind tells what an object's payload is.
type ObjectKind byte

const (
	// IndexObject holds pack directories.
	IndexObject ObjectKind = 'x'
	// ImageObject holds an image's manifest.
	ImageObject ObjectKind = 'i'
)

const (
	objectMagic = "KLOBJ\x00\x01"
	objectHead  = 8 + 1 + 4 // magic and kind, codec, payload length
	maxObject   = 1 << 30
)

// EncodeObject wraps a payload so that any flipped or missing byte is noticed: magic (7 bytes), kind (1), codec (1),
// payload length (uint32), stored payload, BLAKE3 of everything before (32).
func EncodeObject(kind ObjectKind, payload []byte) []byte {
	stored, codec := Compress(payload, nil)
	out := append([]byte(objectMagic), byte(kind), byte(codec))
	out = binary.BigEndian.AppendUint32(out, uint32(len(payload)))
	out = append(out, stored...)
	digest := NameOf(out)
	return append(out, digest[:]...)
}

// DecodeObject undoes EncodeObject. Errors wrap [ErrDamaged].
func DecodeObject(kind ObjectKind, object []byte) ([]byte, error) {
	if len(object) < objectHead+32 || string(object[:7]) != objectMagic {
		return nil, fmt.Errorf("%w: it does not begin like an object", ErrDamaged)
	}
	body, sum := object[:len(object)-32], object[len(object)-32:]
	if digest := NameOf(body); string(digest[:]) != string(sum) {
		return nil, fmt.Errorf("%w: its digest does not match", ErrDamaged)
	}
	if got := ObjectKind(body[7]); got != kind {
		return nil, fmt.Errorf("%w: it is of kind %q, not %q", ErrDamaged, got, kind)
	}
	size := binary.BigEndian.Uint32(body[9:])
	if size > maxObject {
		return nil, fmt.Errorf("%w: a payload of %d bytes is more than an object may have", ErrDamaged, size)
	}
	if Codec(body[8]) == Zstd {
		// Objects may be larger than blocks, so they have a decoder of their own limit.
		out, err := objectDecoder.DecodeAll(body[objectHead:], nil)
		if err != nil || len(out) != int(size) {
			return nil, fmt.Errorf("%w: its payload does not expand to %d bytes", ErrDamaged, size)
		}
		return out, nil
	}
	if len(body)-objectHead != int(size) {
		return nil, fmt.Errorf("%w: its payload has %d bytes, not %d", ErrDamaged, len(body)-objectHead, size)
	}
	return body[objectHead:], nil
}

// PackDirectory is a pack's name and directory, as an index keeps them.
type PackDirectory struct {
	Pack    PackID
	Entries []Entry
}

// EncodeIndex writes the payload of an index: for each pack its name, its number of entries (uint32), its directory.
func EncodeIndex(packs []PackDirectory) []byte {
	var out []byte
	for _, p := range packs {
		out = append(out, p.Pack[:]...)
		out = binary.BigEndian.AppendUint32(out, uint32(len(p.Entries)))
		out = append(out, EncodeDirectory(p.Entries)...)
	}
	return out
}

// DecodeIndex undoes EncodeIndex. Errors wrap [ErrDamaged].
func DecodeIndex(payload []byte) ([]PackDirectory, error) {
	var packs []PackDirectory
	for len(payload) > 0 {
		if len(payload) < 20 {
			return nil, fmt.Errorf("index: %w: it ends inside a pack's name", ErrDamaged)
		}
		id := PackID(payload[:16])
		n := binary.BigEndian.Uint32(payload[16:])
		payload = payload[20:]
		if n > MaxEntries || int(n)*EntrySize > len(payload) {
			return nil, fmt.Errorf("index: %w: it ends inside the directory of pack %s", ErrDamaged, id)
		}
		entries, err := DecodeDirectory(id, payload[:int(n)*EntrySize])
		if err != nil {
			return nil, fmt.Errorf("index: %w", err)
		}
		packs = append(packs, PackDirectory{id, entries})
		payload = payload[int(n)*EntrySize:]
	}
	return packs, nil
}
