package qcow2

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// whole is a file of a disk of 5 clusters and a half, the first and the last of which are data.
func whole(t *testing.T, backing string) []byte {
	t.Helper()
	d := changing{make(disk.Memory, 5*cluster+512), []disk.Extent{{Offset: 0, Length: cluster}, {Offset: cluster, Length: 4 * cluster, Kind: disk.Zero}, {Offset: 5 * cluster, Length: 512}}}
	for i := range d.Memory {
		d.Memory[i] = byte(i % 251)
	}
	return fileOf(t, d, backing)
}

// fileOf is a disk as a file.
func fileOf(t *testing.T, d disk.Disk, backing string) []byte {
	t.Helper()
	layout, err := New(t.Context(), d, backing)
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = layout.WriteTo(&out)
	require.NoError(t, err)
	return out.Bytes()
}

// Every field of a header is checked at its limits: what is at them opens, what is beyond is named.
func TestHeaders(t *testing.T) {
	put := func(at int, v any) func([]byte) []byte {
		return func(p []byte) []byte {
			_, err := binary.Encode(p[at:], binary.BigEndian, v)
			require.NoError(t, err)
			return p
		}
	}
	short := func(n int) func([]byte) []byte { return func(p []byte) []byte { return p[:n] } }
	all := func(steps ...func([]byte) []byte) func([]byte) []byte {
		return func(p []byte) []byte {
			for _, s := range steps {
				p = s(p)
			}
			return p
		}
	}
	for name, c := range map[string]struct {
		change func([]byte) []byte
		want   string // of the error, "" for none
	}{
		"nothing changed":           {all(), ""},
		"cut in its first fields":   {short(71), "it does not begin as one"},
		"another's first bytes":     {put(0, uint32(magic+1)), "it does not begin as one"},
		"version 1":                 {put(4, uint32(1)), "qcow2 version 1 is not known"},
		"version 4":                 {put(4, uint32(4)), "qcow2 version 4 is not known"},
		"encrypted":                 {put(32, uint32(1)), "the qcow2 file is encrypted"},
		"version 3 cut":             {short(103), "its header has 0 bytes"},
		"a header of 103 bytes":     {put(100, uint32(103)), "its header has 103 bytes"},
		"a header of 104 bytes":     {put(100, uint32(104)), ""},
		"counts may be stale":       {put(72, uint64(featureDirty)), ""},
		"an unknown feature":        {put(72, uint64(featureDirty|1<<1)), "(0x2)"},
		"all that are unknown":      {put(72, ^uint64(0)), "(0xfffffffffffffff6)"},
		"Zstandard":                 {all(put(72, uint64(featureZstd)), put(104, byte(1))), ""},
		"zlib, said to be other":    {all(put(72, uint64(featureZstd)), put(104, byte(0))), ""},
		"a compression to come":     {all(put(72, uint64(featureZstd)), put(104, byte(2))), "its compression is not known"},
		"a compression that is not": {all(put(72, uint64(featureZstd)), put(100, uint32(111))), "its compression is not known"},
		"small clusters":            {put(20, uint32(8)), "clusters of 1<<8 bytes"},
		"large clusters":            {put(20, uint32(22)), "clusters of 1<<22 bytes"},
		"clusters of 2 MiB":         {put(20, uint32(21)), "a table of 262144 entries at byte 262144"},
		"clusters of 512 bytes":     {put(20, uint32(9)), "a disk of 328192 bytes with 1 tables"},
		"a disk of an exabyte":      {put(24, uint64(1<<60)), "with 1 tables"},
		"a larger disk":             {put(24, uint64(1<<60+1)), "a disk of 1152921504606846977 bytes, with its table at 196608"},
		"a table too far":           {put(40, uint64(1<<60+1)), "with its table at 1152921504606846977"},
		"a table past the end":      {put(40, uint64(1<<60)), "a table of 1 entries at byte 1152921504606846976"},
		"no tables":                 {put(36, uint32(0)), "with 0 tables"},
		"more tables than needed":   {put(36, uint32(4<<20)), ""},
		"too many tables":           {put(36, uint32(4<<20+1)), "with 4194305 tables"},
		"as much as one table has":  {put(24, uint64(perTable*cluster)), ""},
		"and one byte more":         {put(24, uint64(perTable*cluster+1)), "with 1 tables"},
		"a name that is cut off":    {all(put(8, uint64(cluster)), put(16, uint32(10)), short(cluster+9)), "the backing file's name is cut off"},
		"a name out of its cluster": {all(put(8, uint64(cluster+1)), put(16, uint32(10))), "a backing file's name of 10 bytes at 65537"},
		"a name too long":           {all(put(8, uint64(200)), put(16, uint32(1024))), "a backing file's name of 1024 bytes at 200"},
		"a long name":               {all(put(8, uint64(200)), put(16, uint32(1023))), "which is not what was expected"},
	} {
		t.Run(name, func(t *testing.T) {
			m, err := Open(bytes.NewReader(c.change(whole(t, ""))), nil)
			if err == nil {
				_, err = m.ReadAt(make([]byte, 10), 0)
			}
			if c.want != "" {
				require.ErrorContains(t, err, c.want)
				return
			}
			require.NoError(t, err)
		})
	}
	m, err := Open(bytes.NewReader(whole(t, "")), nil)
	require.NoError(t, err)
	_, err = m.ReadAt(make([]byte, 1), -1)
	require.ErrorContains(t, err, "negative offset")
	_, err = Open(bytes.NewReader(whole(t, "")), disk.Memory{})
	require.ErrorIs(t, err, ErrDamaged, "it stands alone")
}

