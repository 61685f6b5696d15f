package disk_test

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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

// At its last sector a partition may end, and no later.
func TestPartitionsAtTheEnd(t *testing.T) {
	const sectors = 100
	for _, c := range []struct {
		start, length uint32
		good          bool
	}{{1, 99, true}, {1, 100, false}, {99, 1, true}, {99, 2, false}, {100, 1, false}, {101, 1, false}, {1<<32 - 1, 1, false}, {1, 1<<32 - 1, false}} {
		d := make(disk.Memory, sectors*512)
		d[446+4] = 0x83
		binary.LittleEndian.PutUint32(d[446+8:], c.start)
		binary.LittleEndian.PutUint32(d[446+12:], c.length)
		d[510], d[511] = 0x55, 0xaa
		parts, err := disk.Parts(d)
		if !c.good {
			require.ErrorContains(t, err, "outside of a disk of 51200 bytes", "%+v", c)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, []disk.Part{{Number: 1, Offset: int64(c.start) * 512, Length: int64(c.length) * 512}}, parts)
	}
}

// asked is a disk that notes what extents it is asked for.
type asked struct {
	disk.Memory
	ranges *[][2]int64
}

func (a asked) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	*a.ranges = append(*a.ranges, [2]int64{offset, length})
	return []disk.Extent{{Offset: offset, Length: min(length, 40)}}, nil
}

func TestAWalkAsksForTheRest(t *testing.T) {
	a := asked{make(disk.Memory, 100), new([][2]int64)}
	n, err := disk.Allocated(t.Context(), a)
	require.NoError(t, err)
	require.EqualValues(t, 100, n)
	require.Equal(t, [][2]int64{{0, 100}, {40, 60}, {80, 20}}, *a.ranges)
	require.NoError(t, disk.Walk(t.Context(), disk.Memory{}, func(disk.Extent) error { return errors.New("there is nothing") }))
	stop := errors.New("stop")
	require.ErrorIs(t, disk.Walk(t.Context(), a, func(disk.Extent) error { return stop }), stop)
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

// patchy is a disk some of whose ranges are holes. Reading a hole is an error: nobody has to.
type patchy struct {
	disk.Memory
	grain    int64
	holes    map[int64]bool // by number of grain
	furthest int64          // extents end this many grains after they begin
}

func (d patchy) Extents(_ context.Context, offset, length int64) (out []disk.Extent, _ error) {
	for at := offset; at < min(offset+length, offset+d.furthest*d.grain); {
		n := min(d.grain-at%d.grain, offset+length-at)
		kind := disk.Data
		if d.holes[at/d.grain] {
			kind = disk.Zero
		}
		out = append(out, disk.Extent{Offset: at, Length: n, Kind: kind})
		at += n
	}
	return out, nil
}

func (d patchy) ReadAt(p []byte, off int64) (int, error) {
	for at := off; at < off+int64(len(p)); at += d.grain - at%d.grain {
		if d.holes[at/d.grain] {
			return 0, fmt.Errorf("the hole at %d was read", at)
		}
	}
	return d.Memory.ReadAt(p, off)
}

// Disks are compared by their bytes however their extents lie, and holes of both are not read.
func TestFirstDifferenceOfPatchyDisks(t *testing.T) {
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 0))
		size := 1 + rng.Int64N(3<<20)
		a := patchy{make(disk.Memory, size), 1 + rng.Int64N(300<<10), map[int64]bool{}, 1 + rng.Int64N(5)}
		for i := range size/a.grain + 1 {
			if rng.IntN(2) == 0 {
				a.holes[i] = true
				continue
			}
			for at := i * a.grain; at < min(size, (i+1)*a.grain); at++ {
				a.Memory[at] = byte(at)
			}
		}
		b := patchy{slices.Clone(a.Memory), a.grain, a.holes, 1 + rng.Int64N(5)}
		want := int64(-1)
		if at := rng.Int64N(size); seed%4 != 0 && !a.holes[at/a.grain] {
			b.Memory[at]++
			want = at
		}
		got, err := disk.FirstDifference(t.Context(), a, b)
		require.NoError(t, err, "seed %d", seed)
		require.Equal(t, want, got, "seed %d", seed)
	}
	// A hole against zeros that were written is the same, and against anything else not.
	hole, zeros := patchy{make(disk.Memory, 100), 100, map[int64]bool{0: true}, 1}, make(disk.Memory, 100)
	_, err := disk.FirstDifference(t.Context(), hole, zeros)
	require.ErrorContains(t, err, "the hole at 0 was read", "it has to be: one of the two has data there")
}

