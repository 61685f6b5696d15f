package chunk

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"sync"

	"github.com/zeebo/blake3"
)

// Secret is what a sealed store is sealed with. The store's keys wrap it; all else is derived from it.
type Secret [32]byte

// NewSecret draws a secret.
func NewSecret() Secret {
	var s Secret
	rand.Read(s[:])
	return s
}

// Overhead is how many bytes sealing adds to a frame or a directory: the tag of AES-256-GCM.
const Overhead = 16

// Seal names and seals what goes into one store. A nil *Seal is that of a store that is not sealed: names are plain
// digests and bytes pass as they are. Its methods may be called by several goroutines at once.
type Seal struct {
	names   sync.Pool // of *blake3.Hasher, keyed
	packs   Secret    // each pack's key is derived from it and from the pack's name
	objects cipher.AEAD
	check   Name
}

// NewSeal derives a store's keys: BLAKE3 in its key derivation mode, with a context string for each purpose.
func NewSeal(secret Secret) *Seal {
	s := &Seal{packs: derive(secret, "keenlodge store 3 packs"), objects: newAEAD(derive(secret, "keenlodge store 3 objects"))}
	names := derive(secret, "keenlodge store 3 names")
	s.names.New = func() any {
		h, err := blake3.NewKeyed(names[:])
		if err != nil {
			panic(err) // the key has the right length
		}
		return h
	}
	s.check = Name(derive(secret, "keenlodge store 3 check"))
	return s
}

func derive(secret Secret, context string) (out Secret) {
	blake3.DeriveKey(context, secret[:], out[:])
	return out
}

func newAEAD(key Secret) cipher.AEAD {
	block, err := aes.NewCipher(key[:])
	if err != nil {
		panic(err) // the key has the right length
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		panic(err)
	}
	return aead
}

// Check is a value that only the store's secret gives, and that tells nothing of it; the header keeps it.
func (s *Seal) Check() string { return s.check.String() }

// Name digests a piece or a map block.
func (s *Seal) Name(piece []byte) Name {
	if s == nil {
		return blake3.Sum256(piece)
	}
	h := s.names.Get().(*blake3.Hasher)
	defer s.names.Put(h)
	h.Reset()
	h.Write(piece)
	var n Name
	h.Sum(n[:0])
	return n
}

// Overhead is how many bytes sealing adds in this store.
func (s *Seal) Overhead() int {
	if s == nil {
		return 0
	}
	return Overhead
}

// PackSeal seals the parts of one pack. A nil one leaves them as they are.
type PackSeal struct{ aead cipher.AEAD }

// Pack derives a pack's key. No two packs share a key, so the offset of a part is a nonce that never repeats.
func (s *Seal) Pack(id PackID) *PackSeal {
	if s == nil {
		return nil
	}
	h, err := blake3.NewKeyed(s.packs[:])
	if err != nil {
		panic(err) // the key has the right length
	}
	h.Write(id[:])
	var key Secret
	h.Sum(key[:0])
	return &PackSeal{newAEAD(key)}
}

func nonceAt(offset uint32) []byte {
	return binary.BigEndian.AppendUint32(make([]byte, 8, 12), offset)
}

// append adds a part to a pack's body, whose length is the part's offset.
func (p *PackSeal) append(body, part []byte) []byte {
	if p == nil {
		return append(body, part...)
	}
	return p.aead.Seal(body, nonceAt(uint32(len(body))), part, nil)
}

// Open gives a part's bytes as they were before sealing. Errors wrap [ErrDamaged].
func (p *PackSeal) Open(offset uint32, part []byte) ([]byte, error) {
	if p == nil {
		return part, nil
	}
	out, err := p.aead.Open(part[:0:0], nonceAt(offset), part, nil)
	if err != nil {
		return nil, fmt.Errorf("bytes from %d on: %w: their seal is broken", offset, ErrDamaged)
	}
	return out, nil
}

// Close seals a few bytes of a header, about what they are of; [Seal.Open] undoes it.
func (s *Seal) Close(content []byte, about string) []byte { return s.seal(content, []byte(about)) }

// Open undoes [Seal.Close]. Errors wrap [ErrDamaged].
func (s *Seal) Open(sealed []byte, about string) ([]byte, error) {
	return s.unseal(sealed, []byte(about))
}

// seal closes an object's payload: a random nonce, then what AES-256-GCM gives.
func (s *Seal) seal(payload, about []byte) []byte {
	nonce := make([]byte, s.objects.NonceSize(), s.objects.NonceSize()+len(payload)+Overhead)
	rand.Read(nonce)
	return s.objects.Seal(nonce, nonce, payload, about)
}

func (s *Seal) unseal(sealed, about []byte) ([]byte, error) {
	n := s.objects.NonceSize()
	if len(sealed) < n {
		return nil, fmt.Errorf("%w: its seal is cut off", ErrDamaged)
	}
	out, err := s.objects.Open(nil, sealed[:n], sealed[n:], about)
	if err != nil {
		return nil, fmt.Errorf("%w: its seal is broken, or it was sealed for another store", ErrDamaged)
	}
	return out, nil
}
