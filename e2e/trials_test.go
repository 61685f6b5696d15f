package e2e

import (
	"context"
	"encoding/json"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/core/trial"
	"keenlodge/internal/wire"
)

// requireNoTrial makes sure that nothing of a trial is left on the hypervisor.
func requireNoTrial(t *testing.T) {
	t.Helper()
	require.NotContains(t, virsh(t, "list", "--all", "--name"), "keenlodge-trial")
	left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "keenlodge-trial*"))
	require.NoError(t, err)
	require.Empty(t, left)
	processes, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, p := range processes {
		body, err := os.ReadFile(p)
		if err == nil {
			require.NotContains(t, string(body), "guest=keenlodge-trial", p)
		}
	}
}

// proven is the newest proof of an image.
func proven(t *testing.T, id string) wire.Proof {
	t.Helper()
	var m wire.ProvenImage
	require.NoError(t, json.Unmarshal([]byte(keenOK(t, "image", "show", id, "-o", "json")), &m))
	require.NotEmpty(t, m.Proofs)
	return m.Proofs[0]
}

// Guests that need each other come up from their images in order and in one network, and are asked what is expected of them; all goes that they had.
func TestATrial(t *testing.T) {
	folder := t.TempDir()
	withPolicy(t, "tried", policyText("tickets-db, timetable", "tried-shelf", "    trials:\n      - ports: [8080]\n        ledger: 1 minute\n"), storeText("tried-shelf", folder))
	backUp(t, "tried")
	t.Log(keenOK(t, "group", "prove", "ticketing", "--wait"))
	require.Regexp(t, `ticketing +1 +tickets-db .* ✓ boot`, keenOK(t, "group", "list"))
	requireNoTrial(t)
	list := keenJSON[[]wire.Image](t, "image", "list", "--policy", "tried")
	require.Len(t, list, 2)
	for _, m := range list {
		p := proven(t, m.ID)
		require.True(t, p.Passed, p.Error)
		require.EqualValues(t, "boot", p.Level)
		names := []string{}
		for _, f := range p.Report.Steps {
			require.True(t, f.Passed)
			names = append(names, f.Name)
		}
		require.Contains(t, names, "port 8080")
		require.Contains(t, names, "ledger")
		require.Less(t, p.Report.Read, p.Report.Disks*4/10, "most of it stays in the store")
		if m.Machine == "timetable" {
			require.Contains(t, names, "busybox wget -q -O - http://192.0.2.21:8080/sailings.txt", "it reached the other one")
		}
	}
	saved := t.TempDir()
	keenOK(t, "image", "evidence", list[0].ID, "--into", saved)
	requirePictures(t, saved)
}

// A guest whose boot loader finds nothing to start is told apart, with the reason and pictures.
func TestAGuestThatDoesNotStart(t *testing.T) {
	makeBroken(t, "harbour-clock")
	folder := t.TempDir()
	withPolicy(t, "tried", policyText("harbour-clock", "tried-shelf", ""), storeText("tried-shelf", folder))
	keenOK(t, "policy", "run", "tried", "--wait")
	m := keenJSON[[]wire.Image](t, "image", "list", "--policy", "tried")[0]
	s := keen(t, "image", "prove", m.ID, "--level", "boot", "--wait")
	require.NotZero(t, s.code)
	p := proven(t, m.ID)
	require.False(t, p.Passed)
	require.Equal(t, trial.Loader, p.Report.Cause, p.Error)
	require.Contains(t, p.Error, "it stays in its boot loader: it says \"error: file `/boot/vmlinuz' not found.\"")
	require.Contains(t, keenOK(t, "image", "list", "--policy", "tried"), "✗ failed")
	requireNoTrial(t)
	saved := t.TempDir()
	keenOK(t, "image", "evidence", m.ID, "--into", saved)
	requirePictures(t, saved)
}

// requirePictures makes sure that a folder has pictures of screens.
func requirePictures(t *testing.T, folder string) {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(folder, "*.png"))
	require.NoError(t, err)
	require.NotEmpty(t, found)
	for _, file := range found {
		f, err := os.Open(file)
		require.NoError(t, err)
		shown, err := png.Decode(f)
		require.NoError(t, err, file)
		require.GreaterOrEqual(t, shown.Bounds().Dx(), 640)
		require.NoError(t, f.Close())
	}
}

// makeBroken makes a guest that is off, and has no kernel.
func makeBroken(t *testing.T, name string) {
	t.Helper()
	raw, disk := filepath.Join(t.TempDir(), "disk.raw"), place.Quay.Disk(name, "vda")
	run := func(args ...string) {
		out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	run("qemu-img", "convert", "-O", "raw", place.Quay.Disk("berth-sim", "vda"), raw)
	run("debugfs", "-w", "-R", "rm /boot/vmlinuz", raw+"?offset=1048576")
	run("qemu-img", "convert", "-O", "qcow2", raw, disk)
	run("chown", "--reference="+place.Quay.Disk("berth-sim", "vda"), disk)
	require.NoError(t, place.Quay.Define(t.Context(), demo.Guest{Name: name, Disks: 1, Off: true},
		"<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='"+disk+"'/><target dev='vda' bus='virtio'/></disk>"))
	t.Cleanup(func() {
		place.Quay.Virsh(context.Background(), "undefine", name, "--checkpoints-metadata")
		os.Remove(disk)
	})
}
