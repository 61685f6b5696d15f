package vhdx

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/disk/disktest"
)

func opened(t *testing.T, file string) *Image {
	t.Helper()
	m, err := Open(disktest.File(t, file))
	require.NoError(t, err)
	return m
}

// QEMU reads what is written, and its check finds nothing; what QEMU writes is read, with blocks of any size; and what is written is read again.
func TestQEMUBothWays(t *testing.T) {
	rng := rand.New(rand.NewPCG(19, 2))
	for name, size := range map[string]int64{"one sector": 512, "odd end": 3<<20 + 1536, "two chunks": 4<<30 + 5<<20 + 512, "empty": 5 << 20} {
		t.Run(name, func(t *testing.T) {
			pieces := 12
			if name == "empty" {
				pieces = 0
			}
			from, d := disktest.Sparse(t, rng, size, pieces)
			f, err := New(t.Context(), d)
			require.NoError(t, err)
			ours := filepath.Join(t.TempDir(), "ours.vhdx")
			out, err := os.Create(ours)
			require.NoError(t, err)
			n, err := f.WriteTo(out)
			require.NoError(t, err)
			require.NoError(t, out.Close())
			require.Equal(t, f.Size(), n)
			require.Contains(t, disktest.QEMU(t, "check", ours), "No errors were found")
			disktest.QEMU(t, "compare", "-f", "raw", "-F", "vhdx", from, ours)
			disktest.Same(t, d, opened(t, ours))

			for _, options := range []string{"block_size=1M", "block_size=64M,subformat=dynamic", "subformat=fixed,block_size=2M"} {
				if size > 1<<30 && options[0] == 's' {
					continue // it would be a file of four GiB
				}
				theirs := filepath.Join(t.TempDir(), "theirs.vhdx")
				disktest.QEMU(t, "convert", "-f", "raw", "-O", "vhdx", "-o", options, from, theirs)
				disktest.Same(t, d, opened(t, theirs))
			}
		})
	}
}

// logged writes an entry of a log, which is a ring, and tells where the next one begins.
func logged(log []byte, id guid, at, tail int64, sequence uint64, lasts int64, what ...func(d, s []byte) bool) int64 {
	head := ceil(entryHead+int64(len(what))*descriptor, logSector) * logSector
	p := make([]byte, head, head+int64(len(what))*logSector)
	copy(p, signatureEntry)
	le.PutUint32(p[12:], uint32(tail))
	le.PutUint64(p[16:], sequence)
	le.PutUint32(p[24:], uint32(len(what)))
	copy(p[32:], id[:])
	le.PutUint64(p[48:], uint64(min(lasts, 3*mib)))
	le.PutUint64(p[56:], uint64(lasts))
	for i, w := range what {
		d, s := p[entryHead+i*descriptor:], make([]byte, logSector)
		le.PutUint64(d[24:], sequence)
		copy(s, signatureSector)
		le.PutUint32(s[logSector-4:], uint32(sequence))
		if w(d, s) {
			p = append(p, s...)
		}
	}
	le.PutUint32(p[8:], uint32(len(p)))
	seal(p)
	for i := range p {
		log[(at+int64(i))%int64(len(log))] = p[i]
	}
	return (at + int64(len(p))) % int64(len(log))
}

// sectorIs says that a sector of the file is full of a byte, zeroIs that some are zeros.
func sectorIs(at int64, fill byte) func(d, s []byte) bool {
	return func(d, s []byte) bool {
		copy(d, signatureData)
		le.PutUint64(d[16:], uint64(at))
		body := bytes.Repeat([]byte{fill}, logSector)
		copy(d[8:16], body)
		copy(s[8:logSector-4], body)
		copy(d[4:8], body)
		return true
	}
}

func zeroIs(at, n int64) func(d, s []byte) bool {
	return func(d, s []byte) bool {
		copy(d, signatureZero)
		le.PutUint64(d[8:], uint64(n))
		le.PutUint64(d[16:], uint64(at))
		return false
	}
}