// Extents are as long as they can be, and the end of the file is the end of the disk.
func TestExtents(t *testing.T) {
	m, err := Open(bytes.NewReader(whole(t, "")), nil)
	require.NoError(t, err)
	got, err := m.Extents(t.Context(), 0, m.Size())
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 0, Length: cluster}, {Offset: cluster, Length: 4 * cluster, Kind: disk.Zero}, {Offset: 5 * cluster, Length: 512}}, got)
	got, err = m.Extents(t.Context(), cluster-10, cluster)
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: cluster - 10, Length: 10}, {Offset: cluster, Length: cluster - 10, Kind: disk.Zero}}, got)

	// Over a shorter disk: zeros hide it, what is behind its end is zeros.
	under := make(disk.Memory, 2*cluster+100)
	for i := range under {
		under[i] = 9
	}
	d := changing{make(disk.Memory, 6*cluster), []disk.Extent{{Offset: 0, Length: cluster, Kind: disk.Zero}, {Offset: cluster, Length: 4 * cluster, Kind: disk.Unchanged}, {Offset: 5 * cluster, Length: cluster}}}
	m, err = Open(bytes.NewReader(fileOf(t, d, "below.qcow2")), under)
	require.NoError(t, err)
	got, err = m.Extents(t.Context(), 0, m.Size())
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 0, Length: cluster, Kind: disk.Zero}, {Offset: cluster, Length: cluster + 100}, {Offset: 2*cluster + 100, Length: 3*cluster - 100, Kind: disk.Zero}, {Offset: 5 * cluster, Length: cluster}}, got)
	p := make([]byte, m.Size())
	n, err := m.ReadAt(p, 0)
	require.NoError(t, err)
	require.EqualValues(t, m.Size(), n)
	want := make([]byte, m.Size())
	copy(want[cluster:], under[cluster:])
	require.True(t, bytes.Equal(want, p))

	// A disk that is all holes is one extent, whatever its size.
	far := changing{nil, nil}
	m, err = Open(bytes.NewReader(fileOf(t, sized{far, 1 << 40}, "")), nil)
	require.NoError(t, err)
	got, err = m.Extents(t.Context(), 0, m.Size())
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 0, Length: 1 << 40, Kind: disk.Zero}}, got)
	got, err = m.Extents(t.Context(), 5, perTable*cluster+7)
	require.NoError(t, err)
	require.Equal(t, []disk.Extent{{Offset: 5, Length: perTable*cluster + 7, Kind: disk.Zero}}, got)
}

// sized is a disk of holes.
type sized struct {
	changing
	size int64
}

func (d sized) Size() int64 { return d.size }

func (d sized) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Zero}}, nil
}

// What can't be read, or written, is an error and never a file that is taken for one.
func TestFailures(t *testing.T) {
	stop := errors.New("the disk is gone")
	d := changing{make(disk.Memory, 40*cluster), []disk.Extent{{Offset: 0, Length: 40 * cluster}}}
	for i := range d.Memory {
		d.Memory[i] = byte(i>>8) | 1
	}
	layout, err := New(t.Context(), torn{d, 20 * cluster, stop}, "")
	require.NoError(t, err)
	_, err = layout.WriteTo(io.Discard)
	require.ErrorIs(t, err, stop)
	require.ErrorContains(t, err, "read the disk")
	layout, err = New(t.Context(), torn{d, 20 * cluster, nil}, "")
	require.NoError(t, err)
	_, err = layout.WriteTo(io.Discard)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	layout, err = New(t.Context(), d, "")
	require.NoError(t, err)
	for _, n := range []int{0, 100, cluster + 5, 5 * cluster, 30 * cluster} {
		w := &full{room: n}
		wrote, err := layout.WriteTo(w)
		require.ErrorIs(t, err, errFull)
		require.EqualValues(t, n, wrote)
	}
	file := &fullAt{writes: 1000}
	_, err = Compress(t.Context(), file, torn{d, 20 * cluster, stop}, "")
	require.ErrorIs(t, err, stop)
	require.False(t, file.headed)
	for n := range 5 {
		file := &fullAt{writes: n}
		_, err = Compress(t.Context(), file, d, "")
		require.ErrorIs(t, err, errFull)
		require.False(t, file.headed, "the header comes last")
	}
	_, err = New(t.Context(), d, strings.Repeat("x", 1024))
	require.ErrorContains(t, err, "the backing file's name has 1024 bytes")
	_, err = New(t.Context(), d, strings.Repeat("x", 1023))
	require.NoError(t, err)
}

// torn is a disk that can't be read from some byte on.
type torn struct {
	changing
	from int64
	why  error
}

func (d torn) ReadAt(p []byte, off int64) (int, error) {
	if n := d.from - off; n < int64(len(p)) {
		return int(max(0, n)), d.why
	}
	return d.changing.ReadAt(p, off)
}

var errFull = errors.New("no room")

// full takes so many bytes, fullAt so many writes.
type full struct{ room int }

func (f *full) Write(p []byte) (int, error) {
	n := min(len(p), f.room)
	if f.room -= n; n < len(p) {
		return n, errFull
	}
	return n, nil
}

type fullAt struct {
	writes int
	headed bool
}

func (f *fullAt) WriteAt(p []byte, off int64) (int, error) {
	f.headed = f.headed || off == 0
	if f.writes--; f.writes < 0 {
		return 0, errFull
	}
	return len(p), nil
}
