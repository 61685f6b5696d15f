package used

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
)

// made is a file with a file system that a script makes in $f, with the files of $d in it.
func made(t *testing.T, size int64, script string) *os.File {
	t.Helper()
	folder := t.TempDir()
	path, files := filepath.Join(folder, "fs"), filepath.Join(folder, "files")
	require.NoError(t, os.Mkdir(files, 0o700))
	rng := rand.New(rand.NewPCG(7, 7))
	for i := range 40 {
		body := make([]byte, rng.IntN(200<<10))
		for k := range body {
			body[k] = byte(rng.Uint32())
		}
		require.NoError(t, os.WriteFile(filepath.Join(files, fmt.Sprintf("file-%02d", i)), body, 0o600))
	}
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, size))
	cmd := exec.Command("sh", "-ec", script)
	cmd.Env = append(os.Environ(), "f="+path, "d="+files, "PATH=/usr/sbin:/sbin:"+os.Getenv("PATH"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

// What is not in use can be zeros, or anything, and the file system is as it was to its own checker and to whoever reads its files.
func TestUsed(t *testing.T) {
	const mib = 1 << 20
	ext := func(options string) string {
		return "mkfs.ext4 -q -F -d $d " + options + " $f; e2fsck -fn $f"
	}
	read := "cd $d; for n in *; do debugfs -R \"dump $n /dev/stdout\" $f 2>/dev/null | cmp - $n; done; e2fsck -fn $f"
	fat := "; mcopy -i $f $d/* ::; mdel -i $f ::file-03 ::file-17; rm $d/file-03 $d/file-17; fsck.fat -n $f"
	readFat := "cd $d; for n in *; do mcopy -n -i $f ::$n - | cmp - $n; done; fsck.fat -n $f"
	populated := "(printf '/\\n0 0\\nd--755 0 0\\n'; cd $d; for n in *; do echo $n ---644 0 0 $d/$n; done; echo '$') > $f.proto; "
	// Where the tests have the rights it is mounted, written to, and unmounted.
	again := "[ $(id -u) != 0 ] || { mkdir $f.m; mount -o loop $f $f.m; for n in $(seq 60); do cp $d/file-02 $f.m/more-$n; sync -f $f.m; rm -f $f.m/more-$((n-20)); done; cp $f.m/more-60 $d/; rm $f.m/more-5*; umount $f.m; }"
	readXFS := "xfs_repair -n $f >/dev/null 2>&1; [ $(id -u) != 0 ] || { mount -o loop,ro $f $f.m; cd $d; for n in *; do cmp $n $f.m/$n || touch $f.bad; done; cd /; umount $f.m; ! [ -e $f.bad ]; }"
	readBtrfs := "btrfs check --check-data-csum $f >/dev/null; mkdir $d.out; btrfs restore $f $d.out >/dev/null; diff -r $d $d.out"
	for name, c := range map[string]struct {
		kind         string
		size         int64
		script, read string
	}{
		"ext4":          {"ext4", 80 * mib, ext(""), read},
		"ext4, deleted": {"ext4", 60 * mib, ext("") + "; for n in 03 11 17; do debugfs -w -R \"rm file-$n\" $f; rm $d/file-$n; done", read},
		"ext4, 1 KiB":   {"ext4", 100 * mib, ext("-b 1024"), read},
		"ext4, 64 KiB":  {"ext4", 160 * mib, ext("-b 65536 -O ^has_journal"), "e2fsck -fn $f"},
		"ext4, meta_bg": {"ext4", 80 * mib, ext("-O meta_bg,^resize_inode -b 1024"), read},
		"ext4, bigalloc": {"ext4", 80 * mib, ext("-O bigalloc -C 65536"),
			read},
		"ext4, sparse_super2": {"ext4", 80 * mib, ext("-O sparse_super2 -b 1024"), read},
		"ext4, 32 bits":       {"ext4", 80 * mib, ext("-O ^64bit,^metadata_csum,^flex_bg"), read},
		"ext3":                {"ext3", 80 * mib, "mkfs.ext3 -q -F -d $d $f", read},
		"ext2":                {"ext2", 100 * mib, "mkfs.ext2 -q -F -d $d $f", read},
		"ext2, 1 KiB":         {"ext2", 40 * mib, "mkfs.ext2 -q -F -b 1024 -r 1 -O none -d $d $f", read},
		"FAT12":               {"vfat", 8 * mib, "mkfs.vfat -F 12 -s 8 $f >/dev/null" + fat, readFat},
		"FAT16":               {"vfat", 60 * mib, "mkfs.vfat -F 16 $f >/dev/null" + fat, readFat},
		"FAT32":               {"vfat", 80 * mib, "mkfs.vfat -F 32 $f >/dev/null" + fat, readFat},
		"xfs":                 {"xfs", 400 * mib, populated + "mkfs.xfs -q -p $f.proto $f; " + again, readXFS},
		"xfs, 1 KiB":          {"xfs", 600 * mib, populated + "mkfs.xfs -q -b size=1024 -d agcount=3 -p $f.proto $f; " + again, readXFS},
		"xfs, version 4":      {"xfs", 400 * mib, populated + "mkfs.xfs -q -m crc=0 -p $f.proto $f 2>/dev/null", "xfs_repair -n $f >/dev/null 2>&1"}, // kernels are about to mount these no more
		"btrfs":               {"btrfs", 300 * mib, "mkfs.btrfs -q -r $d $f; truncate -s 300M $f", readBtrfs},
		"btrfs, one copy":     {"btrfs", 300 * mib, "mkfs.btrfs -q -m single -n 4096 -r $d $f", readBtrfs},
		"btrfs, mixed":        {"btrfs", 100 * mib, "mkfs.btrfs -q -M -r $d $f", readBtrfs},
		"btrfs, sha256":       {"btrfs", 300 * mib, "mkfs.btrfs -q --csum sha256 -r $d $f", readBtrfs},
		"btrfs, xxhash":       {"btrfs", 300 * mib, "mkfs.btrfs -q --csum xxhash -r $d $f", readBtrfs},
		"larger partition":    {"ext4", 101 * mib, "mkfs.ext4 -q -F -d $d $f 100M; printf tail | dd of=$f bs=1 seek=105000000 conv=notrunc status=none", read + "; test $(dd if=$f bs=1 skip=105000000 count=4 status=none) = tail"},
	} {
		t.Run(name, func(t *testing.T) {
			f := made(t, c.size, c.script)
			m, err := Of(c.kind, f, c.size)
			require.NoError(t, err)
			require.Less(t, m.Bytes(), c.size*9/10)
			junk := bytes.Repeat([]byte{0x5a}, mib)
			for _, e := range m.Extents(0, c.size) {
				for at := e.Offset; e.Kind == disk.Zero && at < e.End(); at += mib {
					_, err := f.WriteAt(junk[:min(mib, e.End()-at)], at)
					require.NoError(t, err)
				}
			}
			cmd := exec.Command("sh", "-ec", c.read)
			cmd.Env = append(os.Environ(), "f="+f.Name(), "d="+filepath.Join(filepath.Dir(f.Name()), "files"), "PATH=/usr/sbin:/sbin:"+os.Getenv("PATH"))
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
		})
	}
}

// What is not known is said, and so is what makes no sense; neither is taken for empty.
func TestWhatIsNotKnown(t *testing.T) {
	_, err := Of("ntfs", bytes.NewReader(nil), 1<<20)
	require.ErrorIs(t, err, ErrUnknown)
	_, err = Of("ext4", bytes.NewReader(make([]byte, 1<<20)), 1<<20)
	require.ErrorIs(t, err, ErrUnknown)
	f := made(t, 64<<20, "mkfs.ext4 -q -F -b 4096 $f")
	change := func(at int64, b ...byte) error {
		was := make([]byte, len(b))
		_, err := f.ReadAt(was, at)
		require.NoError(t, err)
		_, err = f.WriteAt(b, at)
		require.NoError(t, err)
		_, failed := Of("ext4", f, 64<<20)
		_, err = f.WriteAt(was, at)
		require.NoError(t, err)
		return failed
	}
	require.ErrorIs(t, change(1024+0x60, 0xff), ErrUnknown)
	require.ErrorContains(t, change(1024+0x60, 0x44|0x4), "played back first")
	require.ErrorIs(t, change(1024+0x20, 0, 0, 0, 0), ErrOdd)
	require.ErrorIs(t, change(1024+4, 0xff, 0xff, 0xff, 0xff), ErrOdd)
	require.ErrorIs(t, change(4096, 0xff, 0xff, 0xff, 0xff), ErrOdd)
	bad := errors.New("bad sector")
	_, err = Of("ext4", failing{f, bad}, 64<<20)
	require.ErrorIs(t, err, bad)
	require.NotErrorIs(t, err, ErrOdd, "a disk that can't be read is no file system that makes no sense")
}

type failing struct {
	io.ReaderAt
	err error
}

func (f failing) ReadAt(p []byte, off int64) (int, error) {
	if off > 4000 {
		return 0, f.err
	}
	return f.ReaderAt.ReadAt(p, off)
}

// Ranges are what was added and small gaps besides, however they come, in bounded memory.
func TestRanges(t *testing.T) {
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 1))
		const size = 1 << 20
		m := New(size)
		m.gap, m.most = rng.Int64N(300), 8+rng.IntN(200)
		var has [size >> 8]bool
		for range rng.IntN(400) {
			from, n := rng.Int64N(size+1000)-500, rng.Int64N(5000)
			m.Add(from, n)
			for at := max(0, from); at < min(size, from+n); at++ {
				has[at>>8] = true
			}
		}
		require.LessOrEqual(t, len(m.all), m.most)
		covered := map[int64]bool{}
		last := int64(-1)
		for _, e := range m.All() {
			require.Greater(t, e.Offset, last)
			last = e.End()
			for at := e.Offset >> 8; at <= (e.End()-1)>>8; at++ {
				covered[at] = true
			}
		}
		for at, is := range has {
			require.False(t, is && !covered[int64(at)], "seed %d: %d is missing", seed, at)
		}
		at := rng.Int64N(size)
		var sum, data int64
		for _, e := range m.Extents(at, size-at) {
			require.Equal(t, at+sum, e.Offset)
			sum += e.Length
			if e.Kind == disk.Data {
				data += e.Length
			}
		}
		require.EqualValues(t, size-at, sum)
		other := New(2 * size)
		other.gap = m.gap
		other.Join(size, m)
		require.Equal(t, m.Bytes(), other.Bytes())
	}
}