// A file whose writer died in the middle is read as it is once its log was played back, as QEMU does that into the file; ours stays as it is.
func TestALogIsPlayedBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(19, 4))
	for n := range 12 {
		d := make(disk.Memory, 4<<20)
		for i := range d {
			d[i] = byte(rng.Uint32())
		}
		laid, err := New(t.Context(), d)
		require.NoError(t, err)
		var out bytes.Buffer
		_, err = laid.WriteTo(&out)
		require.NoError(t, err)
		body, id := out.Bytes(), guid{7, byte(n)}
		data := int64(len(body)) - 4<<20
		at := rng.Int64N(20) * logSector // QEMU 7.2 does not look for the tail of a run that goes around the ring's end
		tail, sequence := at, uint64(rng.IntN(1000)+1)
		for range 1 + rng.IntN(6) {
			var what []func(d, s []byte) bool
			for range 1 + rng.IntN(126) { // QEMU 7.2 takes entries for damaged that have more descriptors than fit in their first sector
				place := data + rng.Int64N(4<<20/logSector)*logSector
				if rng.IntN(6) == 0 {
					what = append(what, zeroIs(place, min(1+rng.Int64N(4), (int64(len(body))-place)/logSector)*logSector))
				} else {
					what = append(what, sectorIs(place, byte(rng.Uint32())))
				}
			}
			if at+int64(len(what)+3)*logSector > logLength {
				break
			}
			at = logged(body[logAt:logAt+logLength], id, at, tail, sequence, int64(len(body)), what...)
			sequence++
		}
		p := body[2*headerAt:][:headerLength] // the newer of the two
		copy(p[48:], id[:])
		seal(p)
		file := filepath.Join(t.TempDir(), "cut.vhdx")
		require.NoError(t, os.WriteFile(file, body, 0o600))
		m := opened(t, file)
		got := make(disk.Memory, m.Size())
		_, err = m.ReadAt(got, 0)
		require.NoError(t, err)
		require.False(t, bytes.Equal(d, got))
		again, err := os.ReadFile(file)
		require.NoError(t, err)
		require.True(t, bytes.Equal(body, again))
		require.Contains(t, disktest.QEMU(t, "check", "-r", "all", file), "No errors were found")
		back := opened(t, file)
		disktest.Same(t, back, got)
	}
}

// A log that says more than the file does is what counts: sectors, zeros, and a longer file; one that was not finished does not.
func TestWhatALogSays(t *testing.T) {
	id := guid{1, 2, 3}
	file := bytes.Repeat([]byte{9}, 3*mib)
	log := file[mib : 2*mib]
	clear(log)
	begin := int64(mib - 2*logSector) // around the ring's end
	next := logged(log, id, begin, begin, 7, 3*mib, sectorIs(2*mib, 0xaa), sectorIs(2*mib+4*logSector, 0xbb))
	next = logged(log, id, next, begin, 8, 4*mib, zeroIs(2*mib+4*logSector, 2*logSector))
	last := logged(log, id, next, begin, 9, 4*mib, sectorIs(2*mib, 0xcc))
	logged(log, id, 500*kib, 500*kib, 3, 3*mib, sectorIs(2*mib, 0xee)) // of before
	r, length, err := replay(bytes.NewReader(file), int64(len(file)), header{log: id, logAt: mib, logLength: mib})
	require.NoError(t, err)
	require.EqualValues(t, 4*mib, length)
	got := make([]byte, 2*mib)
	_, err = r.ReadAt(got, 2*mib)
	require.NoError(t, err)
	want := make([]byte, 2*mib)
	for i := range want[:mib] {
		want[i] = 9
	}
	copy(want, bytes.Repeat([]byte{0xcc}, logSector))
	clear(want[4*logSector : 6*logSector])
	require.True(t, bytes.Equal(want, got))

	log[(last-5)%mib] ^= 1 // the newest entry was being written when its writer died: what was before it counts
	r, _, err = replay(bytes.NewReader(file), int64(len(file)), header{log: id, logAt: mib, logLength: mib})
	require.NoError(t, err)
	_, err = r.ReadAt(got, 2*mib)
	require.NoError(t, err)
	require.EqualValues(t, 0xaa, got[0])
	clear(log)
	_, _, err = replay(bytes.NewReader(file), int64(len(file)), header{log: id, logAt: mib, logLength: mib})
	require.ErrorIs(t, err, ErrDamaged)
}

