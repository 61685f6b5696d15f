package chunk

import (
	"encoding/binary"
	"fmt"

	"github.com/zeebo/blake3"
)

// ObjectKind tells what an object's payload is.
type ObjectKind byte

const (
	// IndexObject holds pack directories.
	IndexObject ObjectKind = 'x'
	// ImageObject holds an image's manifest.
	ImageObject ObjectKind = 'i'
	// VisitObject says that somebody is at the store.
	VisitObject ObjectKind = 'v'
	// CondemnedObject names packs that will go.
	CondemnedObject ObjectKind = 'c'
	// ProofObject holds the outcome of a proof of an image.
	ProofObject ObjectKind = 'p'
	// PinObject says that an image is pinned, and why.
	PinObject ObjectKind = 'n'
	// ExhibitObject holds a file that belongs to a proof of an image.
	ExhibitObject ObjectKind = 'e'
	// KeyObject holds a key of a sealed store; its envelope is not sealed.
	KeyObject ObjectKind = 's'
	// LabelObject holds what a key is called.
	LabelObject ObjectKind = 'k'
)

const (
	objectMagic = "KLOBJ\x00\x03"
	objectHead  = 7 + 1 + 1 + 4 // magic, kind, codec, payload length

	// ObjectHead is how many of an object's first bytes [PayloadLength] needs.
	ObjectHead = objectHead
	// sealedFlag is set in the codec of a sealed payload.
	sealedFlag = 0x80
)

// EncodeObject wraps a payload so that any flipped or missing byte, and an object under another's name, is noticed: magic
// (7 bytes), kind (1), codec (1, its highest bit set where sealed), payload length (uint32), the payload compressed and
// sealed, BLAKE3 of everything before and of the object's name (32).
func EncodeObject(seal *Seal, kind ObjectKind, name string, payload []byte) []byte {
	stored, codec := Compress(payload, nil, Ordinary)
	out := append([]byte(objectMagic), byte(kind), byte(codec))
	if seal != nil {
		out[8] |= sealedFlag
	}
	out = binary.BigEndian.AppendUint32(out, uint32(len(payload)))
	if seal != nil {
		stored = seal.seal(stored, append(out[:len(out):len(out)], name...))
	}
	out = append(out, stored...)
	digest := objectDigest(out, name)
	return append(out, digest[:]...)
}

// PayloadLength tells an object's payload length from its head, unchecked; 0 where that is no object's.
func PayloadLength(head []byte) int64 {
	if len(head) < objectHead || string(head[:7]) != objectMagic {
		return 0
	}
	return int64(binary.BigEndian.Uint32(head[9:]))
}

func objectDigest(body []byte, name string) Name {
	h := blake3.New()
	h.Write(body)
	h.WriteString(name)
	var n Name
	h.Sum(n[:0])
	return n
}

// DecodeObject undoes EncodeObject. Errors wrap [ErrDamaged].
func DecodeObject(seal *Seal, kind ObjectKind, name string, object []byte) ([]byte, error) {
	if len(object) < objectHead+32 || string(object[:7]) != objectMagic {
		return nil, fmt.Errorf("%s: %w: it does not begin like an object", name, ErrDamaged)
	}
	body, sum := object[:len(object)-32], object[len(object)-32:]
	if digest := objectDigest(body, name); string(digest[:]) != string(sum) {
		return nil, fmt.Errorf("%s: %w: its digest does not match its content and name", name, ErrDamaged)
	}
	payload, err := openPayload(seal, kind, name, body)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return payload, nil
}

func openPayload(seal *Seal, kind ObjectKind, name string, body []byte) (payload []byte, err error) {
	if got := ObjectKind(body[7]); got != kind {
		return nil, fmt.Errorf("%w: it is of kind %q, not %q", ErrDamaged, got, kind)
	}
	stored := body[objectHead:]
	if sealed := body[8]&sealedFlag != 0; sealed != (seal != nil) {
		return nil, fmt.Errorf("%w: an object of a sealed store in one that is not, or the reverse", ErrDamaged)
	} else if sealed {
		if stored, err = seal.unseal(stored, append(body[:objectHead:objectHead], name...)); err != nil {
			return nil, err
		}
	}
	return expand(stored, Codec(body[8]&^sealedFlag), int(binary.BigEndian.Uint32(body[9:])), kind.Most(), nil)
}

// Most bounds an object's payload, in bytes: what it claims beyond that is not believed.
func (k ObjectKind) Most() int {
	switch k {
	case IndexObject, CondemnedObject:
		return MaxObject
	case ImageObject, VisitObject:
		return 16 << 20
	}
	return 1 << 20
}

// MaxObject bounds the payload of the largest kinds of objects, in bytes.
const MaxObject = 128 << 20

// MaxIndex bounds the directories in one index, in bytes, so that it fits into memory with ease.
const MaxIndex = 40 << 20

// AppendIndex adds a pack to the payload of an index: its name, its length in bytes (uint32), the length of its directory (uint32), its
// directory.
func AppendIndex(payload []byte, d Directory, length int64) []byte {
	payload = append(payload, d.Pack[:]...)
	payload = binary.BigEndian.AppendUint32(payload, uint32(length))
	payload = binary.BigEndian.AppendUint32(payload, uint32(len(d.body)))
	return append(payload, d.body...)
}

// WalkIndex calls visit for each pack of an index's payload, with the pack's length in bytes. Errors wrap [ErrDamaged].
func WalkIndex(payload []byte, visit func(d Directory, length int64) error) error {
	const head = 16 + 4 + 4
	for len(payload) > 0 {
		if len(payload) < head {
			return fmt.Errorf("index: %w: it ends inside a pack's name", ErrDamaged)
		}
		id, length, n := PackID(payload), binary.BigEndian.Uint32(payload[16:]), int64(binary.BigEndian.Uint32(payload[20:]))
		payload = payload[head:]
		if n > int64(len(payload)) {
			return fmt.Errorf("index: %w: it ends inside the directory of pack %s", ErrDamaged, id)
		}
		d, err := NewDirectory(id, payload[:n])
		if err != nil {
			return fmt.Errorf("index: %w", err)
		}
		if err := visit(d, int64(length)); err != nil {
			return err
		}
		payload = payload[n:]
	}
	return nil
}
