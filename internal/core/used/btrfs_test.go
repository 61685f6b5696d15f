package used

import (
	"encoding/binary"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// forged is a btrfs of which some blocks were changed, with checksums that are right again.
type forged struct {
	io.ReaderAt
	blocks map[int64][]byte
}

func (f forged) ReadAt(p []byte, off int64) (int, error) {
	n, err := f.ReaderAt.ReadAt(p, off)
	for at, block := range f.blocks {
		if at >= off && at < off+int64(n) {
			copy(p[at-off:n], block)
		}
	}
	return n, err
}

// Whatever a btrfs says with checksums that are right, the answer lies within, and comes in time; one that was not unmounted is told from one that was.
func TestForgedBtrfs(t *testing.T) {
	const size, node = 64 << 20, 4096
	file := made(t, size, "mkfs.btrfs -q -M -n 4096 -r $d $f; truncate -s 64M $f")
	body := make([]byte, size)
	_, err := file.ReadAt(body, 0)
	require.NoError(t, err)
	trees := []int64{btrfsSuper} // where blocks lie of trees that are read
	for at := int64(0); at < size; at += node {
		if owner := binary.LittleEndian.Uint64(body[at+88:]); owner >= 1 && owner <= 3 && string(body[at+32:at+48]) == string(body[btrfsSuper+0x20:btrfsSuper+0x30]) && binary.LittleEndian.Uint32(body[at:]) == crc32.Checksum(body[at+32:at+node], crc32.MakeTable(crc32.Castagnoli)) {
			trees = append(trees, at)
		}
	}
	require.Greater(t, len(trees), 3)
	forge := func(at int64, change func(block []byte)) forged {
		block := append([]byte{}, body[at:at+node]...)
		change(block)
		binary.LittleEndian.PutUint32(block, crc32.Checksum(block[32:], crc32.MakeTable(crc32.Castagnoli)))
		return forged{file, map[int64][]byte{at: block}}
	}
	log := forge(btrfsSuper, func(b []byte) { b[0x60] = 1 })
	_, err = Of("btrfs", log, size)
	require.ErrorContains(t, err, "played back first")
	_, err = OfCommitted(log, size)
	require.NoError(t, err)
	_, err = Of("btrfs", forge(btrfsSuper, func(b []byte) { b[0xbc+1] |= 0x20 }), size)
	require.ErrorIs(t, err, ErrUnknown)
	_, err = Of("btrfs", forged{file, map[int64][]byte{btrfsSuper: make([]byte, 4096)}}, size)
	require.ErrorIs(t, err, ErrUnknown)

	rng, refused := rand.New(rand.NewPCG(3, 4)), 0
	for i := range 4000 {
		at := trees[rng.IntN(len(trees))]
		f := forge(at, func(b []byte) {
			for range 1 + rng.IntN(4) {
				where := 32 + rng.IntN(800)
				if rng.IntN(3) == 0 {
					where = 32 + rng.IntN(len(b)-40)
				}
				if rng.IntN(2) == 0 {
					binary.LittleEndian.PutUint64(b[where:], rng.Uint64()>>rng.IntN(64))
				} else {
					b[where] ^= byte(1 << rng.IntN(8))
				}
			}
		})
		m, err := Of("btrfs", f, size)
		if err != nil {
			refused++
			continue
		}
		for _, e := range m.All() {
			require.True(t, e.Offset >= 0 && e.Length > 0 && e.End() <= size, "change %d", i)
		}
	}
	require.Greater(t, refused, 500)
	require.Less(t, refused, 4000)
}
