// Package chunk names, compresses, seals and packs blocks: the bytes that docs/store-format.md describes.
package chunk

import (
	"encoding/hex"
	"errors"
	"fmt"
	"sync"

	"github.com/DataDog/zstd"
	"github.com/klauspost/compress"
	zstdframe "github.com/klauspost/compress/zstd"
)

// MaxBlock is the largest block that a store may hold, in bytes. Readers refuse more, so that a damaged length can't
// make them ask for all memory.
const MaxBlock = 8 << 20

// ErrDamaged marks bytes that are not what was once written.
var ErrDamaged = errors.New("damaged")

// Name is the BLAKE3 digest (256 bits) of a block's content, keyed in a sealed store. The zero Name stands for a block of
// zeros, which is never stored.
type Name [32]byte

// IsZero reports whether n stands for zeros.
func (n Name) IsZero() bool { return n == Name{} }

func (n Name) String() string { return hex.EncodeToString(n[:]) }

// ParseName reads what String wrote; "" is the zero name.
func ParseName(s string) (Name, error) {
	var n Name
	if s == "" {
		return n, nil
	}
	if len(s) == 2*len(n) {
		if _, err := hex.Decode(n[:], []byte(s)); err == nil {
			return n, nil
		}
	}
	return n, fmt.Errorf("block name %q: %w: not 64 hexadecimal digits", s, ErrDamaged)
}

// Codec tells how stored bytes become a block.
type Codec uint8

const (
	// Plain bytes are the block.
	Plain Codec = 0
	// Zstd bytes are one Zstandard frame (RFC 8878).
	Zstd Codec = 1
)

// level is Zstandard's, the best in bytes for its time on blocks of 128 KiB; docs/benchmarks.md has the figures.
const level = 2

// contexts keep the memory of the Zstandard library, which is in C: creating it for each block would cost more than
// compressing.
var contexts = sync.Pool{New: func() any { return zstd.NewCtx() }}

// Bound is the room that Compress may need for n bytes.
func Bound(n int) int { return zstd.CompressBound(n) }

// Compress returns the bytes to store for a block: compressed where that saves at least a sixteenth, the block itself
// (not copied) otherwise. The result may use buf's memory if it has room for [Bound] bytes.
func Compress(block, buf []byte) ([]byte, Codec) {
	if len(block) == 0 || looksRandom(block) {
		return block, Plain
	}
	c := contexts.Get().(zstd.Ctx)
	defer contexts.Put(c)
	out, err := c.CompressLevel(buf, block, level)
	if err != nil || len(out) > len(block)-len(block)/16 {
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
	return expand(stored, codec, size, MaxBlock)
}

// ExpandAny undoes Compress where the block's length is not at hand: a frame tells it. Errors wrap [ErrDamaged].
func ExpandAny(stored []byte, codec Codec) ([]byte, error) {
	if codec != Zstd {
		return Expand(stored, codec, len(stored))
	}
	var h zstdframe.Header
	if err := h.Decode(stored); err != nil || !h.HasFCS || h.FrameContentSize > MaxBlock {
		return nil, fmt.Errorf("block: %w: its frame does not tell its length", ErrDamaged)
	}
	return Expand(stored, codec, int(h.FrameContentSize))
}

func expand(stored []byte, codec Codec, size, most int) ([]byte, error) {
	if size < 0 || size > most {
		return nil, fmt.Errorf("block of %d bytes: %w: more than a block may have", size, ErrDamaged)
	}
	switch {
	case codec == Plain && len(stored) == size:
		return stored, nil
	case codec == Plain:
		return nil, fmt.Errorf("block of %d bytes: %w: %d are stored", size, ErrDamaged, len(stored))
	case codec != Zstd:
		return nil, fmt.Errorf("block of %d bytes: %w: codec %d is unknown", size, ErrDamaged, codec)
	case size == 0 || len(stored) == 0:
		return nil, fmt.Errorf("block of %d bytes: %w: an empty frame", size, ErrDamaged)
	}
	c := contexts.Get().(zstd.Ctx)
	defer contexts.Put(c)
	out := make([]byte, size)
	// The library writes no further than out, whatever the frame claims.
	n, err := c.DecompressInto(out, stored)
	if err != nil {
		return nil, fmt.Errorf("block of %d bytes: %w: %v", size, ErrDamaged, err)
	}
	if n != size {
		return nil, fmt.Errorf("block of %d bytes: %w: it expands to %d", size, ErrDamaged, n)
	}
	return out, nil
}
