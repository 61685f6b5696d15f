package open

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/files"
	"keenlodge/internal/core/files/filestest"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
)

// Files of a server lie in an open store as an archive and a list that others read: tar and zstd bring all of it back, b2sum and bsdtar find nothing
// wrong, and damage is found.
func TestFilesThatOthersRead(t *testing.T) {
	rng := rand.New(rand.NewPCG(16, 5))
	s, _, _ := newStore(t, 0, false)
	tree := filestest.Random(rng, 80)
	m := manifest(1)
	m.Definition, m.Disks, m.Scope = `{"host": "gate-07"}`, nil, image.SystemState
	w, err := s.Begin(t.Context(), m, store.WriteOptions{Program: "test"})
	require.NoError(t, err)
	count := &store.Progress{}
	f, err := w.Files(t.Context(), files.NewReader(bytes.NewReader(tree.Wire(nil))), nil, count)
	require.NoError(t, err)
	m.Files = &f
	require.NoError(t, w.Finish(t.Context(), m))
	require.NoError(t, w.End(t.Context(), nil))

	m, err = s.ReadImage(t.Context(), m.ID)
	require.NoError(t, err)
	var archive bytes.Buffer
	require.NoError(t, s.Archive(t.Context(), m, &archive))
	tree.RequireArchive(t, &archive)
	list, err := s.ListFiles(t.Context(), m)
	require.NoError(t, err)
	tree.RequireList(t, list)
	list.Close()
	said, err := s.ReadBack(t.Context(), m, func(int64) {})
	require.NoError(t, err)
	require.Len(t, said, 2)

	folder, into := s.folder(m.Machine), t.TempDir()
	run := func(command string) string {
		out, err := exec.Command("sh", "-c", command).CombinedOutput()
		require.NoError(t, err, "%s: %s", command, out)
		return string(out)
	}
	run("cd " + folder + " && b2sum -c *.b2 && tar --zstd --xattrs -xpf " + f.Archive.Name + " -C " + into)
	require.FileExists(t, filepath.Join(folder, stem(m)+"-server.json"))
	names := run("cd " + folder + " && LC_ALL=C bsdtar -tf " + f.ListFile.Name)
	require.Equal(t, len(tree), strings.Count(names, "\n"), names)
	for _, p := range tree.Paths() {
		if v := tree[p]; v.Kind == files.File && v.Data == nil {
			content, err := os.ReadFile(filepath.Join(into, p))
			require.NoError(t, err)
			require.True(t, bytes.Equal(v.Content, content))
		}
	}

	_, err = w.Files(t.Context(), files.NewReader(bytes.NewReader(tree.Wire(tree))), nil, count)
	require.Error(t, err, "an archive leans on nothing")
	for _, name := range []string{f.Archive.Name, f.ListFile.Name} {
		path := filepath.Join(folder, name)
		whole, err := os.ReadFile(path)
		require.NoError(t, err)
		for range 60 { // wherever it is damaged, what is read is right or an error
			damaged := bytes.Clone(whole)
			switch at := rng.IntN(len(whole)); rng.IntN(3) {
			case 0:
				damaged[at] ^= 1 << rng.IntN(8)
			case 1:
				damaged = damaged[:at]
			default:
				copy(damaged[at:], "the tide was here")
			}
			if bytes.Equal(damaged, whole) {
				continue
			}
			require.NoError(t, os.WriteFile(path, damaged, 0o600))
			all := 0
			err := s.ReadEntries(t.Context(), m, func(string) bool { return true }, func(e *files.Entry, stored io.Reader) error {
				body, err := io.ReadAll(stored)
				if err == nil && e.Data == nil && name == f.Archive.Name {
					require.True(t, bytes.Equal(tree[e.Path].Content, body), "%s", e.Path)
				}
				all++
				return err
			})
			require.Error(t, err, "%d entries", all)
		}
		for _, becomes := range [][]byte{whole[:len(whole)-1], append(bytes.Clone(whole[:40]), bytes.Repeat([]byte{1}, len(whole)-40)...)} {
			require.NoError(t, os.WriteFile(path, becomes, 0o600))
			r, err := s.Check(t.Context(), true, func(int64) {})
			require.NoError(t, err)
			require.Equal(t, []string{m.ID}, r.Broken)
			_, err = s.ReadBack(t.Context(), m, func(int64) {})
			require.ErrorIs(t, err, errDamaged)
		}
		require.NoError(t, os.WriteFile(path, whole, 0o600))
	}
	require.NoError(t, s.DropImage(t.Context(), m.ID))
	left, err := filepath.Glob(filepath.Join(folder, "2*"))
	require.NoError(t, err)
	require.Empty(t, left)
}
