package proof

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/ledger"
	"keenlodge/internal/mount"
)

// Every provable level can be carried out, and no other.
func TestLevels(t *testing.T) {
	var known []image.Level
	for _, l := range image.Provable {
		require.Contains(t, levels, l)
		known = append(known, l)
	}
	require.Len(t, levels, len(known))
	require.NoError(t, levels[image.ByRead].ready())
}

// A mounted file system is listed and its files are read; its ledger is checked, and a torn one is a verdict.
func TestReadFiles(t *testing.T) {
	folder := t.TempDir()
	f := mount.FileSystem{Disk: "vda", Part: disk.Part{Number: 2, Format: "ext4"}, Folder: folder}
	read := func() ([]string, error) { return readFiles(t.Context(), f) }
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "srv/bookings"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "srv/bookings/today"), make([]byte, 3<<20), 0o600))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(folder, "srv/out")))
	told, err := read()
	require.NoError(t, err)
	require.Equal(t, []string{"vda2: ext4 mounted, 3 folders and 2 entries listed, 1 files read whole (3.0 MiB)"}, told)

	sum := sha256.Sum256([]byte("- 1 1770000000"))
	line := fmt.Sprintf("1 1770000000 %s\n", hex.EncodeToString(sum[:]))
	require.NoError(t, os.WriteFile(filepath.Join(folder, ledger.FileName), []byte(line+"2 17"), 0o600))
	_, err = read()
	require.ErrorContains(t, err, ledger.FileName+": ledger line ")
	require.NoError(t, os.WriteFile(filepath.Join(folder, ledger.FileName), nil, 0o600))
	told, err = read()
	require.NoError(t, err)
	require.Len(t, told, 2)
	require.Contains(t, told[1], "vda2: ")
	ending, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = readFiles(ending, f)
	require.ErrorIs(t, err, context.Canceled)
	f.Folder = filepath.Join(folder, "nowhere")
	_, err = read()
	require.Error(t, err)
}

// What a guest has written can neither hold a proof up nor fill it: a pipe where a file is looked for, a file that says it is larger than any
// disk, and one that is read when the run has ended.
func TestFilesThatNeverEnd(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, syscall.Mkfifo(filepath.Join(folder, "ledger"), 0o600))
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(folder, "link")))
	endless, err := os.Create(filepath.Join(folder, "endless"))
	require.NoError(t, err)
	require.NoError(t, endless.Truncate(1<<43))
	require.NoError(t, endless.Close())
	root, err := os.OpenRoot(folder)
	require.NoError(t, err)
	defer root.Close()
	for _, name := range []string{"ledger", "link", "."} {
		_, err = openRegular(root, name)
		require.ErrorContains(t, err, "is no regular file", name)
	}
	n, err := readFile(t.Context(), root, "endless", make([]byte, 64<<10), 1<<20)
	require.NoError(t, err)
	require.EqualValues(t, 1<<20, n)
	ended, end := context.WithCancelCause(t.Context())
	end(errors.New("the service was stopped"))
	_, err = readFile(ended, root, "endless", make([]byte, 64<<10), 1<<40)
	require.ErrorContains(t, err, "the service was stopped")
}
