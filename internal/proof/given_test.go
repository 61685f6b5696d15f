package proof

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// spotted is a disk that says of itself what is zeros.
type spotted struct {
	disk.Memory
	data []bool // of each stretch of 64 KiB
}

func (s spotted) Extents(_ context.Context, offset, length int64) (out []disk.Extent, _ error) {
	for end := offset + length; offset < end; {
		e := disk.Extent{Offset: offset, Length: min(64<<10-offset%(64<<10), end-offset), Kind: disk.Zero}
		if s.data[offset>>16] {
			e.Kind = disk.Data
		}
		out, offset = append(out, e), e.End()
	}
	return out, nil
}

// What is written out is compared with the image without reading that again: whatever byte is another is found, also one of which nothing was read.
func TestWhatWasWrittenOutIsCompared(t *testing.T) {
	rng := rand.New(rand.NewPCG(18, 3))
	for range 20 {
		s := spotted{Memory: make(disk.Memory, 9<<20+512*int64(rng.IntN(128)))}
		s.data = make([]bool, len(s.Memory)>>16+1)
		want := int64(0)
		for i := range s.data {
			if s.data[i] = rng.IntN(3) > 0; s.data[i] {
				end := min(len(s.Memory), (i+1)<<16)
				for at := i << 16; at < end; at++ {
					s.Memory[at] = byte(rng.Uint32())
				}
				want += int64(end - i<<16)
			}
		}
		file := filepath.Join(t.TempDir(), "vda.qcow2")
		g := &given{Disk: s}
		require.NoError(t, writeOut(t.Context(), g, file, func(int64) {}))
		there, end, err := openOut(file)
		require.NoError(t, err)
		n, err := g.compare(t.Context(), there, func(int64) {})
		require.NoError(t, err)
		require.Equal(t, want, n)
		require.NoError(t, end())

		other := disk.Memory(bytes.Clone(s.Memory)) // is data all over
		_, err = g.compare(t.Context(), other, func(int64) {})
		if want < int64(len(s.Memory)) {
			require.ErrorContains(t, err, "nothing was written out")
		}
		at := rng.IntN(len(s.Memory))
		other[at] ^= 1
		_, err = g.compare(t.Context(), spotted{other, s.data}, func(int64) {})
		if s.data[at>>16] {
			require.ErrorContains(t, err, "differs from the image")
		} else {
			require.NoError(t, err, "a disk that says that this is zeros has zeros there")
		}
		body, err := os.ReadFile(file)
		require.NoError(t, err)
		body[len(body)-64<<10] ^= 0x80 // the last cluster begins there
		require.NoError(t, os.WriteFile(file, body, 0o600))
		there, end, err = openOut(file)
		require.NoError(t, err)
		_, err = g.compare(t.Context(), there, func(int64) {})
		require.Error(t, err)
		require.NoError(t, end())
	}
}
