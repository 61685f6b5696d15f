package open

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/dir"
)

// changed is a disk in memory of which only some ranges changed since an older image.
type changed struct {
	disk.Memory
	from, to int64
}

func (c changed) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	end := offset + length
	for _, e := range []disk.Extent{{Offset: 0, Length: c.from, Kind: disk.Unchanged}, {Offset: c.from, Length: c.to - c.from}, {Offset: c.to, Length: c.Size() - c.to, Kind: disk.Unchanged}} {
		if offset < e.End() {
			return []disk.Extent{{Offset: offset, Length: min(end, e.End()) - offset, Kind: e.Kind}}, nil
		}
	}
	return nil, io.EOF
}

func open(t *testing.T, root string) *Store {
	t.Helper()
	d, err := dir.Open(root)
	require.NoError(t, err)
	s, err := Open(t.Context(), d)
	require.NoError(t, err)
	return s
}

// newStore makes a store with a chain: a full image and increments after it. It returns their names and contents.
func newStore(t *testing.T, images int, small bool) (s *Store, ids []string, contents [][]byte) {
	t.Helper()
	d, err := dir.Open(t.TempDir())
	require.NoError(t, err)
	s, err = Make(t.Context(), d, time.Now())
	require.NoError(t, err)
	rng := rand.New(rand.NewPCG(1, 2))
	body := make([]byte, 6<<20)
	var base *image.Manifest
	for i := range images {
		from := int64(i) << 18
		for j := from; j < from+1<<19; j++ {
			body[j] = byte(rng.IntN(20))
		}
		var source disk.Disk = disk.Memory(append([]byte{}, body...))
		m := manifest(i)
		var older *image.Disk
		if base != nil {
			source = changed{source.(disk.Memory), from, from + 1<<19}
			m.Capture, m.Base, m.Since, older = "incremental", base.ID, base.ID, &base.Disks[0]
		}
		write(t, s, m, source, older, small)
		base = m
		ids, contents = append(ids, m.ID), append(contents, append([]byte{}, body...))
	}
	return s, ids, contents
}

func manifest(i int) *image.Manifest {
	return &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "tickets-db", Policy: "hourly-tickets", Scope: "machine", Capture: "full",
		Taken: time.Date(2026, 2, 1+i, 23, 0, 0, 0, time.UTC), Definition: "<domain/>", Consistency: image.Crash,
		Firmware: []image.Firmware{image.NewFirmware(image.UEFIVariables, []byte("Boot0001"))}}
}

func write(t *testing.T, s *Store, m *image.Manifest, d disk.Disk, older *image.Disk, small bool) {
	t.Helper()
	w, err := s.NewWriter(m)
	require.NoError(t, err)
	out, err := w.Disk(t.Context(), "vda", d, older, small)
	require.NoError(t, err)
	m.Disks = []image.Disk{out}
	_, err = s.ReadImage(t.Context(), m.ID)
	require.ErrorIs(t, err, medium.ErrNotFound, "an image exists once its manifest does")
	require.NoError(t, w.Finish(t.Context(), m))
	require.NoError(t, w.End(t.Context()))
}

// requireSame makes sure that an image is whole and holds what it should, for us and for QEMU.
func requireSame(t *testing.T, s *Store, id string, content []byte) *image.Manifest {
	t.Helper()
	m, err := s.ReadImage(t.Context(), id)
	require.NoError(t, err)
	_, err = s.ReadBack(t.Context(), m, func(int64) {})
	require.NoError(t, err)
	d, err := s.OpenDisk(t.Context(), m, m.Disks[0])
	require.NoError(t, err)
	defer d.Close()
	at, err := disk.FirstDifference(t.Context(), d, disk.Memory(content))
	require.NoError(t, err)
	require.EqualValues(t, -1, at)
	return m
}