// What can't be read as it is is refused, and says why.
func TestWhatIsRefused(t *testing.T) {
	dir := t.TempDir()
	base := filepath.Join(dir, "base.vhdx")
	disktest.QEMU(t, "create", "-q", "-f", "vhdx", base, "16M")
	body, err := os.ReadFile(base)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		harm func(p []byte) []byte
		says string
	}{
		"cut in its tables": {func(p []byte) []byte { return p[:mib] }, "damaged VHDX file"},
		"something else":    {func(p []byte) []byte { return bytes.Repeat([]byte("berths "), 1<<20) }, "does not begin as one"},
		"both headers":      {func(p []byte) []byte { p[headerAt+20] ^= 1; p[2*headerAt+20] ^= 1; return p }, "neither of its headers"},
		"region tables":     {func(p []byte) []byte { p[regionAt+20] ^= 1; p[regionAt+regionLength+20] ^= 1; return p }, "neither of its region tables"},
		"a parent": {func(p []byte) []byte {
			at := bytes.Index(p, itemFile[:])
			from := bytes.Index(p, []byte(signatureMetadata)) + int(le.Uint32(p[at+16:]))
			le.PutUint32(p[from+4:], 2)
			return p
		}, "leans on another file"},
		"blocks of odd size": {func(p []byte) []byte {
			at := bytes.Index(p, itemFile[:])
			from := bytes.Index(p, []byte(signatureMetadata)) + int(le.Uint32(p[at+16:]))
			le.PutUint32(p[from:], 3<<20)
			return p
		}, "its blocks have"},
	} {
		p := c.harm(bytes.Clone(body))
		_, err := Open(bytes.NewReader(p), int64(len(p)))
		require.ErrorContains(t, err, c.says, name)
	}
	_, err = New(t.Context(), disk.Memory(make([]byte, 100)))
	require.ErrorContains(t, err, "whole sectors")
}

// Whatever the bytes are, nothing is read out of the file's bounds, and nothing hangs.
func FuzzOpen(f *testing.F) {
	d := make(disk.Memory, 3<<20)
	copy(d[2<<20:], "berth 7")
	file, err := New(context.Background(), d)
	require.NoError(f, err)
	var out bytes.Buffer
	_, err = file.WriteTo(&out)
	require.NoError(f, err)
	whole := out.Bytes()
	f.Add(uint32(headerAt), []byte{1})
	f.Add(uint32(metadataAt+40), []byte{0xff, 0xff})
	f.Add(uint32(tableAt), []byte{6, 0, 0xf0, 0xff, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, at uint32, patch []byte) {
		p := bytes.Clone(whole)
		copy(p[int(at)%len(p):], patch)
		for i := range 2 { // checksums are right, so that what lies behind them is met
			seal(p[headerAt+i*headerAt:][:headerLength])
			seal(p[regionAt+i*regionLength:][:regionLength])
		}
		m, err := Open(bytes.NewReader(p), int64(len(p)))
		if err != nil {
			return
		}
		buffer := make([]byte, 64<<10)
		for off := int64(0); off < min(m.Size(), 8<<20); off += 1 << 20 {
			if _, err := m.ReadAt(buffer, off); err != nil && err != io.EOF {
				require.ErrorIs(t, err, ErrDamaged)
			}
			_, _ = m.Extents(context.Background(), off, m.Size()-off)
		}
	})
}
