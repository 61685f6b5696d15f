package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/wire"
)

// lenders are the processes that lend disks.
func lenders(t *testing.T) []string {
	out, _ := exec.Command("pgrep", "-f", place.Program+" lend-disks").Output()
	return strings.Fields(string(out))
}

// A guest is up within seconds, with its disks still in the store. What lends them outlives the service, and is replaced where it dies; a store that can't
// be read stops the guest and does not kill it; at the end nothing depends on the store, and the guest has all that the image has.
func TestAtOnce(t *testing.T) {
	backUp(t, "nightly-guests")
	m := images(t, "tickets-db")[0]
	out := keenOK(t, "restore", "machine", m.ID, "--as", "tickets-now", "--at-once")
	id := regexp.MustCompile(`run (\w+) is queued`).FindStringSubmatch(out)[1]
	t.Cleanup(func() {
		virsh(t, "destroy", "tickets-now")
		virsh(t, "undefine", "tickets-now")
	})
	running := func(guest string) bool {
		return regexp.MustCompile(guest + ` +running`).MatchString(virsh(t, "list", "--all"))
	}
	require.Eventually(t, func() bool { return running("tickets-now") }, 20*time.Second, 100*time.Millisecond)
	require.Len(t, lenders(t), 1)

	// The service dies; the guest does not notice.
	service.Signal(syscall.SIGKILL)
	require.Len(t, lenders(t), 1)
	require.True(t, running("tickets-now"))
	// What lends the disks dies, too: whoever reads them is stopped, until they are lent again.
	require.NoError(t, exec.Command("kill", append([]string{"-KILL"}, lenders(t)...)...).Run())
	startService(t)
	log := func() string { return keenOK(t, "run", "log", id) }
	require.Eventually(t, func() bool { return strings.Contains(log(), "nothing of it depends on the store any more") }, 3*time.Minute, 300*time.Millisecond, log())
	require.Contains(t, log(), "what lent the disks had ended; they are lent again")
	run := keenJSON[wire.Run](t, "run", "show", id)
	require.EqualValues(t, "done", run.State, "%s%s", run.Error, log())
	require.Eventually(t, func() bool { return len(lenders(t)) == 0 }, 5*time.Second, 100*time.Millisecond)
	require.True(t, running("tickets-now"))
	for _, target := range []string{"vda", "vdb"} {
		require.NotContains(t, virsh(t, "dumpxml", "tickets-now"), "nbd", target)
	}
	left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "tickets-now*.nbd"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// A guest that is booted from an image for a while leaves nothing when it is shut down; a store that is away stops it, and it goes on when that is back.
func TestBoot(t *testing.T) {
	forFaults(t, "it waits for a guest twice")
	shelfDisk := agenttest.New(t, 1200<<20, "mkfs.ext4 -q $f")
	shelf := "tried-shelf"
	require.NoError(t, os.Mkdir(filepath.Join(shelfDisk.Mounted, "shelf"), 0o700))
	withPolicy(t, "weekly-system", policyText("timetable", shelf, "    cycle: full every 7th\n"), storeText(shelf, filepath.Join(shelfDisk.Mounted, "shelf")))
	keenOK(t, "policy", "run", "weekly-system", "--wait")
	m := keenJSON[[]wire.Image](t, "image", "list", "--store", shelf)[0]
	out := keenOK(t, "image", "boot", m.ID, "--as", "timetable-try", "--wait")
	require.Regexp(t, `its guest agent answered \d+s after the start`, out)
	require.Regexp(t, `it runs on disks that are still in store \S+, of which \S+ MiB were read so far`, out)
	require.Contains(t, out, "nothing of it stays")
	require.Contains(t, virsh(t, "domif-getlink", "timetable-try", firstMAC(t, "timetable-try")), "down")
	require.Contains(t, virsh(t, "dumpxml", "timetable-try"), "rerror_policy='stop'")

	// The store's disk fails while the guest reads what it has not read before; later it is back.
	fail(t, shelfDisk.Mounted)
	virsh(t, "qemu-agent-command", "timetable-try", `{"execute":"guest-exec","arguments":{"path":"/bin/sh","arg":["-c","cat /dev/vda /dev/vdb > /dev/null"]}}`)
	require.Eventually(t, func() bool { return strings.Contains(virsh(t, "domstate", "timetable-try"), "paused") }, 60*time.Second, 20*time.Millisecond)
	agenttest.Sh(t, "umount -l "+shelfDisk.Mounted+" && mount "+shelfDisk.Loop+" "+shelfDisk.Mounted)
	steady := 0
	require.Eventually(t, func() bool {
		if steady++; !regexp.MustCompile(`timetable-try +running`).MatchString(virsh(t, "list")) {
			steady = 0
		}
		return steady > 30
	}, 60*time.Second, 100*time.Millisecond, "it goes on, and is not stopped again")
	run := keenJSON[[]wire.Run](t, "run", "list", "--kind", "restore")[0]
	require.Contains(t, keenOK(t, "run", "log", run.ID), "was stopped, for its disks could not be read")

	virsh(t, "destroy", "timetable-try")
	require.Eventually(t, func() bool { return !strings.Contains(virsh(t, "list", "--all"), "timetable-try") }, 20*time.Second, 200*time.Millisecond)
	require.Eventually(t, func() bool { return len(lenders(t)) == 0 }, 10*time.Second, 100*time.Millisecond)
	require.Eventually(t, func() bool { return len(loans(t)) == 0 }, 5*time.Second, 100*time.Millisecond)
	left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "timetable-try*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// fail has a file system fail all that is asked of it (ext4's EXT4_IOC_SHUTDOWN), until it is mounted anew.
func fail(t *testing.T, mounted string) {
	f, err := os.Open(mounted)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, unix.IoctlSetPointerInt(int(f.Fd()), 0x8004587d, 1))
}

func firstMAC(t *testing.T, guest string) string {
	return regexp.MustCompile(`mac address='([^']+)'`).FindStringSubmatch(virsh(t, "dumpxml", guest))[1]
}

// loans are the files that say what is lent.
func loans(t *testing.T) []string {
	left, err := filepath.Glob(filepath.Join(place.Folder, "state", "lending", "*"))
	require.NoError(t, err)
	return left
}
