package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/qemu"
	"keenlodge/internal/source/sourcetest"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

// QEMU by itself keeps the contract of sources, with a guest that nobody but its process knows; a policy covers it, its second image is what
// changed, and a QEMU that was killed and started anew is read in full.
func TestQEMUByItself(t *testing.T) {
	t.Parallel() // beside others that wait; of these none changes the site
	guest := demo.Guest{Name: "gate-09", Disks: 1}
	folder := place.Folder + "/g"
	require.NoError(t, os.MkdirAll(folder, 0o711))
	require.NoError(t, place.Quay.MakeDisks(t.Context(), guest))
	vda, vdb := place.Quay.Disk(guest.Name, "vda"), place.Quay.Disk(guest.Name, "vdb")
	out, err := exec.Command("sh", "-c", fmt.Sprintf("qemu-img create -q -f qcow2 %[1]s 32M && chown --reference=%[2]s %[1]s %[3]s", vdb, vda, folder)).CombinedOutput()
	require.NoError(t, err, "%s", out)
	start := func() *exec.Cmd {
		accel := []string{"-accel", "tcg"}
		if place.Quay.KVM() {
			accel = []string{"-accel", "kvm", "-cpu", "host"}
		}
		who, err := os.Stat(vda)
		require.NoError(t, err)
		cmd := exec.Command("qemu-system-x86_64", append(accel, "-name", guest.Name, "-uuid", "0f7e3a52-66a1-4c55-9d3b-3f2f1a0c9e09", "-m", "160", "-nodefaults", "-display", "none", "-serial", "null",
			"-qmp", "unix:"+folder+"/gate-09.qmp,server=on,wait=off",
			"-chardev", "socket,id=agent,path="+folder+"/gate-09.qga,server=on,wait=off", "-device", "virtio-serial", "-device", "virtserialport,chardev=agent,name=org.qemu.guest_agent.0",
			"-blockdev", "qcow2,node-name=disk0,file.driver=file,file.filename="+vda, "-device", "virtio-blk-pci,drive=disk0,id=vda",
			"-blockdev", "qcow2,node-name=disk1,file.driver=file,file.filename="+vdb, "-device", "virtio-blk-pci,drive=disk1,id=vdb")...)
		st := who.Sys().(*syscall.Stat_t)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: st.Uid, Gid: st.Gid}}
		log, err := os.Create(filepath.Join(t.TempDir(), "log"))
		require.NoError(t, err)
		defer log.Close()
		cmd.Stdout, cmd.Stderr = log, log
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
		h, err := qemu.Open(folder)
		require.NoError(t, err)
		for end := time.Now().Add(4 * time.Minute); h.Ping(t.Context(), guest.Name) != nil; time.Sleep(200 * time.Millisecond) {
			said, err := os.ReadFile(log.Name())
			require.NoError(t, err)
			require.Empty(t, string(said), "QEMU complains")
			require.True(t, time.Now().Before(end), "the guest does not answer")
		}
		return cmd
	}
	process := start()
	spec := site.Hypervisor{Kind: qemu.Kind, URI: folder}
	dial := func(t *testing.T) source.Source {
		h, err := source.Dial(t.Context(), spec)
		require.NoError(t, err)
		return h
	}
	sourcetest.Run(t, sourcetest.Subject{Guest: guest.Name, Target: "vdb", Dial: dial, NewID: image.NewID, Write: writer(guest.Name, dial)})

	shelf := t.TempDir()
	out2 := keenOK(t, "hypervisor", "probe", "--kind", "qemu", "--uri", folder)
	require.Contains(t, out2, "✓ machines  it has 1")
	withSite(t, func(s *site.Site) {
		s.Hypervisors["gate-host"] = spec
		s.Stores["gate-shelf"] = site.Store{Medium: "dir", Layout: site.Pooled, Settings: &dir.Settings{Folder: shelf}}
		s.Policies["north-gate"] = site.Policy{Machines: []string{guest.Name}, Store: "gate-shelf", Cycle: "full every 9th", Rotation: "newest 5", Prove: image.ByRead}
	})
	newest := func() wire.Image {
		backUp(t, "north-gate")
		return keenJSON[[]wire.Image](t, "image", "list", "--machine", guest.Name, "--policy", "north-gate")[0]
	}
	full := newest()
	require.Equal(t, []string{"full", "filesystem"}, []string{string(full.Capture), string(full.Consistency)})
	changes := newest()
	require.Equal(t, image.Incremental, changes.Capture, changes.CaptureWhy)
	require.Less(t, changes.Read, full.Read/3)
	left, err := filepath.Glob(folder + "/keenlodge-*")
	require.NoError(t, err)
	require.Empty(t, left)

	killedRuns(t, "north-gate", func() bool {
		left, err := filepath.Glob(folder + "/keenlodge-*")
		h, opened := qemu.Open(folder)
		if err != nil || opened != nil || len(left) > 0 {
			return false
		}
		frozen, err := h.Frozen(t.Context(), guest.Name)
		open, asked := h.Captures(t.Context(), guest.Name)
		return err == nil && !frozen && asked == nil && len(open) == 0
	})

	// A process that is killed has not written its bitmaps.
	require.NoError(t, process.Process.Kill())
	process.Wait()
	start()
	whole := newest()
	require.Equal(t, image.Full, whole.Capture)
	require.True(t, strings.Contains(whole.CaptureWhy, "bitmap of image"), whole.CaptureWhy)
	last := newest()
	require.Equal(t, image.Incremental, last.Capture)

	r := keen(t, "image", "restore", last.ID, "--as", "gate-10", "--wait")
	require.NotZero(t, r.code)
	require.Contains(t, r.out+r.err, "a source of this kind can't make machines")
}
