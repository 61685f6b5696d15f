package disk_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/raw"
)

// A disk tells which of its ranges hold data.
func ExampleWalk() {
	d := disk.Memory(make([]byte, 4096))
	disk.Walk(context.Background(), d, func(e disk.Extent) error {
		fmt.Println(e.Offset, e.Length, e.Kind)
		return nil
	})
	// Output: 0 4096 data
}

// told is a disk that gives its extents one by one, as it was told.
type told struct {
	disk.Memory
	extents []disk.Extent
}

func (d told) Extents(_ context.Context, offset, _ int64) ([]disk.Extent, error) {
	for _, e := range d.extents {
		if e.Offset == offset {
			return []disk.Extent{e}, nil
		}
	}
	return nil, nil
}

func TestWalkJoinsNeighboursAndRefusesDisorder(t *testing.T) {
	d := told{make(disk.Memory, 100), []disk.Extent{{Offset: 0, Length: 10, Kind: disk.Zero}, {Offset: 10, Length: 20, Kind: disk.Zero}, {Offset: 30, Length: 70, Kind: disk.Data}}}
	var got []disk.Extent
	require.NoError(t, disk.Walk(t.Context(), d, func(e disk.Extent) error { got = append(got, e); return nil }))
	require.Equal(t, []disk.Extent{{Offset: 0, Length: 30, Kind: disk.Zero}, {Offset: 30, Length: 70, Kind: disk.Data}}, got)
	n, err := disk.Allocated(t.Context(), d)
	require.NoError(t, err)
	require.EqualValues(t, 70, n)
	for name, extents := range map[string][]disk.Extent{
		"a gap":        {{Offset: 0, Length: 10}},
		"past the end": {{Offset: 0, Length: 101}},
		"empty":        {{Offset: 0, Length: 0}},
	} {
		err := disk.Walk(t.Context(), told{make(disk.Memory, 100), extents}, func(disk.Extent) error { return nil })
		require.Error(t, err, name)
	}
}

func TestFirstDifference(t *testing.T) {
	a, b := make(disk.Memory, 3<<20), make(disk.Memory, 3<<20)
	at, err := disk.FirstDifference(t.Context(), a, b)
	require.NoError(t, err)
	require.EqualValues(t, -1, at)
	b[2<<20+77] = 1
	at, err = disk.FirstDifference(t.Context(), a, b)
	require.NoError(t, err)
	require.EqualValues(t, 2<<20+77, at)
	at, err = disk.FirstDifference(t.Context(), a, b[:1<<20])
	require.NoError(t, err)
	require.EqualValues(t, 1<<20, at, "one is shorter")
}

func TestIsZero(t *testing.T) {
	for _, n := range []int{0, 1, 4095, 4096, 4097, 10000} {
		p := make([]byte, n)
		require.True(t, disk.IsZero(p))
		for _, i := range []int{0, n / 2, n - 1} {
			if n > 0 {
				p[i] = 1
				require.False(t, disk.IsZero(p), "%d of %d", i, n)
				p[i] = 0
			}
		}
	}
}

// table makes a disk with a partition table by sfdisk and file systems by their own tools.
func table(t *testing.T, script string) *raw.File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "disk.raw")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, 64<<20))
	out, err := exec.Command("sh", "-ec", fmt.Sprintf(script, path)).CombinedOutput()
	require.NoError(t, err, string(out))
	d, err := raw.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d
}

func TestParts(t *testing.T) {
	for name, c := range map[string]struct {
		script string
		want   []disk.Part
	}{
		"MBR": {`f=%s; printf '2048,40960,83\n43008,,82\n' | sfdisk -q $f; mkfs.ext4 -q -F -E offset=1048576 $f 20M`,
			[]disk.Part{{Number: 1, Offset: 1 << 20, Length: 20 << 20, Format: "ext4"}, {Number: 2, Offset: 21 << 20, Length: 43 << 20}}},
		"GPT": {`f=%s; printf 'label: gpt\n2048,40960\n43008,40960\n' | sfdisk -q $f; mkfs.ext2 -q -F -E offset=22020096 $f 20M`,
			[]disk.Part{{Number: 1, Offset: 1 << 20, Length: 20 << 20}, {Number: 2, Offset: 21 << 20, Length: 20 << 20, Format: "ext2"}}},
		"no table":     {`mkfs.ext4 -q -F %s`, []disk.Part{{Number: 0, Offset: 0, Length: 64 << 20, Format: "ext4"}}},
		"swap":         {`mkswap -q %s`, []disk.Part{{Number: 0, Offset: 0, Length: 64 << 20, Format: "swap"}}},
		"nothing":      {`true %s`, []disk.Part{{Number: 0, Offset: 0, Length: 64 << 20}}},
		"a torn table": {`f=%s; printf '2048,,83\n' | sfdisk -q $f; printf '\377' | dd of=$f bs=1 seek=510 conv=notrunc status=none`, []disk.Part{{Number: 0, Offset: 0, Length: 64 << 20}}},
	} {
		t.Run(name, func(t *testing.T) {
			parts, err := disk.Parts(table(t, c.script))
			require.NoError(t, err)
			require.Equal(t, c.want, parts)
		})
	}
}

// A table may be hostile: a partition beyond the disk is refused.
func TestAPartitionOutsideOfTheDisk(t *testing.T) {
	d := table(t, `f=%s; printf '2048,,83\n' | sfdisk -q $f; printf '\377\377\377\177' | dd of=$f bs=1 seek=458 conv=notrunc status=none`)
	_, err := disk.Parts(d)
	require.ErrorContains(t, err, "outside of a disk")
}

func FuzzParts(f *testing.F) {
	f.Add(make([]byte, 4096))
	mbr := make([]byte, 4096)
	copy(mbr[446:], []byte{0x80, 0, 0, 0, 0x83, 0, 0, 0, 1, 0, 0, 0, 7, 0, 0, 0})
	mbr[510], mbr[511] = 0x55, 0xaa
	f.Add(mbr)
	f.Fuzz(func(t *testing.T, b []byte) {
		parts, err := disk.Parts(disk.Memory(b))
		if err != nil {
			return
		}
		for _, p := range parts {
			require.True(t, p.Offset >= 0 && p.Length >= 0 && p.Offset+p.Length <= int64(len(b)))
		}
	})
}
