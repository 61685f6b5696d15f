// Package chunk names, compresses and packs blocks: the bytes that docs/store-format.md describes.
package chunk

import (
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/klauspost/compress"
	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
)

// MaxBlock is the largest block that a store may hold, in bytes. Readers refuse more, so that a damaged length can't
// make them ask for all memory.
const MaxBlock = 8 << 20

// ErrDamaged marks bytes that are not what was once written.
var ErrDamaged = errors.New("damaged")

// Name is the BLAKE3 digest (256 bits) of a block's content. The zero Name stands for a block of zeros, which is
// never stored.
type Name [32]byte

// NameOf digests a block.
func NameOf(block []byte) Name { return blake3.Sum256(block) }

// IsZero reports whether n stands for zeros.
func (n Name) IsZero() bool { return n == Name{} }

func (n Name) String() string { return hex.EncodeToString(n[:]) }

// Codec tells how stored bytes become a block.
type Codec uint8

const (
	// Plain bytes are the block.
	Plain Codec = 0
	// Zstd bytes are one Zstandard frame (RFC 8878).
	Zstd Codec = 1
)

var (
	// The window comes before the level, which would else cut blocks into pieces of 64 KiB: a block that is one piece needs
	// no history, which saves a copy of it.
	encoder, _       = zstd.NewWriter(nil, zstd.WithWindowSize(128<<10), zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderCRC(false), zstd.WithEncoderConcurrency(8))
	decoder, _       = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(MaxBlock+1), zstd.WithDecoderConcurrency(0))
	objectDecoder, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxObject), zstd.WithDecoderConcurrency(0))
)

// Compress returns the bytes to store for a block: compressed where that saves at least a sixteenth, the block itself
// (not copied) otherwise. The result may use buf's memory.
func Compress(block, buf []byte) ([]byte, Codec) {
	if looksRandom(block) {
		return block, Plain
	}
	out := encoder.EncodeAll(block, buf[:0])
	if len(out) > len(block)-len(block)/16 {
		return block, Plain
	}
	return out, Zstd
}

// looksRandom samples a block: looking at all of it costs half as much as trying to compress it.
func looksRandom(block []byte) bool {
	const sample = 4 << 10
	if len(block) < 8*sample {
		return false
	}
	for _, at := range []int{0, len(block) / 2, len(block) - sample} {
		if compress.Estimate(block[at:at+sample]) > 0.02 {
			return false
		}
	}
	return true
}

// Expand undoes Compress. size is the block's length in bytes, as its directory entry gives it.
func Expand(stored []byte, codec Codec, size int) ([]byte, error) {
	if size < 0 || size > MaxBlock {
		return nil, fmt.Errorf("block of %d bytes: %w: more than a block may have", size, ErrDamaged)
	}
	switch codec {
	case Plain:
		if len(stored) != size {
			return nil, fmt.Errorf("block of %d bytes: %w: %d are stored", size, ErrDamaged, len(stored))
		}
		return stored, nil
	case Zstd:
		out, err := decoder.DecodeAll(stored, make([]byte, 0, size))
		if err != nil {
			return nil, fmt.Errorf("block of %d bytes: %w: %v", size, ErrDamaged, err)
		}
		if len(out) != size {
			return nil, fmt.Errorf("block of %d bytes: %w: it expands to %d", size, ErrDamaged, len(out))
		}
		return out, nil
	}
	return nil, fmt.Errorf("block of %d bytes: %w: codec %d is unknown", size, ErrDamaged, codec)
}
