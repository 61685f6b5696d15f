package mount

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/raw"
)

// makeDisk makes a disk with two partitions: a file system that holds a file, and swap.
func makeDisk(t *testing.T) *raw.File {
	folder := t.TempDir()
	path := filepath.Join(folder, "disk.raw")
	content := filepath.Join(folder, "content")
	require.NoError(t, os.MkdirAll(filepath.Join(content, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(content, "etc/hostname"), []byte("timetable\n"), 0o644))
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, 48<<20))
	for _, c := range []string{
		`printf '2048,65536,83\n67584,,82\n' | sfdisk -q ` + path,
		"mkfs.ext4 -q -F -d " + content + " -E offset=1048576 " + path + " 32M",
	} {
		out, err := exec.Command("sh", "-c", c).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	d, err := raw.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d
}

// requireRights has a test run as root; where time is short it is left out without.
func requireRights(t *testing.T) {
	t.Helper()
	if err := CheckRights(); err != nil && testing.Short() {
		t.Skip(err)
	} else {
		require.NoError(t, err, "the tests run as root")
	}
}

func TestFileSystemsAreMountedAndLeftClean(t *testing.T) {
	requireRights(t)
	base := filepath.Join(t.TempDir(), "mounts")
	m, err := Disks(base, map[string]disk.Disk{"vda": makeDisk(t)})
	require.NoError(t, err)
	defer m.Close()
	require.Len(t, m.FileSystems, 2)
	require.Equal(t, "vda1", m.FileSystems[0].Name())
	body, err := os.ReadFile(filepath.Join(m.FileSystems[0].Folder, "etc/hostname"))
	require.NoError(t, err)
	require.Equal(t, "timetable\n", string(body))
	require.NotEmpty(t, m.FileSystems[1].Why)
	require.ErrorContains(t, os.WriteFile(filepath.Join(m.FileSystems[0].Folder, "x"), nil, 0o600), "read-only file system")
	require.NoError(t, m.Close())
	left, err := os.ReadDir(base)
	require.NoError(t, err)
	require.Empty(t, left)
}

// A process that dies in the middle leaves mounts behind; the next one finds and removes them, and no others.
func TestCleanRemovesWhatADeadProcessLeft(t *testing.T) {
	requireRights(t)
	base := filepath.Join(t.TempDir(), "mounts")
	dead, err := Disks(base, map[string]disk.Disk{"vda": makeDisk(t)})
	require.NoError(t, err)
	alive, err := Disks(base, map[string]disk.Disk{"vda": makeDisk(t)})
	require.NoError(t, err)
	defer alive.Close()
	dead.lock.Close() // as the kernel does when a process ends

	found, err := Clean(base)
	require.NoError(t, err)
	require.Len(t, found, 2, "a file system and the disks below it")
	require.NoDirExists(t, dead.folder)
	_, err = os.ReadFile(filepath.Join(alive.FileSystems[0].Folder, "etc/hostname"))
	require.NoError(t, err)
	loops, err := exec.Command("losetup", "--list", "--noheadings", "--output", "BACK-FILE").Output()
	require.NoError(t, err)
	require.NotContains(t, string(loops), strings.TrimPrefix(dead.folder, "/"))
}

// Without root's rights the mount is refused with what would do. The test runs itself again under another account.
func TestRightsAreAskedFor(t *testing.T) {
	if os.Geteuid() != 0 {
		err := CheckRights()
		require.ErrorAs(t, err, &ErrRights{})
		require.ErrorContains(t, err, `run "keenlodge serve" as root`)
		return
	}
	program := filepath.Join("/var/tmp", fmt.Sprintf("mount-test-%d", os.Getpid()))
	body, err := os.ReadFile(os.Args[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, body, 0o755))
	defer os.Remove(program)
	cmd := exec.Command(program, "-test.run", "^TestRightsAreAskedFor$", "-test.v")
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "--- PASS: TestRightsAreAskedFor")
}

// A file system that the kernel refuses is told, and leaves nothing behind.
func TestABrokenFileSystemLeavesNothing(t *testing.T) {
	requireRights(t)
	path := filepath.Join(t.TempDir(), "disk.raw")
	out, err := exec.Command("sh", "-ec", "truncate -s 16M "+path+" && mkfs.ext4 -q -F "+path+" && dd if=/dev/urandom of="+path+" bs=1024 seek=2 count=3000 conv=notrunc status=none").CombinedOutput()
	require.NoError(t, err, string(out))
	d, err := raw.Open(path)
	require.NoError(t, err)
	defer d.Close()
	base := filepath.Join(t.TempDir(), "mounts")
	m, err := Disks(base, map[string]disk.Disk{"vda": makeDisk(t), "vdb": d})
	require.NoError(t, err)
	last := m.FileSystems[len(m.FileSystems)-1]
	require.True(t, last.Refused)
	require.NotEmpty(t, last.Why)
	require.NoError(t, m.Close())
	left, err := os.ReadDir(base)
	require.NoError(t, err)
	require.Empty(t, left)
	mounts, err := os.ReadFile("/proc/mounts")
	require.NoError(t, err)
	require.NotContains(t, string(mounts), base)
	loops, err := exec.Command("losetup", "--list", "--noheadings", "--output", "BACK-FILE").Output()
	require.NoError(t, err)
	require.NotContains(t, string(loops), base)
}
