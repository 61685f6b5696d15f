package mount

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

	"keenlodge/internal/core/ledger"
)

// A mounted file system is listed and its files are read; its ledger is checked, and a torn one is an error.
func TestReadFiles(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "srv/bookings"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "srv/bookings/today"), make([]byte, 3<<20), 0o600))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(folder, "srv/out")))
	c, err := ReadFiles(t.Context(), folder)
	require.NoError(t, err)
	require.Equal(t, Count{Folders: 3, Entries: 2, Read: 1, Bytes: 3 << 20}, c)

	sum := sha256.Sum256([]byte("- 1 1770000000"))
	line := fmt.Sprintf("1 1770000000 %s\n", hex.EncodeToString(sum[:]))
	require.NoError(t, os.WriteFile(filepath.Join(folder, ledger.FileName), []byte(line+"2 17"), 0o600))
	_, err = ReadFiles(t.Context(), folder)
	require.ErrorContains(t, err, ledger.FileName+": ledger line ")
	require.NoError(t, os.WriteFile(filepath.Join(folder, ledger.FileName), []byte(line), 0o600))
	c, err = ReadFiles(t.Context(), folder)
	require.NoError(t, err)
	require.Contains(t, c.Ledger, "ledger clean, 1 lines")
	ending, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = ReadFiles(ending, folder)
	require.ErrorIs(t, err, context.Canceled)
	_, err = ReadFiles(t.Context(), filepath.Join(folder, "nowhere"))
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
