package pooled

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/files/filestest"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/medium/mediumtest"
)

// writeFiles stores an image of files: what travels, and the image since which it was taken, or nil.
func writeFiles(ctx context.Context, s *Store, wire []byte, base *image.Manifest) (m *image.Manifest, err error) {
	m = &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "gate-07", Taken: moment, Scope: image.SystemState, Program: "test"}
	w, err := s.Begin(ctx, m, store.WriteOptions{Program: "test"})
	if err != nil {
		return m, err
	}
	defer func() { err = errors.Join(err, w.End(ctx, err)) }()
	var older *image.Files
	if base != nil {
		older = base.Files
	}
	f, err := w.Files(ctx, files.NewReader(bytes.NewReader(wire)), older, &store.Progress{})
	if err != nil {
		return m, err
	}
	m.Files = &f
	if err := w.Flush(ctx); err != nil {
		return m, err
	}
	return m, w.Finish(ctx, m)
}

func requireTree(t *testing.T, s *Store, id string, tree filestest.Tree) *image.Manifest {
	t.Helper()
	m, err := s.ReadImage(t.Context(), id)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, s.Archive(t.Context(), m, &out))
	tree.RequireArchive(t, &out)
	list, err := s.ListFiles(t.Context(), m)
	require.NoError(t, err)
	tree.RequireList(t, list)
	said, err := s.ReadBack(t.Context(), m, func(int64) {})
	require.NoError(t, err)
	require.Contains(t, said[len(said)-1], fmt.Sprintf("%d files listed", len(tree)))
	return m
}

// Images of files come back from another opening, each alone, whatever was taken from an older one and whichever went.
func TestFilesComeBack(t *testing.T) {
	for kind, sealed := range secrets {
		t.Run(kind, func(t *testing.T) {
			rng := rand.New(rand.NewPCG(16, 1))
			memory := &mediumtest.Memory{Shelf: mediumtest.NewShelf()}
			var keys []store.NewKey
			if sealed != nil {
				keys = append(keys, store.NewKey{Label: "safe", Passphrase: passphrase})
			}
			s, err := Make(t.Context(), memory, moment, cut.Default(7), sealed, keys...)
			require.NoError(t, err)
			trees := []filestest.Tree{filestest.Random(rng, 150)}
			first, err := writeFiles(t.Context(), s, trees[0].Wire(nil), nil)
			require.NoError(t, err)
			images := []*image.Manifest{first}
			for round := range 6 {
				older := trees[round]
				next := older.Change(rng, []int{0, 3, 30, 150}[round%4])
				if round == 4 {
					next = filestest.Tree{}
				}
				m, err := writeFiles(t.Context(), s, next.Wire(older), images[round])
				require.NoError(t, err)
				trees, images = append(trees, next), append(images, m)
			}
			require.Equal(t, images[0].Files.Content, images[1].Files.Content, "nothing had changed")
			require.Equal(t, images[0].Files.List, images[1].Files.List)
			for i, m := range images {
				requireTree(t, reopen(t, memory, sealed), m.ID, trees[i])
			}
			require.NoError(t, s.DropImage(t.Context(), images[0].ID))
			require.NoError(t, s.DropImage(t.Context(), images[2].ID))
			_, err = s.Sweep(t.Context(), store.SweepRequest{})
			require.NoError(t, err)
			requireClean(t, s)
			for i, m := range images {
				if i != 0 && i != 2 {
					requireTree(t, reopen(t, memory, sealed), m.ID, trees[i])
				}
			}
		})
	}
}

// What moved, was renamed, grew or has other rights costs little: a file is found wherever it lies.
func TestWhatMovedCostsLittle(t *testing.T) {
	rng := rand.New(rand.NewPCG(16, 2))
	memory := &mediumtest.Memory{Shelf: mediumtest.NewShelf()}
	s, err := Make(t.Context(), memory, moment, cut.Default(7), nil)
	require.NoError(t, err)
	before, after := filestest.Tree{}, filestest.Tree{}
	for i := range 200 {
		content := make([]byte, 1+rng.IntN(100_000))
		for k := range content {
			content[k] = byte(rng.Uint32() >> 3)
		}
		before.Add(fmt.Sprintf("srv/old/%03d", i), content)
		after.Add(fmt.Sprintf("srv/new/%03d", rng.IntN(1e9)), append([]byte("a line at its begin\n"), content...))
	}
	_, err = writeFiles(t.Context(), s, before.Wire(nil), nil)
	require.NoError(t, err)
	whole, err := s.Footprint(t.Context())
	require.NoError(t, err)
	m, err := writeFiles(t.Context(), s, after.Wire(nil), nil)
	require.NoError(t, err)
	both, err := s.Footprint(t.Context())
	require.NoError(t, err)
	requireTree(t, s, m.ID, after)
	require.Less(t, float64(both-whole), 0.85*float64(whole), "most of these files are one or two pieces")
	moved := filestest.Tree{}
	for i, p := range before.Paths() {
		moved.Add(fmt.Sprintf("srv/moved/%03d", 999-i), before[p].Content)
	}
	m, err = writeFiles(t.Context(), s, moved.Wire(nil), nil)
	require.NoError(t, err)
	all, err := s.Footprint(t.Context())
	require.NoError(t, err)
	requireTree(t, s, m.ID, moved)
	require.Less(t, float64(all-both), 0.01*float64(whole))
}

