package open

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/raw"
	"keenlodge/internal/store/medium/dir"
)

// beginning is a disk of which only the beginning, n bytes, changed.
type beginning struct {
	disk.Disk
	n int64
}

func (t beginning) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	if offset < t.n {
		return []disk.Extent{{Offset: offset, Length: min(length, t.n-offset), Kind: disk.Data}}, nil
	}
	return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Unchanged}}, nil
}

// BenchmarkFold folds an increment into the full image of the disk that KEENLODGE_DISK names.
func BenchmarkFold(b *testing.B) {
	file := os.Getenv("KEENLODGE_DISK")
	if file == "" {
		b.Skip("KEENLODGE_DISK names no disk")
	}
	source, err := raw.Open(file)
	require.NoError(b, err)
	defer source.Close()
	root, err := os.MkdirTemp("/var/tmp", "fold")
	require.NoError(b, err)
	defer os.RemoveAll(root)
	d, err := dir.Open(root)
	require.NoError(b, err)
	s, err := Make(b.Context(), d, time.Now())
	require.NoError(b, err)
	add := func(d disk.Disk, m *image.Manifest, older *image.Disk) *image.Manifest {
		w, err := s.NewWriter(m)
		require.NoError(b, err)
		out, err := w.Disk(b.Context(), "vda", d, older, false)
		require.NoError(b, err)
		m.Disks = []image.Disk{out}
		require.NoError(b, w.Finish(b.Context(), m))
		require.NoError(b, w.End(b.Context()))
		return m
	}
	begun := time.Now()
	full := add(source, manifest(0), nil)
	b.Logf("full: %s", time.Since(begun).Round(100*time.Millisecond))
	for b.Loop() {
		b.StopTimer()
		m := manifest(1)
		m.Capture, m.Base = "incremental", full.ID
		m = add(beginning{source, 80 << 20}, m, &full.Disks[0])
		b.StartTimer()
		_, err := s.Fold(b.Context(), m.ID, false, func(int64) {})
		require.NoError(b, err)
		b.StopTimer()
		require.NoError(b, s.DropImage(b.Context(), m.ID))
		b.StartTimer()
	}
}
