package block

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/used"
)

// What is in use of a file system that is mounted is at least what it says of itself once it is not.
func TestMapOfAMountedFileSystem(t *testing.T) {
	for _, kind := range []string{"ext4", "ext2"} {
		d := agenttest.New(t, 300<<20, "mkfs."+kind+" -q $f")
		body := []byte(strings.Repeat("cabin 7 ", 32<<10))
		for k := range 400 {
			name := filepath.Join(d.Mounted, fmt.Sprintf("list-%03d", k*37%100))
			if k%4 == 3 {
				os.Remove(name)
				continue
			}
			require.NoError(t, os.WriteFile(name+".new", body, 0o600))
			require.NoError(t, os.Rename(name+".new", name))
		}
		agenttest.Sh(t, "sync -f $m", "m="+d.Mounted)
		devices, err := Devices([]string{d.Loop})
		require.NoError(t, err)
		r, err := devices[0].Open()
		require.NoError(t, err)
		mounts, err := Mounts()
		require.NoError(t, err)
		m, err := MapOf(t.Context(), devices[0], r, mounts)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		require.Len(t, m.Parts, 1)
		require.Equal(t, d.Mounted, m.Parts[0].Mounted)
		require.Empty(t, m.Parts[0].Whole)
		agenttest.Sh(t, "umount $m", "m="+d.Mounted)
		f, err := os.Open(d.File)
		require.NoError(t, err)
		defer f.Close()
		itself, err := used.Of(kind, f, 300<<20)
		require.NoError(t, err)
		require.Less(t, m.Used.Bytes(), 2*itself.Bytes()+8<<20)
		for _, e := range itself.All() {
			for _, has := range m.Used.Extents(e.Offset, e.Length) {
				require.Equal(t, disk.Data, has.Kind, "%s: bytes %d to %d are in use", kind, has.Offset, has.End())
			}
		}
	}
}

// A swap area is left out but for its header, and what lies between partitions is not.
func TestMapOfPartitions(t *testing.T) {
	d := agenttest.New(t, 100<<20, `printf 'label: gpt\n2048,81920\n83968,40960,S\n' | sfdisk -q $f; mkfs.ext4 -q -F -E offset=1048576 $f 40M;
		dd if=/dev/zero of=$f.s bs=1M count=20 status=none; mkswap -q $f.s; dd if=$f.s of=$f bs=1M seek=41 conv=notrunc status=none; rm $f.s`, "noauto")
	devices, err := Devices([]string{d.Loop})
	require.NoError(t, err)
	r, err := devices[0].Open()
	require.NoError(t, err)
	defer r.Close()
	m, err := MapOf(t.Context(), devices[0], r, nil)
	require.NoError(t, err)
	require.Equal(t, "ext4", m.Parts[0].Format)
	require.Equal(t, "swap", m.Parts[1].Format)
	kind := func(at int64) disk.Kind { return m.Used.Extents(at, 512)[0].Kind }
	require.Equal(t, disk.Data, kind(0))
	require.Equal(t, disk.Data, kind(41<<20))
	require.Equal(t, disk.Zero, kind(42<<20))
	require.Equal(t, disk.Data, kind(90<<20), "what is in no partition may be anything")
	require.Less(t, m.Used.Bytes(), int64(60<<20))
	require.Greater(t, m.Ignored.Bytes(), int64(19<<20))
	layout, err := Describe(devices, nil, map[string]*Map{devices[0].Target: m})
	require.NoError(t, err)
	require.Equal(t, "gpt", layout.Disks[0].Table)
	require.Len(t, layout.Disks[0].Parts, 2)
	require.NotEmpty(t, layout.Disks[0].Parts[0].FSUUID)
	require.Contains(t, layout.Disks[0].Parts[1].Type, "0657FD6D", "the type of a swap partition")

	_, err = Devices([]string{"/dev/nothing"})
	require.ErrorContains(t, err, "has no disk /dev/nothing")
	for _, off := range []int64{0, 1, 511, 4096, 5000, 100<<20 - 3} { // any range can be read
		p, want := make([]byte, 9001), make([]byte, 9001)
		n, _ := r.ReadAt(p, off)
		f, err := os.Open(d.File)
		require.NoError(t, err)
		k, _ := f.ReadAt(want, off)
		f.Close()
		require.Equal(t, k, n)
		require.Equal(t, want[:k], p[:n], off)
	}
}

func TestParseMounts(t *testing.T) {
	got, err := parseMounts(strings.NewReader(`22 1 8:2 / / rw,relatime shared:1 - ext4 /dev/sda2 rw
30 22 8:2 /srv /mnt/bound rw - ext4 /dev/sda2 rw
31 22 8:1 / /boot/efi rw - vfat /dev/sda1 rw
40 22 8:17 /part /mnt/a\040b rw - xfs /dev/sdb1 rw
41 22 8:17 / /srv/all rw - xfs /dev/sdb1 rw
50 22 0:40 / /mnt/far rw - nfs4 quay-1.brindle.example:/x rw
`))
	require.NoError(t, err)
	var paths []string
	for _, m := range got {
		paths = append(paths, m.Path)
	}
	require.Equal(t, []string{"/", "/boot/efi", "/srv/all", "/mnt/far"}, paths)
	require.True(t, got[3].Network())
	require.EqualValues(t, 8<<20|17, got[2].Number)
	_, err = parseMounts(strings.NewReader("22 1 8:2 / / rw\n"))
	require.Error(t, err)
}
