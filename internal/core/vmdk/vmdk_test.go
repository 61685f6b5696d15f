package vmdk

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/disk/disktest"
)

func opened(t *testing.T, file string) *Image {
	t.Helper()
	m, err := Open(disktest.File(t, file))
	require.NoError(t, err)
	return m
}

// QEMU reads what is written; what QEMU writes is read, compressed and not; and what is written is read again.
func TestQEMUBothWays(t *testing.T) {
	rng := rand.New(rand.NewPCG(19, 3))
	for name, size := range map[string]int64{"one sector": 512, "odd end": 3<<20 + 1536, "some tables": 2<<30 + 512, "empty": 5 << 20} {
		t.Run(name, func(t *testing.T) {
			places := 12
			if name == "empty" {
				places = 0
			}
			from, d := disktest.Sparse(t, rng, size, places)
			ours := filepath.Join(t.TempDir(), "ours.vmdk")
			out, err := os.Create(ours)
			require.NoError(t, err)
			n, err := Write(t.Context(), out, d, "ours.vmdk")
			require.NoError(t, err)
			require.NoError(t, out.Close())
			_, length := disktest.File(t, ours)
			require.Equal(t, length, n)
			require.Contains(t, disktest.QEMU(t, "check", ours), "No errors were found")
			disktest.QEMU(t, "compare", "-f", "raw", "-F", "vmdk", from, ours)
			disktest.Same(t, d, opened(t, ours))
			for _, kind := range []string{"streamOptimized", "monolithicSparse"} {
				theirs := filepath.Join(t.TempDir(), "theirs.vmdk")
				disktest.QEMU(t, "convert", "-f", "raw", "-O", "vmdk", "-o", "subformat="+kind, from, theirs)
				disktest.Same(t, d, opened(t, theirs))
			}
		})
	}
}

// What can't be read as it is is refused, and says why and what to do.
func TestWhatIsRefused(t *testing.T) {
	dir := t.TempDir()
	_, d := disktest.Sparse(t, rand.New(rand.NewPCG(1, 1)), 4<<20, 5)
	var out bytes.Buffer
	_, err := Write(t.Context(), &out, d, "x.vmdk")
	require.NoError(t, err)
	whole := out.Bytes()
	for _, kind := range []string{"monolithicFlat", "twoGbMaxExtentSparse"} {
		file := filepath.Join(dir, kind+".vmdk")
		disktest.QEMU(t, "create", "-q", "-f", "vmdk", "-o", "subformat="+kind, file, "16M")
		_, err := Open(disktest.File(t, file))
		require.ErrorContains(t, err, "qemu-img convert", kind)
	}
	base, over := filepath.Join(dir, "base.vmdk"), filepath.Join(dir, "over.vmdk")
	disktest.QEMU(t, "create", "-q", "-f", "vmdk", base, "16M")
	disktest.QEMU(t, "create", "-q", "-f", "vmdk", "-b", base, "-F", "vmdk", over)
	_, err = Open(disktest.File(t, over))
	require.ErrorContains(t, err, "leans on another file")
	for says, harm := range map[string]func(p []byte) []byte{
		"no footer":               func(p []byte) []byte { return p[:len(p)-4096] },
		"does not begin as one":   func(p []byte) []byte { p[0] = 'x'; return p },
		"VMDK version":            func(p []byte) []byte { p[len(p)-2*sector+4] = 9; return p },
		"its grains have":         func(p []byte) []byte { p[len(p)-2*sector+20] = 3; return p },
		"its directory lies":      func(p []byte) []byte { p[len(p)-2*sector+60] = 1; return p },
		"which is not known here": func(p []byte) []byte { p[len(p)-2*sector+77] = 7; return p },
	} {
		p := harm(bytes.Clone(whole))
		_, err := Open(bytes.NewReader(p), int64(len(p)))
		require.ErrorContains(t, err, says)
	}
	p := bytes.Clone(whole)
	p[grainSectors*sector+200] ^= 0xff // in the first grain
	m, err := Open(bytes.NewReader(p), int64(len(p)))
	require.NoError(t, err)
	_, err = m.ReadAt(make([]byte, m.Size()), 0)
	require.ErrorIs(t, err, ErrDamaged)
	_, err = Write(t.Context(), io.Discard, make(disk.Memory, 100), "x")
	require.ErrorContains(t, err, "whole sectors")
	_, err = Write(t.Context(), failing{}, d, "x")
	require.ErrorIs(t, err, io.ErrShortWrite)
}

// failing takes nothing.
type failing struct{}

func (failing) Write([]byte) (int, error) { return 0, io.ErrShortWrite }

// Whatever the bytes are, nothing is read out of the file's bounds, and nothing hangs.
func FuzzOpen(f *testing.F) {
	d := make(disk.Memory, 3<<20)
	copy(d[2<<20:], "berth 7")
	var out bytes.Buffer
	_, err := Write(context.Background(), &out, d, "x.vmdk")
	require.NoError(f, err)
	whole := out.Bytes()
	f.Add(uint32(12), []byte{1})
	f.Add(uint32(len(whole)-2*sector+44), []byte{0xff, 0xff})
	f.Add(uint32(grainSectors*sector+8), []byte{0xff, 0xff, 0xff, 0x7f})
	f.Fuzz(func(t *testing.T, at uint32, patch []byte) {
		p := bytes.Clone(whole)
		copy(p[int(at)%len(p):], patch)
		m, err := Open(bytes.NewReader(p), int64(len(p)))
		if err != nil {
			return
		}
		buffer := make([]byte, 64<<10)
		for off := int64(0); off < min(m.Size(), 8<<20); off += 1 << 20 {
			if _, err := m.ReadAt(buffer, off); err != nil && err != io.EOF {
				require.ErrorIs(t, err, ErrDamaged)
			}
			_, _ = m.Extents(context.Background(), off, m.Size()-off)
		}
	})
}