// What lies in the folders is for anyone: digests match, QEMU finds nothing wrong and reads the same.
func TestAnyoneCanReadIt(t *testing.T) {
	for _, small := range []bool{false, true} {
		s, ids, contents := newStore(t, 3, small)
		folder := s.folder("tickets-db")
		files, err := filepath.Glob(filepath.Join(folder, "*"+variablesEnd))
		require.NoError(t, err)
		require.Len(t, files, 3)
		variables, err := os.ReadFile(files[0])
		require.NoError(t, err)
		require.Equal(t, "Boot0001", string(variables), "as QEMU's flash memory has it")
		sums, err := filepath.Glob(filepath.Join(folder, "*"+sumsEnd))
		require.NoError(t, err)
		require.Len(t, sums, 3)
		cmd := exec.Command("b2sum", append([]string{"--strict", "-c"}, sums...)...)
		cmd.Dir = folder
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		for i, id := range ids {
			m := requireSame(t, s, id, contents[i])
			file := filepath.Join(folder, m.Disks[0].File)
			out, err := exec.Command("qemu-img", "check", file).CombinedOutput()
			require.NoError(t, err, "%s", out)
			raw := filepath.Join(t.TempDir(), "raw")
			require.NoError(t, os.WriteFile(raw, contents[i], 0o600))
			out, err = exec.Command("qemu-img", "compare", "-f", "raw", "-F", "qcow2", raw, file).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
		text, err := os.ReadFile(filepath.Join(folder, readMe))
		require.NoError(t, err)
		require.Contains(t, string(text), "qemu-img convert")
		report, err := s.Check(t.Context(), true, func(int64) {})
		require.NoError(t, err)
		require.Empty(t, report.Problems)
		require.Equal(t, 3, report.Images)
	}
}

// Nothing goes on which another leans; and folded, it may.
func TestAChainIsCutOnlyByFolding(t *testing.T) {
	s, ids, contents := newStore(t, 3, false)
	require.ErrorContains(t, s.DropImage(t.Context(), ids[0]), "image "+ids[1]+" of tickets-db leans on it")
	_, err := s.Fold(t.Context(), ids[2], false, func(int64) {})
	require.ErrorContains(t, err, "fold that one first")
	_, err = s.Fold(t.Context(), ids[0], false, func(int64) {})
	require.ErrorContains(t, err, "leans on nothing")
	m, err := s.Fold(t.Context(), ids[1], true, func(int64) {})
	require.NoError(t, err)
	require.EqualValues(t, "full", m.Capture)
	require.NoError(t, s.DropImage(t.Context(), ids[0]))
	requireSame(t, s, ids[1], contents[1])
	requireSame(t, s, ids[2], contents[2])
	require.NoError(t, s.DropImage(t.Context(), ids[2]))
	require.NoError(t, s.DropImage(t.Context(), ids[1]))
	left, err := os.ReadDir(s.folder("tickets-db"))
	require.NoError(t, err)
	require.Len(t, left, 1, "only the README stays")
}

// helper is what a process of its own does until it is killed: fold, or write an image.
func TestMain(m *testing.M) {
	if root := os.Getenv("OPENLAYOUT_ROOT"); root != "" {
		d, err := dir.Open(root)
		if err == nil {
			var s *Store
			if s, err = Open(context.Background(), d); err == nil {
				_, err = s.Fold(context.Background(), os.Getenv("OPENLAYOUT_FOLD"), false, func(int64) {})
			}
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// A process that folds is killed at any moment: both images are whole at once, and after somebody has tidied up the store is
// either as it was or folded, with nothing left behind.
func TestAFoldIsKilledAnywhere(t *testing.T) {
	origin, ids, contents := newStore(t, 2, false)
	rounds := 40
	if testing.Short() {
		rounds = 10
	}
	folded, longest := 0, time.Duration(0)
	for round := range rounds {
		root := filepath.Join(t.TempDir(), "store")
		require.NoError(t, os.CopyFS(root, os.DirFS(origin.dir.Root())))
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), "OPENLAYOUT_ROOT="+root, "OPENLAYOUT_FOLD="+ids[1])
		var told strings.Builder
		cmd.Stderr = &told
		require.NoError(t, cmd.Start())
		begun := time.Now()
		if round >= 3 { // the first three tell how long it takes
			time.AfterFunc(rand.N(longest*5/4), func() { cmd.Process.Kill() })
		}
		cmd.Wait()
		if round < 3 {
			require.Empty(t, told.String())
			longest = max(longest, time.Since(begun))
		}
		s := open(t, root)
		for i, id := range ids { // the disk can be had at every moment, though digests are only right after tidying
			m, err := s.ReadImage(t.Context(), id)
			require.NoError(t, err)
			d, err := s.OpenDisk(t.Context(), m, m.Disks[0])
			require.NoError(t, err)
			at, err := disk.FirstDifference(t.Context(), d, disk.Memory(contents[i]))
			require.NoError(t, err)
			require.EqualValues(t, -1, at)
			d.Close()
		}
		require.NoError(t, s.Tidy(t.Context()))
		requireSame(t, s, ids[0], contents[0])
		m := requireSame(t, s, ids[1], contents[1])
		left, err := os.ReadDir(s.folder("tickets-db"))
		require.NoError(t, err)
		require.Len(t, left, 1+2*5, "round %d: a README and five files an image: %v", round, left)
		if m.Base == "" {
			folded++
			require.NoError(t, s.DropImage(t.Context(), ids[0]))
			requireSame(t, s, ids[1], contents[1])
		}
	}
	require.GreaterOrEqual(t, folded, 3)
	require.Less(t, folded, rounds)
}

// What a dead writer left goes; what another is writing just now stays; a manifest that came to be is an image.
func TestWhatDeadWritersLeave(t *testing.T) {
	s, _, contents := newStore(t, 1, false)
	begin := func() (*Writer, *image.Manifest) {
		m := manifest(7)
		w, err := s.NewWriter(m)
		require.NoError(t, err)
		d, err := w.Disk(t.Context(), "vda", disk.Memory(contents[0]), nil, false)
		require.NoError(t, err)
		m.Disks = []image.Disk{d}
		return w, m
	}
	count := func() int {
		left, err := os.ReadDir(s.folder("tickets-db"))
		require.NoError(t, err)
		return len(left)
	}
	before := count()
	w, m := begin()
	require.NoError(t, s.Tidy(t.Context()))
	require.Equal(t, before+2, count(), "it is being written")
	require.NoError(t, w.held.Close()) // as if the process had died
	gone, err := s.Settle(t.Context(), m.ID)
	require.NoError(t, err)
	require.Nil(t, gone)
	require.Equal(t, before, count())

	w, m = begin()
	require.NoError(t, w.Finish(t.Context(), m))
	require.NoError(t, w.held.Close())
	whole, err := s.Settle(t.Context(), m.ID)
	require.NoError(t, err)
	require.Equal(t, m.ID, whole.ID)
	requireSame(t, s, m.ID, contents[0])
	w, _ = begin()
	require.NoError(t, w.End(t.Context()), "an image that was given up leaves nothing")
	require.Equal(t, before+5, count())
}

// Damage is found, named, and blamed on the right image; what leans on it is broken, too. Notes lie beside the images.
func TestDamageAndNotes(t *testing.T) {
	s, ids, _ := newStore(t, 3, false)
	m, err := s.ReadImage(t.Context(), ids[1])
	require.NoError(t, err)
	file := filepath.Join(s.folder("tickets-db"), m.Disks[0].File)
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	flipped := append([]byte{}, body...)
	flipped[len(flipped)-1000] ^= 1
	require.NoError(t, os.WriteFile(file, flipped, 0o600))
	last, err := s.ReadImage(t.Context(), ids[2])
	require.NoError(t, err)
	_, err = s.ReadBack(t.Context(), last, func(int64) {})
	var to *store.BrokenError
	require.ErrorAs(t, err, &to)
	require.Equal(t, ids[1], to.Image)
	report, err := s.Check(t.Context(), true, func(int64) {})
	require.NoError(t, err)
	require.ElementsMatch(t, ids[1:], report.Broken)
	require.Contains(t, report.Problems[0].What, "is not what was written")

	for what, spoil := range map[string]func(){
		"cut":     func() { require.NoError(t, os.Truncate(file, 100_000)) },
		"missing": func() { require.NoError(t, os.Remove(file)) },
		"elsewhere": func() {
			require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(body), "20260201-230000", "/tmp/../etc/pass", 1)), 0o600))
		},
	} {
		spoil()
		report, err := s.Check(t.Context(), false, func(int64) {})
		require.NoError(t, err)
		require.ElementsMatch(t, ids[1:], report.Broken, what)
	}
	require.NoError(t, os.WriteFile(file, body, 0o600))
	report, err = s.Check(t.Context(), true, func(int64) {})
	require.NoError(t, err)
	require.Empty(t, report.Broken)

	require.NoError(t, s.SetPin(t.Context(), ids[0], &store.Pin{Note: "before the harbour upgrade"}))
	require.NoError(t, s.AddProof(t.Context(), ids[0], store.Proof{Level: "read", Passed: true}))
	require.NoError(t, s.AddProof(t.Context(), ids[0], store.Proof{Level: "mount", Passed: true, Began: time.Now()}))
	notes, err := s.AllNotes(t.Context())
	require.NoError(t, err)
	require.Equal(t, "before the harbour upgrade", notes[ids[0]].Pin.Note)
	require.EqualValues(t, "mount", notes[ids[0]].Proofs[1].Level)
	require.NoError(t, s.SetPin(t.Context(), ids[0], nil))
	notes, err = s.AllNotes(t.Context())
	require.NoError(t, err)
	require.Nil(t, notes[ids[0]].Pin)
}

