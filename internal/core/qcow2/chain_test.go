package qcow2

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// changing is a disk in memory that tells what changed since an older state of it.
type changing struct {
	disk.Memory
	extents []disk.Extent
}

func (c changing) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	var out []disk.Extent
	for _, e := range c.extents {
		from, to := max(offset, e.Offset), min(offset+length, e.End())
		if from < to {
			out = append(out, disk.Extent{Offset: from, Length: to - from, Kind: e.Kind})
		}
	}
	return out, nil
}

// scribble writes over random ranges of a disk and tells which: in whole granules, as a bitmap does, some of them zeroed.
func scribble(rng *rand.Rand, body []byte, granule int64) []disk.Extent {
	n := ceil(int64(len(body)), granule)
	kinds := make([]disk.Kind, n)
	for i := range kinds {
		kinds[i] = disk.Unchanged
	}
	for range 1 + rng.IntN(12) {
		first := rng.Int64N(n)
		kind := disk.Kind(rng.IntN(2)) // data or zeros
		for i := first; i < min(n, first+1+rng.Int64N(9)); i++ {
			kinds[i] = kind
			part := body[i*granule : min(int64(len(body)), (i+1)*granule)]
			clear(part)
			for j := range part {
				if kind == disk.Data {
					part[j] = byte(rng.IntN(1 + rng.IntN(3)*100))
				}
			}
		}
	}
	var out []disk.Extent
	for i, kind := range kinds {
		e := disk.Extent{Offset: int64(i) * granule, Length: min(granule, int64(len(body))-int64(i)*granule), Kind: kind}
		if k := len(out) - 1; k >= 0 && out[k].Kind == kind {
			out[k].Length += e.Length
			continue
		}
		out = append(out, e)
	}
	return out
}

// write makes one file of a chain, plain or compressed.
func write(t *testing.T, file string, d disk.Disk, backing string, small bool) {
	t.Helper()
	f, err := os.Create(file)
	require.NoError(t, err)
	defer f.Close()
	if small {
		n, err := Compress(t.Context(), f, d, backing)
		require.NoError(t, err)
		s, err := f.Stat()
		require.NoError(t, err)
		require.LessOrEqual(t, s.Size(), n)
		return
	}
	layout, err := New(t.Context(), d, backing)
	require.NoError(t, err)
	_, err = layout.WriteTo(f)
	require.NoError(t, err)
}

// A chain of a full file and overlays, plain and compressed, whole and with changes that fit no cluster: QEMU finds nothing wrong in
// any of them and reads the same disk, and so do we.
func TestChains(t *testing.T) {
	chains := uint64(12)
	if testing.Short() {
		chains = 3
	}
	for seed := range chains {
		rng := rand.New(rand.NewPCG(seed, 3))
		dir := t.TempDir()
		body := make([]byte, 512*(1+rng.IntN(20_000)))
		scribble(rng, body, 4096)
		granule := []int64{512, 4096, 65536, 131072}[rng.IntN(4)]
		var under disk.Disk
		backing := ""
		for i := range 4 {
			d := changing{append(disk.Memory{}, body...), []disk.Extent{{Offset: 0, Length: int64(len(body))}}}
			if i > 0 {
				d.extents = scribble(rng, body, granule)
				d.Memory = append(disk.Memory{}, body...)
			}
			file := filepath.Join(dir, string(rune('a'+i))+".qcow2")
			write(t, file, d, backing, rng.IntN(2) == 0)
			raw := filepath.Join(dir, "raw")
			require.NoError(t, os.WriteFile(raw, body, 0o600))
			out, err := exec.Command("qemu-img", "check", file).CombinedOutput()
			require.NoError(t, err, "seed %d: %s", seed, out)
			require.Contains(t, string(out), "No errors were found")
			out, err = exec.Command("qemu-img", "compare", "-f", "raw", "-F", "qcow2", raw, file).CombinedOutput()
			require.NoError(t, err, "seed %d, file %d: %s", seed, i, out)

			f, err := os.Open(file)
			require.NoError(t, err)
			defer f.Close()
			says, err := Backing(f)
			require.NoError(t, err)
			require.Equal(t, backing, says)
			m, err := Open(f, under)
			require.NoError(t, err)
			at, err := disk.FirstDifference(t.Context(), m, disk.Memory(body))
			require.NoError(t, err)
			require.EqualValues(t, -1, at, "seed %d, file %d", seed, i)
			under, backing = m, filepath.Base(file)
		}
	}
}