// A server that means another image, or says what can't be, is refused; a stream that is cut makes no image.
func TestFilesOfAnotherImage(t *testing.T) {
	rng := rand.New(rand.NewPCG(16, 3))
	s, _ := newStore(t, nil)
	tree := filestest.Random(rng, 40)
	base, err := writeFiles(t.Context(), s, tree.Wire(nil), nil)
	require.NoError(t, err)
	shorter, longer, other := filestest.Tree{}, filestest.Tree{}, filestest.Tree{}
	for i, p := range tree.Paths() {
		longer[p] = tree[p]
		if i > 0 {
			shorter[p], other[p] = tree[p], tree[p]
		}
	}
	longer.Add("zz", nil)
	other.Add("zz", nil)
	for what, meant := range map[string]filestest.Tree{"shorter": shorter, "longer": longer, "of other names": other} {
		_, err := writeFiles(t.Context(), s, tree.Wire(meant), base)
		require.ErrorIs(t, err, store.ErrOtherFiles, what)
	}
	_, err = writeFiles(t.Context(), s, tree.Wire(tree), nil)
	require.ErrorContains(t, err, "no older image")
	wire := tree.Wire(nil)
	_, err = writeFiles(t.Context(), s, wire[:len(wire)/2], nil)
	require.ErrorIs(t, err, files.ErrCut)
	ids, err := s.ImageIDs(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{base.ID}, ids)
	requireTree(t, s, base.ID, tree)
}

// Damage to files, to their list and to what joins them is found, and names the image.
func TestDamagedFiles(t *testing.T) {
	rng := rand.New(rand.NewPCG(16, 4))
	s, memory := newStore(t, nil)
	tree := filestest.Random(rng, 60)
	m, err := writeFiles(t.Context(), s, tree.Wire(nil), nil)
	require.NoError(t, err)
	requireClean(t, s)
	damage(memory)
	r, err := reopen(t, memory, nil).Check(t.Context(), true, nil)
	require.NoError(t, err)
	require.Equal(t, []string{m.ID}, r.Broken)
	require.True(t, strings.Contains(fmt.Sprint(r.Problems), "files"), "%v", r.Problems)

	lying := *m
	lying.Files = new(image.Files)
	*lying.Files = *m.Files
	lying.Files.Content = m.Files.List
	_, err = s.ReadBack(t.Context(), &lying, func(int64) {})
	require.ErrorIs(t, err, chunk.ErrDamaged)
}

// sampleOfFiles is a store with an image of files, as the first program wrote it that knew any.
const sampleOfFiles = "testdata/format3/files"

func sampleTree() filestest.Tree {
	tree := filestest.Tree{}
	tree.Add("etc/turnstile/gate.conf", []byte("berth = 4\n"))
	tree.Add("etc/odd\xff name", bytes.Repeat([]byte("passage "), 9000))
	return tree
}

// Images of files that the first program wrote are read by this one, and by the reader that was written from docs/store-format.md.
func TestOldFilesStayReadable(t *testing.T) {
	tree := sampleTree()
	if *update {
		require.NoError(t, os.RemoveAll(sampleOfFiles))
		require.NoError(t, os.MkdirAll(sampleOfFiles, 0o755))
		folder, err := filepath.Abs(sampleOfFiles)
		require.NoError(t, err)
		m, err := dir.Open(folder)
		require.NoError(t, err)
		s, err := Make(t.Context(), m, moment, cut.Default(3), nil)
		require.NoError(t, err)
		_, err = writeFiles(t.Context(), s, tree.Wire(nil), nil)
		require.NoError(t, err)
		require.NoError(t, os.Remove(filepath.Join(sampleOfFiles, "reserve")))
	}
	work := t.TempDir()
	require.NoError(t, os.CopyFS(work, os.DirFS(sampleOfFiles)))
	m, err := dir.Open(work)
	require.NoError(t, err)
	s, err := Open(t.Context(), m, nil)
	require.NoError(t, err)
	ids, err := s.ImageIDs(t.Context())
	require.NoError(t, err)
	require.Len(t, ids, 1)
	requireTree(t, s, ids[0], tree)
	requireClean(t, s)
	again, err := writeFiles(t.Context(), s, tree.Wire(tree), requireTree(t, s, ids[0], tree))
	require.NoError(t, err)
	requireTree(t, s, again.ID, tree)

	for what, want := range map[string]string{"list": "gate.conf type=file", "content": "passage passage"} {
		out := filepath.Join(t.TempDir(), what)
		said, err := exec.Command("/usr/bin/python3", "../../../docs/store-reader.py", sampleOfFiles, ids[0], what, out).CombinedOutput()
		require.NoError(t, err, "%s", said)
		got, err := os.ReadFile(out)
		require.NoError(t, err)
		require.Contains(t, string(got), want)
	}
}