// Names of machines lead out of no folder, and a manifest's files neither.
func TestHostileNames(t *testing.T) {
	require.Equal(t, "%2E.%2F..%2Fetc", plain("../../etc"))
	require.Equal(t, "harbour%20radio%00", plain("harbour radio\x00"))
	s, ids, _ := newStore(t, 1, false)
	path, err := s.manifestPath(ids[0])
	require.NoError(t, err)
	for _, file := range []string{"../store.json", "/etc/passwd", ".hidden", ""} {
		m, err := readManifest(path)
		require.NoError(t, err)
		m.Disks[0].File = file
		body, err := json.Marshal(m)
		require.NoError(t, err)
		hostile := filepath.Join(t.TempDir(), "hostile.json")
		require.NoError(t, os.WriteFile(hostile, body, 0o600))
		_, err = readManifest(hostile)
		require.ErrorIs(t, err, errDamaged, file)
	}
}

// Of many who take, and give back, the same lock only one has it at a time, though each removes its file at the end.
func TestOneHoldsALock(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x"+writingEnd)
	var holding, most, taken atomic.Int32
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 300 {
				f, err := lock(path)
				if err != nil {
					continue // busy
				}
				most.Store(max(most.Load(), holding.Add(1)))
				taken.Add(1)
				runtime.Gosched()
				holding.Add(-1) // from here on the next may have it
				os.Remove(path)
				f.Close()
			}
		})
	}
	all.Wait()
	require.EqualValues(t, 1, most.Load())
	require.Positive(t, taken.Load())
}

