package mount

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/pooled"
)

// BenchmarkRandomReads reads 4 KiB at random through the first image of the store that KEENLODGE_SHELF names, as a mount does:
// first where nothing was read before, then again.
func BenchmarkRandomReads(b *testing.B) {
	folder := os.Getenv("KEENLODGE_SHELF")
	if folder == "" {
		b.Skip("KEENLODGE_SHELF names no store")
	}
	ctx := context.Background()
	m, err := dir.OpenToRead(folder)
	require.NoError(b, err)
	s, err := pooled.Open(ctx, m, nil)
	require.NoError(b, err)
	ids, err := s.ImageIDs(ctx)
	require.NoError(b, err)
	man, err := s.ReadImage(ctx, ids[0])
	require.NoError(b, err)
	r, err := image.NewReader(s, man.Disks[0])
	require.NoError(b, err)
	var data []int64
	require.NoError(b, disk.Walk(ctx, r, func(e disk.Extent) error {
		for at := e.Offset; e.Kind == disk.Data && at < e.End(); at += 128 << 10 {
			data = append(data, at)
		}
		return nil
	}))
	for b.Loop() {
		fresh, err := image.NewReader(s, man.Disks[0])
		require.NoError(b, err)
		mounted, err := Disks(b.TempDir(), map[string]disk.Disk{"vda": fresh})
		require.NoError(b, err)
		file, err := os.Open(filepath.Join(mounted.folder, "disks", diskFile(0)))
		require.NoError(b, err)
		rng := rand.New(rand.NewPCG(5, 5))
		rng.Shuffle(len(data), func(i, j int) { data[i], data[j] = data[j], data[i] })
		for _, round := range []string{"ms-cold", "ms-warm"} {
			var took []time.Duration
			p := make([]byte, 4096)
			for _, at := range data[:min(1000, len(data))] {
				begun := time.Now()
				_, err := file.ReadAt(p, at+8192)
				took = append(took, time.Since(begun))
				require.NoError(b, err)
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, round)
		}
		file.Close()
		require.NoError(b, mounted.Close())
	}
}
