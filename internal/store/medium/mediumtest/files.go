package mediumtest

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// PlantFiles makes empty files below a folder.
func PlantFiles(t *testing.T, root string, names []string) {
	made := map[string]bool{}
	for _, name := range names {
		path := filepath.Join(root, name)
		if folder := filepath.Dir(path); !made[folder] {
			require.NoError(t, os.MkdirAll(folder, 0o700))
			made[folder] = true
		}
		f, err := os.Create(path)
		require.NoError(t, err)
		f.Close()
	}
}

// SmallDisk mounts a file system of 64 KiB, for which it takes root; where time is short the test is left out without.
func SmallDisk(t *testing.T) string {
	if testing.Short() && os.Geteuid() != 0 {
		t.Skip("mounting takes root")
	}
	folder := t.TempDir()
	require.NoError(t, syscall.Mount("none", folder, "tmpfs", 0, "size=64k,mode=0700"))
	t.Cleanup(func() { syscall.Unmount(folder, syscall.MNT_DETACH) })
	return folder
}