// Whoever can write to the store's place can neither have us write elsewhere nor read what is not the store's, nor keep us waiting.
func TestLinksAndPipes(t *testing.T) {
	s, ids, _ := newStore(t, 1, false)
	m, err := s.ReadImage(t.Context(), ids[0])
	require.NoError(t, err)
	file := filepath.Join(s.folder(m.Machine), m.Disks[0].File)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("the harbour master's key"), 0o600))
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	for name, put := range map[string]func() error{
		"link": func() error { return os.Symlink(secret, file) },
		"pipe": func() error { return syscall.Mkfifo(file, 0o600) },
	} {
		require.NoError(t, os.Remove(file))
		require.NoError(t, put())
		_, err = s.OpenDisk(t.Context(), m, m.Disks[0])
		require.ErrorIs(t, err, chunk.ErrDamaged, name)
		_, err = s.ReadBack(t.Context(), m, nil)
		require.ErrorIs(t, err, chunk.ErrDamaged, name)
	}
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.WriteFile(file, body, 0o600))

	manifest, err := s.manifestPath(ids[0])
	require.NoError(t, err)
	text, err := os.ReadFile(manifest)
	require.NoError(t, err)
	require.NoError(t, os.Remove(manifest))
	require.NoError(t, syscall.Mkfifo(manifest, 0o600))
	_, err = s.ReadImage(t.Context(), ids[0])
	require.Error(t, err, "and at once")
	require.NoError(t, os.Remove(manifest))
	require.NoError(t, os.WriteFile(manifest, text, 0o600))

	elsewhere := t.TempDir()
	require.NoError(t, os.Symlink(elsewhere, s.folder("timetable-two")))
	_, err = s.NewWriter(&image.Manifest{Format: image.Format, ID: image.NewID(), Machine: "timetable-two", Taken: time.Now()})
	require.ErrorContains(t, err, "is no folder")
	left, err := os.ReadDir(elsewhere)
	require.NoError(t, err)
	require.Empty(t, left)
}
