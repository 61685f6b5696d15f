package pooled

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/mediumtest"
)

// counted is a medium that counts how many objects of a kind were read.
func counted(shelf *mediumtest.Shelf, reads map[string]int) *mediumtest.Memory {
	var mu sync.Mutex
	return &mediumtest.Memory{Shelf: shelf, Around: func(what, name string, act func() error) error {
		if kind, _, _ := strings.Cut(name, "/"); what == "get" {
			mu.Lock()
			reads[kind]++
			mu.Unlock()
		}
		return act()
	}}
}

// keepLocally has every index kept on this host, however small, for the length of a test.
func keepLocally(t *testing.T) {
	was := localFrom
	localFrom = -1
	t.Cleanup(func() { localFrom = was })
}

func putImage(t *testing.T, s *Store, d disk.Memory) *image.Manifest {
	t.Helper()
	man := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable", Taken: moment}
	v, err := s.VisitToWrite(t.Context(), man.ID, "test")
	require.NoError(t, err)
	require.NoError(t, fillImage(t.Context(), s, v, man, d, nil, nil))
	return man
}

// What was known when a store was closed is known when it is opened again, without reading the store's indexes; what others wrote and swept
// meanwhile is learned. A process that dies leaves nothing that would be believed.
func TestTheIndexOnThisHost(t *testing.T) {
	keepLocally(t)
	rng := rand.New(rand.NewPCG(24, 1))
	_, m := newStore(t, nil)
	folder := filepath.Join(t.TempDir(), "index")
	reads := map[string]int{}
	open := func() *Store {
		t.Helper()
		clear(reads)
		s, err := OpenKeeping(t.Context(), counted(m.Shelf, reads), nil, Here{Folder: folder})
		require.NoError(t, err)
		s.packTarget = shortPack
		require.NoError(t, s.IndexTrouble())
		return s
	}
	a, b := randomDisk(rng, 300<<10), randomDisk(rng, 200<<10)
	other := reopen(t, m, nil)
	first := putImage(t, other, a)
	s := open()
	require.Positive(t, reads["index"])
	require.NotNil(t, s.local)
	putImage(t, s, a) // all of it is known
	second := putImage(t, s, b)
	pieces := s.table.len()
	require.NoError(t, s.Close())

	s = open()
	require.Zero(t, reads["index"], "nothing is read that was known")
	require.Zero(t, reads["pack"])
	require.Equal(t, pieces, s.table.len())
	requireSame(t, s, first.ID, a)
	requireSame(t, s, second.ID, b)
	requireClean(t, s)
	require.NoError(t, s.Close())

	// Meanwhile another lodge drops an image, sweeps, and writes one.
	require.NoError(t, other.Refresh(t.Context()))
	require.NoError(t, other.DropImage(t.Context(), second.ID))
	for range 2 {
		_, err := other.Sweep(t.Context(), store.SweepRequest{})
		require.NoError(t, err)
	}
	c := randomDisk(rng, 100<<10)
	third := putImage(t, other, c)
	s = open()
	require.Less(t, s.table.len(), pieces+len(c)/small+100)
	requireSame(t, s, first.ID, a)
	requireSame(t, s, third.ID, c)
	requireClean(t, s)
	again := putImage(t, s, b) // its pieces are gone, and so they are stored anew
	requireSame(t, reopen(t, m, nil), again.ID, b)

	// While it is open nobody else has it: memory does for them.
	with, err := OpenKeeping(t.Context(), m, nil, Here{Folder: folder})
	require.NoError(t, err)
	require.Nil(t, with.local)
	require.ErrorContains(t, with.IndexTrouble(), "another process has it")
	requireSame(t, with, first.ID, a)
	require.NoError(t, with.Close())

	// Its process dies.
	s.table.forget()
	require.NoError(t, s.local.lock.Close())
	s = open()
	require.Positive(t, reads["index"], "it is made anew")
	requireSame(t, s, again.ID, b)
	requireClean(t, s)
	require.NoError(t, s.Close())
}

func aShard(t *testing.T, folder string) string {
	files, err := filepath.Glob(filepath.Join(folder, "shard-*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	return files[len(files)/2]
}

// An index that is not whole, not of this store, or can't be written is no reason not to open a store.
func TestAnIndexThatCantBeUsed(t *testing.T) {
	keepLocally(t)
	rng := rand.New(rand.NewPCG(24, 2))
	_, m := newStore(t, nil)
	d := randomDisk(rng, 200<<10)
	man := putImage(t, reopen(t, m, nil), d)
	_, stranger := newStore(t, nil)
	putImage(t, reopen(t, stranger, nil), d)
	for name, harm := range map[string]func(folder string) error{
		"nothing": func(string) error { return nil },
		"a flipped byte": func(folder string) error {
			body, err := os.ReadFile(filepath.Join(folder, "catalogue"))
			if err == nil {
				body[len(body)/2] ^= 1
				err = os.WriteFile(filepath.Join(folder, "catalogue"), body, 0o600)
			}
			return err
		},
		"an empty catalogue": func(folder string) error { return os.Truncate(filepath.Join(folder, "catalogue"), 0) },
		"a shard cut off":    func(folder string) error { return os.Truncate(aShard(t, folder), slotBytes) },
		"a shard that is lost": func(folder string) error {
			return os.Remove(aShard(t, folder))
		},
		"another store's": func(folder string) error {
			if err := os.RemoveAll(folder); err != nil {
				return err
			}
			s, err := OpenKeeping(t.Context(), stranger, nil, Here{Folder: folder})
			if err != nil {
				return err
			}
			return s.Close()
		},
		"a shard that can't be written": func(folder string) error {
			if err := os.Remove(filepath.Join(folder, "catalogue")); err != nil {
				return err
			}
			return os.MkdirAll(filepath.Join(folder, "shard-03.new", "in the way"), 0o700)
		},
	} {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			for round := range 2 {
				s, err := OpenKeeping(t.Context(), m, nil, Here{Folder: folder})
				require.NoError(t, err)
				requireSame(t, s, man.ID, d)
				requireClean(t, s)
				require.NoError(t, s.Close())
				if round == 0 {
					require.NoError(t, harm(folder))
				}
			}
		})
	}
	file := filepath.Join(t.TempDir(), "in the way")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	s, err := OpenKeeping(t.Context(), m, nil, Here{Folder: filepath.Join(file, "index")})
	require.NoError(t, err)
	require.ErrorContains(t, s.IndexTrouble(), "not a directory")
	requireSame(t, s, man.ID, d)
}