// What could not be read is an error that says where.
func TestFirstDifferenceOfAShortDisk(t *testing.T) {
	short := patchy{make(disk.Memory, 1<<20), 1 << 20, map[int64]bool{}, 1}
	for _, pair := range [][2]disk.Disk{{longer{short}, make(disk.Memory, 1<<20+10)}, {make(disk.Memory, 1<<20+10), longer{short}}} {
		_, err := disk.FirstDifference(t.Context(), pair[0], pair[1])
		require.ErrorContains(t, err, "read 10 bytes at 1048576: EOF")
	}
}

type longer struct{ patchy }

func (d longer) Size() int64 { return d.patchy.Size() + 10 }

// What a source says of data and of changes is joined byte by byte.
func TestSince(t *testing.T) {
	for seed := range uint64(500) {
		rng := rand.New(rand.NewPCG(seed, 0))
		from := rng.Int64N(50)
		row := func(kinds ...disk.Kind) (out []disk.Extent) {
			at := from
			for range rng.IntN(8) {
				e := disk.Extent{Offset: at, Length: 1 + rng.Int64N(9), Kind: kinds[rng.IntN(len(kinds))]}
				out, at = append(out, e), e.End()
			}
			return out
		}
		kindAt := func(row []disk.Extent, at int64) (disk.Kind, bool) {
			for _, e := range row {
				if at >= e.Offset && at < e.End() {
					return e.Kind, true
				}
			}
			return 0, false
		}
		all, changed := row(disk.Data, disk.Zero), row(disk.Data, disk.Unchanged)
		got := disk.Since(all, changed)
		at := from
		for i, e := range got {
			require.Equal(t, at, e.Offset)
			require.Positive(t, e.Length)
			require.False(t, i > 0 && got[i-1].Kind == e.Kind, "seed %d: neighbours of one kind are joined", seed)
			for ; at < e.End(); at++ {
				want, _ := kindAt(all, at)
				if c, _ := kindAt(changed, at); c == disk.Unchanged {
					want = disk.Unchanged
				}
				require.Equal(t, want, e.Kind, "seed %d, byte %d", seed, at)
			}
		}
		_, one := kindAt(all, at)
		_, two := kindAt(changed, at)
		require.False(t, one && two, "seed %d: the answer ends where the shorter one does", seed)
	}
}

// Signatures are found where they are, within a range of a disk, and not where the range ends before them.
func TestFormat(t *testing.T) {
	const from = 512 * 3
	for _, c := range []struct {
		at         int64
		text, want string
	}{
		{0x438, "\x53\xef", "ext2"}, {0, "XFSB", "xfs"}, {0x10040, "_BHRfS_M", "btrfs"}, {3, "NTFS    ", "ntfs"}, {82, "FAT32", "vfat"}, {54, "FAT16", "vfat"}, {54, "FAT12", "vfat"},
		{0x8001, "CD001", "iso9660"}, {4086, "SWAPSPACE2", "swap"}, {512, "LABELONE", "lvm"}, {0, "LABELONE", "lvm"}, {0, "LUKS\xba\xbe", "luks"}, {0, "hsqs", "squashfs"},
	} {
		d := make(disk.Memory, 1<<20)
		copy(d[from+c.at:], c.text)
		end := c.at + int64(len(c.text))
		require.Equal(t, c.want, disk.Format(d, from, end), c.text)
		require.Empty(t, disk.Format(d, from, end-1), "%s", c.text)
		require.Empty(t, disk.Format(d, from-1, end+1), "%s", c.text)
	}
	ext := make(disk.Memory, from+0x464)
	copy(ext[from+0x438:], "\x53\xef")
	ext[from+0x460] = 0x40
	require.Equal(t, "ext4", disk.Format(ext, from, 1<<20))
	require.Equal(t, "ext2", disk.Format(ext[:len(ext)-1], from, 1<<20), "what says that it is ext4 is not there")
}