// Whatever a disk says, the answer lies within, and comes in time.
func FuzzUsed(f *testing.F) {
	for _, script := range []string{"mkfs.ext4 -q -F -b 1024 -N 16 -O ^has_journal,^resize_inode $1 512k", "mkfs.vfat -F 12 $1 512 >/dev/null", "mkfs.ext2 -q -F -N 16 $1 512k"} {
		path := filepath.Join(f.TempDir(), "fs")
		require.NoError(f, os.WriteFile(path, make([]byte, 512<<10), 0o600))
		cmd := exec.Command("sh", "-c", script, "sh", path)
		cmd.Env = append(os.Environ(), "PATH=/usr/sbin:/sbin:"+os.Getenv("PATH"))
		out, err := cmd.CombinedOutput()
		require.NoError(f, err, strings.TrimSpace(string(out)))
		body, err := os.ReadFile(path)
		require.NoError(f, err)
		f.Add(body[:16<<10])
	}
	f.Fuzz(func(t *testing.T, head []byte) {
		body := make([]byte, 512<<10)
		copy(body, head)
		for _, kind := range []string{"ext4", "vfat"} {
			m, err := Of(kind, bytes.NewReader(body), int64(len(body)))
			if err != nil {
				continue
			}
			for _, e := range m.All() {
				require.True(t, e.Offset >= 0 && e.Length > 0 && e.End() <= int64(len(body)))
			}
		}
	})
}
