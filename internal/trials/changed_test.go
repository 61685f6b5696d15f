package trials

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
)

// What a machine boots from is told to have changed; what its files and its own clock do is not.
func TestWhatBootsChanged(t *testing.T) {
	file := filepath.Join(t.TempDir(), "disk")
	cmd := exec.Command("sh", "-ec", `truncate -s 80M "$1"; printf 'label: gpt\nstart=2048, size=81920, type=uefi\nstart=83968\n' | sfdisk -q "$1"; mkfs.vfat -F 32 --offset 2048 "$1" 40960 >/dev/null; mkfs.ext4 -qF -E offset=42991616 "$1" 30M`, "sh", file)
	cmd.Env = append(os.Environ(), "PATH=/usr/sbin:/sbin:"+os.Getenv("PATH"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	was, err := os.ReadFile(file)
	require.NoError(t, err)
	for at, want := range map[int64]string{-1: "", 100: "its boot loader or its partitions", 900 << 10: "its boot loader or its partitions",
		1<<20 + 30<<20: "partition 1, from which its firmware boots", 60 << 20: ""} {
		is := append([]byte(nil), was...)
		if at >= 0 {
			is[at] ^= 0xff
		}
		what, err := BootChanged(t.Context(), disk.Memory(was), disk.Memory(is))
		require.NoError(t, err)
		require.Equal(t, want, what, "at %d", at)
	}
	what, err := BootChanged(t.Context(), disk.Memory(was[:20<<20]), disk.Memory(was))
	require.NoError(t, err)
	require.Equal(t, "its partitions", what)
	what, err = BootChanged(t.Context(), make(disk.Memory, 1<<20), disk.Memory(was[41<<20:]))
	require.NoError(t, err)
	require.Empty(t, what, "a disk without partitions has files only")

	one, two := &image.Manifest{System: "Brindle 1, kernel 6.1.0-26"}, &image.Manifest{System: "Brindle 1, kernel 6.1.0-27", Definition: "<domain/>"}
	require.Equal(t, "its system: Brindle 1, kernel 6.1.0-27", Changed(one, two))
	require.Empty(t, Changed(&image.Manifest{}, two), "what was not told did not change")
	require.Equal(t, "its kernel: 6.1.0-27", Changed(&image.Manifest{Definition: `{"system": "Brindle 1", "kernel": "6.1.0-26"}`}, &image.Manifest{Definition: `{"system": "Brindle 1", "kernel": "6.1.0-27"}`}))
	require.Equal(t, "its definition", Changed(&image.Manifest{Definition: `<domain><os><type machine="q35"/></os></domain>`}, &image.Manifest{Definition: `<domain><os><type machine="i440fx"/></os></domain>`}))
}
