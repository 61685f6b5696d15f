package pooled

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/raw"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
)

// BenchmarkTake takes an image of this host's programs over from a folder into another one, unsealed and sealed, and copies the packs beside that.
func BenchmarkTake(b *testing.B) {
	folder := os.Getenv("KEENLODGE_PLACE")
	if folder == "" {
		b.Skip("KEENLODGE_PLACE names no folder")
	}
	require.NoError(b, exec.Command("sh", "-c", "cd "+folder+" && rm -rf from to tree && mkdir from to tree && cp -al /usr/bin /usr/share tree/ && truncate -s 4G d.raw && mkfs.ext4 -q -F -d tree d.raw && rm -r tree").Run())
	m, err := dir.Open(filepath.Join(folder, "from"))
	require.NoError(b, err)
	from, err := Make(b.Context(), m, moment, NewCuts(), nil)
	require.NoError(b, err)
	d, err := raw.Open(filepath.Join(folder, "d.raw"))
	require.NoError(b, err)
	img := storeImage(b, from, d, nil)
	for name, sealed := range secrets {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				b.StopTimer()
				to := filepath.Join(folder, "to", name)
				require.NoError(b, os.RemoveAll(to))
				require.NoError(b, os.MkdirAll(to, 0o700))
				m, err := dir.Open(to)
				require.NoError(b, err)
				s, err := Make(b.Context(), m, moment, from.cuts, sealed, store.NewKey{Label: "safe", Passphrase: passphrase})
				require.NoError(b, err)
				b.StartTimer()
				_, _, stored, err := taken(b.Context(), s, from, img, nil, nil)
				require.NoError(b, err)
				b.SetBytes(img.Sizes.Data)
				b.ReportMetric(float64(stored)/(1<<20), "MiB-stored")
			}
		})
	}
	b.Run("cp", func(b *testing.B) {
		for b.Loop() {
			require.NoError(b, exec.Command("sh", "-c", "cd "+folder+" && rm -rf to/packs && cp -r from/pack to/packs && sync -f to/packs").Run())
		}
	})
}
