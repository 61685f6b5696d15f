// Package chunk names, compresses, seals and packs pieces: the bytes that docs/store-format.md describes. Neighbours that are new together are
// compressed together, as one frame.
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

// MaxFrame is the most that a frame may hold, in bytes before compression. Readers refuse more, so that a damaged length can't make them
// ask for all memory.
const MaxFrame = 1 << 20

// ErrDamaged marks bytes that are not what was once written.
var ErrDamaged = errors.New("damaged")

// Name is the BLAKE3 digest (256 bits) of a piece's or a map block's content, keyed in a sealed store. The zero Name stands for zeros,
// which are never stored.
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
	return n, fmt.Errorf("name %q: %w: not 64 hexadecimal digits", s, ErrDamaged)
}

// Codec tells how stored bytes become a frame.
type Codec uint8

const (
	// Plain bytes are the frame.
	Plain Codec = 0
	// Zstd bytes are one Zstandard frame (RFC 8878).
	Zstd Codec = 1
)

// Effort is how hard [Compress] tries: a level of Zstandard's, of which negative ones are the fastest, or one of those below.
type Effort int

const (
	// Untouched leaves everything as it is.
	Untouched Effort = 0
	// Ordinary is Zstandard's level 2, and 1 beyond 128 KiB, where its level 2 is of another, slower kind (docs/benchmarks.md).
	Ordinary Effort = 1000
)

func (e Effort) level(n int) int {
	switch {
	case e != Ordinary:
		return int(e)
	case n > 128<<10:
		return 1
	}
	return 2
}

// contexts keep the memory of the Zstandard library, which is in C: creating it for each block would cost more than
// compressing.
var contexts = sync.Pool{New: func() any { return zstd.NewCtx() }}

// Bound is the room that Compress may need for n bytes.
func Bound(n int) int { return zstd.CompressBound(n) }

// Compress returns the bytes to store for a frame: compressed where that saves at least a sixteenth, the frame itself (not copied)
// otherwise. The result may use buf's memory if it has room for [Bound] bytes.
func Compress(frame, buf []byte, effort Effort) ([]byte, Codec) {
	if len(frame) == 0 || effort == Untouched || looksRandom(frame) {
		return frame, Plain
	}
	c := contexts.Get().(zstd.Ctx)
	defer contexts.Put(c)
	out, err := c.CompressLevel(buf, frame, effort.level(len(frame)))
	if err != nil || len(out) > len(frame)-len(frame)/16 {
		return frame, Plain
	}
	return out, Zstd
}

// looksRandom samples a frame: looking at all of it costs half as much as trying to compress it. The library's estimate of 4 KiB of random
// bytes was above 0.02 for 43 of 100 samples and above 0.1 for none of 2,000; of 270 MiB of /usr in frames of 64 KiB it called 3 % random with 0.1, and none that would have
// been compressed.
func looksRandom(frame []byte) bool {
	const sample, most = 4 << 10, 0.1
	if len(frame) < 8*sample {
		return false
	}
	for _, at := range []int{0, len(frame) / 2, len(frame) - sample} {
		if compress.Estimate(frame[at:at+sample]) > most {
			return false
		}
	}
	return true
}

// Expand undoes Compress: a frame tells its length. The result may use into's memory. Errors wrap [ErrDamaged].
func Expand(stored []byte, codec Codec, into []byte) ([]byte, error) {
	if codec != Zstd {
		return expand(stored, codec, len(stored), MaxFrame, into)
	}
	var h zstdframe.Header
	if err := h.Decode(stored); err != nil || !h.HasFCS || h.FrameContentSize > MaxFrame {
		return nil, fmt.Errorf("%w: a frame does not tell its length", ErrDamaged)
	}
	return expand(stored, codec, int(h.FrameContentSize), MaxFrame, into)
}

func expand(stored []byte, codec Codec, size, most int, into []byte) ([]byte, error) {
	if size < 0 || size > most {
		return nil, fmt.Errorf("frame of %d bytes: %w: more than one may have", size, ErrDamaged)
	}
	switch {
	case codec == Plain && len(stored) == size:
		return stored, nil
	case codec == Plain:
		return nil, fmt.Errorf("frame of %d bytes: %w: %d are stored", size, ErrDamaged, len(stored))
	case codec != Zstd:
		return nil, fmt.Errorf("frame of %d bytes: %w: codec %d is unknown", size, ErrDamaged, codec)
	case size == 0 || len(stored) == 0:
		return nil, fmt.Errorf("frame of %d bytes: %w: it is empty", size, ErrDamaged)
	}
	c := contexts.Get().(zstd.Ctx)
	defer contexts.Put(c)
	if cap(into) < size {
		into = make([]byte, size)
	}
	// The library writes no further than into, whatever the frame claims.
	n, err := c.DecompressInto(into[:size], stored)
	if err != nil {
		return nil, fmt.Errorf("frame of %d bytes: %w: %v", size, ErrDamaged, err)
	}
	if n != size {
		return nil, fmt.Errorf("frame of %d bytes: %w: it expands to %d", size, ErrDamaged, n)
	}
	return into[:size], nil
}
