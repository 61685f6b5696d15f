package places

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func TestParse(t *testing.T) {
	found := parse([]byte(`22 1 8:1 / / rw,relatime shared:1 - ext4 /dev/sda1 rw
30 22 0:25 / /run rw - tmpfs tmpfs rw
36 22 8:17 / /media/op/box\040one rw - ext4 /dev/sdb1 rw
37 22 8:17 /sub /bound rw - ext4 /dev/sdb1 rw
nonsense
38 22 0:44 / /mnt/share rw - nfs4 pier:/srv rw
`))
	require.Equal(t, []Mount{{"/", "8:1", "/dev/sda1"}, {"/media/op/box one", "8:17", "/dev/sdb1"}}, found)
}

// A folder is looked for where it was, and at the end of its path below every mount; who is not it is passed by.
func TestFind(t *testing.T) {
	asked := map[string]bool{}
	folder, err := Find("/media/op/box/keenlodge", func(folder string) bool { asked[folder] = true; return folder == "/keenlodge" })
	require.NoError(t, err)
	if folder != "" { // the root is a block device's file system on most hosts
		require.Equal(t, "/keenlodge", folder)
	}
	require.True(t, asked["/media/op/box/keenlodge"])
	folder, err = Find("/media/op/box/keenlodge", func(string) bool { return false })
	require.NoError(t, err)
	require.Empty(t, folder)
}

// Every change of what is mounted is told of.
func TestWatch(t *testing.T) {
	if testing.Short() && os.Geteuid() != 0 {
		t.Skip("mounting takes root")
	}
	w, err := NewWatch()
	require.NoError(t, err)
	defer w.Close()
	for range 20 {
		place := filepath.Join(t.TempDir(), "box")
		require.NoError(t, os.Mkdir(place, 0o700))
		require.NoError(t, unix.Mount("none", place, "tmpfs", 0, "size=64k"))
		changed, err := w.Wait(5 * time.Second)
		require.NoError(t, err)
		require.True(t, changed)
		require.NoError(t, unix.Unmount(place, 0))
		changed, err = w.Wait(5 * time.Second)
		require.NoError(t, err)
		require.True(t, changed)
	}
	w.End()
	began := time.Now()
	_, err = w.Wait(time.Minute)
	require.NoError(t, err)
	require.Less(t, time.Since(began), 30*time.Second)
}
