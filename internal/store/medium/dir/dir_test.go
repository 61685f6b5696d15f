package dir

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/probe"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

func open(t *testing.T) *Dir {
	d, err := Open(t.TempDir())
	require.NoError(t, err)
	return d
}

func list(t *testing.T, d *Dir, prefix string) map[string]int64 {
	found := map[string]int64{}
	require.NoError(t, d.List(t.Context(), prefix, func(o medium.Object) error { found[o.Name] = o.Size; return nil }))
	return found
}

func TestConformance(t *testing.T) {
	var root string
	place := func(t *testing.T) medium.Medium {
		root = filepath.Join(t.TempDir(), "north pier #1 & 100% ã")
		require.NoError(t, os.Mkdir(root, 0o700))
		d, err := Open(root)
		require.NoError(t, err)
		return d
	}
	mediumtest.Run(t, mediumtest.Subject{
		Open:  place,
		Plant: func(t *testing.T, names []string) { mediumtest.PlantFiles(t, root, names) },
		Full: func(t *testing.T) medium.Medium {
			d, err := Open(mediumtest.SmallDisk(t))
			require.NoError(t, err)
			return d
		},
	})
}

func TestOpenSaysWhatIsWrong(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	for path, want := range map[string]string{
		"relative":                      "not an absolute path",
		filepath.Join(folder, "absent"): "does not exist; create it, or mount the disk that holds it",
		file:                            "is not a folder",
	} {
		_, err := Open(path)
		require.ErrorContains(t, err, want)
	}
	_, err := os.Stat(filepath.Join(folder, "absent"))
	require.ErrorIs(t, err, os.ErrNotExist, "nothing is made")
}

// What a crashed writer left is removed a day later, and never listed; a fresh part may belong to somebody.
func TestPartsOfACrashedWriter(t *testing.T) {
	d := open(t)
	require.NoError(t, d.Put(t.Context(), "pack/00/whole", []byte("x")))
	for name, age := range map[string]time.Duration{"old": 25 * time.Hour, "young": time.Hour} {
		part := filepath.Join(d.root, "pack", "00", medium.PartPrefix+name)
		require.NoError(t, os.WriteFile(part, []byte("half"), 0o600))
		at := time.Now().Add(-age)
		require.NoError(t, os.Chtimes(part, at, at))
	}
	require.Equal(t, map[string]int64{"pack/00/whole": 1}, list(t, d, "pack/"))
	require.NoError(t, d.Tidy(t.Context()))
	left, err := filepath.Glob(filepath.Join(d.root, "pack", "00", medium.PartPrefix+"*"))
	require.NoError(t, err)
	require.Len(t, left, 1)

	// Where the place's clock is days behind ours, what is being written looks old, and is not.
	for _, path := range append(left, filepath.Join(d.root, "pack", "00", "whole")) {
		at := time.Now().Add(-72 * time.Hour)
		require.NoError(t, os.Chtimes(path, at, at))
	}
	require.NoError(t, d.Tidy(t.Context()))
	require.FileExists(t, left[0])
}

func TestAnEmptyFolder(t *testing.T) {
	d := open(t)
	require.NoError(t, os.Mkdir(filepath.Join(d.root, "lost+found"), 0o700))
	empty, err := d.Empty()
	require.NoError(t, err)
	require.True(t, empty, "a fresh file system")
	require.NoError(t, os.WriteFile(filepath.Join(d.root, "holiday.jpg"), nil, 0o600))
	empty, err = d.Empty()
	require.NoError(t, err)
	require.False(t, empty)
}

// A probe says in words what is wrong, and warns when everyone can read.
func TestProbe(t *testing.T) {
	folder := t.TempDir()
	probe := func(path string) []probe.Step {
		return medium.Probe(t.Context(), false, func(context.Context) (medium.Medium, error) { return Open(path) })
	}
	steps := probe(filepath.Join(folder, "absent"))
	require.Len(t, steps, 1)
	require.EqualValues(t, "failed", steps[0].State)
	require.Contains(t, steps[0].Text, "does not exist")
	open := "/var/tmp/brindle-open-to-all"
	require.NoError(t, os.MkdirAll(open, 0o755))
	defer os.RemoveAll(open)
	require.NoError(t, os.Chmod(open, 0o755))
	warned := false
	for _, s := range probe(open) {
		warned = warned || s.State == "warning" && strings.Contains(s.Text, "can read folder "+open)
	}
	require.True(t, warned)
	full := mediumtest.SmallDisk(t)
	require.NoError(t, os.WriteFile(filepath.Join(full, "ballast"), make([]byte, 40<<10), 0o600))
	steps = probe(full)
	require.EqualValues(t, "failed", steps[len(steps)-1].State)
	require.Contains(t, steps[len(steps)-1].Text, "no space left")
}

// A disk that goes leaves an empty folder behind: nothing is put there, and what was on the disk is not taken for lost.
func TestADiskThatGoesAndComesBack(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "quay")
	image := filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 8<<20))
	out, err := exec.Command("mkfs.ext4", "-q", image).CombinedOutput()
	require.NoError(t, err, string(out))
	mount := func() {
		out, err := exec.Command("mount", "-o", "loop", image, folder).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	mount()
	t.Cleanup(func() { exec.Command("umount", "-l", folder).Run() })
	d, err := Open(folder)
	require.NoError(t, err)
	require.NoError(t, d.Put(t.Context(), "pack/00/one", []byte("one")))

	require.NoError(t, exec.Command("umount", folder).Run(), "it is not kept busy by who does nothing")
	for verb, err := range map[string]error{
		"write": d.Put(t.Context(), "pack/00/two", []byte("two")),
		"read": func() error {
			_, err := d.Get(t.Context(), "pack/00/one", 0, -1)
			return err
		}(),
		"look at": func() error {
			_, err := d.Stat(t.Context(), "pack/00/one")
			return err
		}(),
		"list":   d.List(t.Context(), "pack/", func(medium.Object) error { return nil }),
		"delete": d.Delete(t.Context(), "pack/00/one"),
	} {
		require.ErrorIs(t, err, medium.ErrUnreachable, verb)
		require.ErrorContains(t, err, verb)
		require.ErrorContains(t, err, "mount its disk or share again")
	}
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Empty(t, left)

	mount()
	require.NoError(t, d.Put(t.Context(), "pack/00/two", []byte("two")))
	require.Equal(t, map[string]int64{"pack/00/one": 3, "pack/00/two": 3}, list(t, d, "pack/"))
}
