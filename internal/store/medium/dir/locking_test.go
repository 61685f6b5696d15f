package dir

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// Files that are locked stand against deleting, overwriting and renaming, and go when their time is over.
func TestLocking(t *testing.T) {
	if testing.Short() && os.Geteuid() != 0 {
		t.Skip("making files immutable takes root")
	}
	root := ""
	place := func(t *testing.T) medium.Medium {
		root = t.TempDir()
		m, err := Reach(root)
		require.NoError(t, err)
		require.IsType(t, Locking{}, m, "the file system of %s knows the attribute", root)
		return m
	}
	mediumtest.Run(t, mediumtest.Subject{Open: place, Costly: true, Plant: func(t *testing.T, names []string) { mediumtest.PlantFiles(t, root, names) }})

	ctx, h := t.Context(), place(t).(Locking)
	path := filepath.Join(root, "pack/ab/abcd")
	until := time.Now().Add(3 * time.Second)
	require.NoError(t, h.PutUntil(ctx, "pack/ab/abcd", []byte("image"), until))
	require.ErrorIs(t, h.Delete(ctx, "pack/ab/abcd"), medium.ErrLocked)
	require.ErrorIs(t, h.Put(ctx, "pack/ab/abcd", []byte("rubbish")), medium.ErrLocked)
	require.Error(t, os.Remove(path))
	require.Error(t, os.WriteFile(path, []byte("rubbish"), 0o600))
	require.Error(t, os.Rename(path, path+"-gone"))
	require.ErrorIs(t, h.Extend(ctx, "pack/ab/none", until), medium.ErrNotFound)

	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, set(f, false), "an administrator can, and it is told")
	names, err := h.MendHidden(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"pack/ab/abcd"}, names)
	require.Error(t, os.Remove(path))
	names, err = h.MendHidden(ctx)
	require.NoError(t, err)
	require.Empty(t, names)

	require.Eventually(t, func() bool { return h.Delete(ctx, "pack/ab/abcd") == nil }, 20*time.Second, 200*time.Millisecond)
	require.Greater(t, time.Now(), until)
	require.NoFileExists(t, path)
}
