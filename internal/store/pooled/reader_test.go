package pooled

import (
	"bytes"
	"flag"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium/dir"
)

var update = flag.Bool("update", false, "make the samples of the store format anew: only for a new format, for every store of an old one stays readable")

// samples are a store of each kind, as the program wrote them that had format 3 first: a full image and an incremental one.
var samples = map[string]*chunk.Secret{"testdata/format3/plain": nil, "testdata/format3/sealed": &secret}

// sampleDisks are what the samples hold, in order.
func sampleDisks() (full, incremental disk.Memory) {
	rng := rand.New(rand.NewPCG(3, 3))
	full = make(disk.Memory, 5<<20+777) // more than a leaf, with an odd end
	for i := range full[:200<<10] {
		full[1<<20+i] = byte(rng.Uint32())
	}
	copy(full[4<<20-5000:], bytes.Repeat([]byte("the harbour's timetable "), 900))
	full[len(full)-1] = 7
	incremental = append(disk.Memory{}, full...)
	copy(incremental[1<<20+64<<10:], bytes.Repeat([]byte("a booking "), 500))
	return full, incremental
}

func makeSample(t *testing.T, folder string, sealed *chunk.Secret) {
	folder, err := filepath.Abs(folder)
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(folder))
	require.NoError(t, os.MkdirAll(folder, 0o755))
	m, err := dir.Open(folder)
	require.NoError(t, err)
	var keys []store.NewKey
	if sealed != nil {
		keys = []store.NewKey{{Label: "first", Passphrase: passphrase}}
	}
	s, err := Make(t.Context(), m, moment, cut.Default(3), sealed, keys...)
	require.NoError(t, err)
	full, incremental := sampleDisks()
	var base *store.OlderDisk
	for i, d := range []disk.Disk{full, changed{Memory: incremental, read: new(atomic.Int64), extents: []disk.Extent{
		{Offset: 0, Length: 1<<20 + 64<<10, Kind: disk.Unchanged}, {Offset: 1<<20 + 64<<10, Length: 64 << 10}, {Offset: 1<<20 + 128<<10, Length: incremental.Size() - 1<<20 - 128<<10, Kind: disk.Unchanged}}}} {
		man := &image.Manifest{Format: image.Format, ID: []string{"samplefull", "sampleinc2"}[i], Machine: "timetable", Policy: "nightly-guests", Taken: moment, Scope: image.WholeMachine, Capture: image.Captures[i], Program: "test"}
		w, err := s.Begin(t.Context(), man, store.WriteOptions{Program: "test"})
		require.NoError(t, err)
		out, err := w.Disk(t.Context(), "vda", "raw", d, base, &store.Progress{})
		require.NoError(t, err)
		man.Disks = []image.Disk{out}
		require.NoError(t, w.Flush(t.Context()))
		require.NoError(t, w.Finish(t.Context(), man))
		require.NoError(t, w.End(t.Context(), nil))
		opened, err := s.OpenDisk(t.Context(), man, out)
		require.NoError(t, err)
		base = &store.OlderDisk{OpenedDisk: opened, Desc: out}
	}
	require.NoError(t, os.Remove(filepath.Join(folder, "reserve"))) // a store without one gets another
}

// Stores that were written by the first program of this format are read by this one, checked, and written on.
func TestOldStoresStayReadable(t *testing.T) {
	if *update {
		for folder, sealed := range samples {
			makeSample(t, folder, sealed)
		}
	}
	full, incremental := sampleDisks()
	for folder, sealed := range samples {
		t.Run(folder, func(t *testing.T) {
			work := t.TempDir()
			require.NoError(t, os.CopyFS(work, os.DirFS(folder)))
			m, err := dir.Open(work)
			require.NoError(t, err)
			s, err := Open(t.Context(), m, sealed)
			require.NoError(t, err)
			require.Equal(t, cut.Default(3), s.Cuts())
			requireSame(t, s, "samplefull", full)
			requireSame(t, s, "sampleinc2", incremental)
			requireClean(t, s)
			v, err := s.VisitToWrite(t.Context(), image.NewID(), "test")
			require.NoError(t, err)
			w := v.NewWriter(t.Context())
			_, err = storeDisk(t.Context(), full, nil, w, s.cuts, &store.Progress{})
			require.NoError(t, err)
			require.NoError(t, w.Flush(t.Context()))
			_, stored := w.Written()
			require.Zero(t, stored, "what is there is found")
			require.NoError(t, v.End(t.Context()))
		})
	}
}

// A reader that was written from docs/store-format.md, in another language, reads what this program writes.
func TestTheReaderInPython(t *testing.T) {
	full, incremental := sampleDisks()
	for folder := range samples {
		t.Run(folder, func(t *testing.T) {
			t.Parallel()
			read := func(args ...string) string {
				cmd := exec.Command("/usr/bin/python3", append([]string{"../../../docs/store-reader.py", folder}, args...)...)
				cmd.Env = append(os.Environ(), "KEENLODGE_PASSPHRASE="+passphrase)
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, "%s", out)
				return string(out)
			}
			require.Equal(t, "samplefull timetable 2026-03-01T23:00:00Z full vda:5243657\nsampleinc2 timetable 2026-03-01T23:00:00Z incremental vda:5243657\n", read())
			for id, want := range map[string]disk.Memory{"samplefull": full, "sampleinc2": incremental} {
				out := filepath.Join(t.TempDir(), id)
				read(id, "vda", out)
				got, err := os.ReadFile(out)
				require.NoError(t, err)
				require.True(t, bytes.Equal(want, got), id)
			}
		})
	}
}
