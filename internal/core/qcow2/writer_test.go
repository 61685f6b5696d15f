package qcow2

import (
	"bytes"
	"context"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/raw"
)

// QEMU itself is the judge: its check finds nothing, and its compare finds the disk.
func TestQEMUReadsWhatIsWritten(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for name, size := range map[string]int64{"one sector": 512, "odd end": 3<<20 + 1536, "several tables": 2<<30 + 512, "empty": 5 << 20} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			source := filepath.Join(dir, "disk.raw")
			f, err := os.Create(source)
			require.NoError(t, err)
			require.NoError(t, f.Truncate(size))
			for range 40 {
				if name == "empty" {
					break
				}
				piece := make([]byte, min(size, 1+rng.Int64N(300_000)))
				for i := range piece {
					piece[i] = byte(rng.Uint32())
				}
				_, err := f.WriteAt(piece, rng.Int64N(size-int64(len(piece))+1))
				require.NoError(t, err)
			}
			require.NoError(t, f.Close())

			d, err := raw.Open(source)
			require.NoError(t, err)
			defer d.Close()
			layout, err := New(context.Background(), d, "")
			require.NoError(t, err)
			var out bytes.Buffer
			n, err := layout.WriteTo(&out)
			require.NoError(t, err)
			require.Equal(t, layout.Size(), n)
			image := filepath.Join(dir, "disk.qcow2")
			require.NoError(t, os.WriteFile(image, out.Bytes(), 0o600))

			told, err := exec.Command("qemu-img", "check", image).CombinedOutput()
			require.NoError(t, err, string(told))
			require.Contains(t, string(told), "No errors were found")
			told, err = exec.Command("qemu-img", "compare", "-f", "raw", "-F", "qcow2", source, image).CombinedOutput()
			require.NoError(t, err, string(told))
		})
	}
}

// A file that lies over what is lent has nothing of its own, and says what lies below it, and in which format.
func TestOver(t *testing.T) {
	const address = "nbd+unix:///vda?socket=/run/lent/vda.nbd"
	f, err := Over(t.Context(), 3<<30, address, "raw")
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = f.WriteTo(&out)
	require.NoError(t, err)
	require.Less(t, out.Len(), 1<<20)
	over := filepath.Join(t.TempDir(), "over.qcow2")
	require.NoError(t, os.WriteFile(over, out.Bytes(), 0o600))
	told, err := exec.Command("qemu-img", "info", "--output", "json", over).CombinedOutput()
	require.NoError(t, err, string(told))
	var info map[string]any
	require.NoError(t, json.Unmarshal(told, &info))
	require.Equal(t, []any{"qcow2", 3.0 * (1 << 30), address, "raw"}, []any{info["format"], info["virtual-size"], info["backing-filename"], info["backing-filename-format"]})
	says, err := Backing(bytes.NewReader(out.Bytes()))
	require.NoError(t, err)
	require.Equal(t, address, says)
}