// What QEMU itself writes can be read: other cluster sizes, both compressions, version 2.
func TestWhatQEMUWritesIsRead(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	dir := t.TempDir()
	body := make([]byte, 5<<20+512)
	scribble(rng, body, 4096)
	raw := filepath.Join(dir, "raw")
	require.NoError(t, os.WriteFile(raw, body, 0o600))
	for _, options := range [][]string{{"-o", "cluster_size=512"}, {"-o", "cluster_size=2M"}, {"-c"}, {"-c", "-o", "compression_type=zstd"}, {"-o", "compat=0.10"}} {
		file := filepath.Join(dir, "out.qcow2")
		out, err := exec.Command("qemu-img", append(append([]string{"convert", "-f", "raw", "-O", "qcow2"}, options...), raw, file)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		f, err := os.Open(file)
		require.NoError(t, err)
		defer f.Close()
		m, err := Open(f, nil)
		require.NoError(t, err)
		at, err := disk.FirstDifference(t.Context(), m, disk.Memory(body))
		require.NoError(t, err)
		require.EqualValues(t, -1, at, "%s", options)
	}
}

func TestWhatCanNotLieOver(t *testing.T) {
	d := changing{make(disk.Memory, 1<<20), []disk.Extent{{Offset: 0, Length: 1 << 20, Kind: disk.Unchanged}}}
	_, err := New(t.Context(), d, "")
	require.ErrorContains(t, err, "there is no older file to lie over")
	_, err = Compress(t.Context(), nil, changing{make(disk.Memory, 100), nil}, "")
	require.ErrorContains(t, err, "not whole sectors")
	layout, err := New(t.Context(), d, "base.qcow2")
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = layout.WriteTo(&out)
	require.NoError(t, err)
	_, err = Open(bytes.NewReader(out.Bytes()), nil)
	require.ErrorContains(t, err, `it lies over "base.qcow2"`)
}

// A hostile file is an error, or a disk of some content; it makes nobody crash, hang or take all memory.
func FuzzOpen(f *testing.F) {
	body := make([]byte, 300_000-300_000%512)
	scribble(rand.New(rand.NewPCG(1, 1)), body, 512)
	file := filepath.Join(f.TempDir(), "a")
	out, err := os.Create(file)
	require.NoError(f, err)
	_, err = Compress(context.Background(), out, disk.Memory(body), "")
	require.NoError(f, err)
	seed, err := os.ReadFile(file)
	require.NoError(f, err)
	f.Add(seed)
	layout, err := New(context.Background(), disk.Memory(body), "")
	require.NoError(f, err)
	var plain bytes.Buffer
	_, err = layout.WriteTo(&plain)
	require.NoError(f, err)
	f.Add(plain.Bytes())
	f.Fuzz(func(t *testing.T, wire []byte) {
		m, err := Open(bytes.NewReader(wire), nil)
		if err != nil {
			return
		}
		p := make([]byte, 3<<20)
		for _, at := range []int64{0, m.Size() / 2, m.Size() - 1000} {
			n, err := m.ReadAt(p, max(0, at))
			require.True(t, n == len(p) || err != nil)
			if err == io.EOF {
				require.LessOrEqual(t, m.Size()-at, int64(len(p)))
			}
		}
		_, err = m.Extents(t.Context(), 0, m.Size())
		require.True(t, err == nil || m.Size() > 0)
	})
}
