package e2e

import (
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/wire"
)

// withSite changes the site, and takes that back at the test's end.
func withSite(t *testing.T, change func(s *site.Site)) {
	t.Helper()
	was, err := lodge.Site(t.Context())
	require.NoError(t, err)
	next := was
	next.Hypervisors, next.Stores, next.Policies = maps.Clone(was.Hypervisors), maps.Clone(was.Stores), maps.Clone(was.Policies)
	change(&next)
	_, err = lodge.ApplySite(t.Context(), next, false)
	require.NoError(t, err)
	t.Cleanup(func() {
		_, err := lodge.ApplySite(context.Background(), was, false)
		require.NoError(t, err)
	})
}

// withPier adds pier-2, by SSH as a person would, and takes it out at the test's end.
func withPier(t *testing.T) {
	t.Helper()
	require.NoError(t, pier())
	spec := place.Pier.OverSSH()
	withSite(t, func(s *site.Site) {}) // whatever this test does to the site is taken back
	out := keenOK(t, "hypervisor", "add", "pier-2", "--uri", spec.URI, "--host-key", spec.HostKey, "--key-file", spec.KeyFile, "--pool", spec.Pool)
	for _, step := range []string{"✓ reach ", "✓ host key ", "✓ sign in ", "✓ libvirt ", "on host pier-2.brindle.example", "✓ rights ", "✓ storage ", "✓ guest agents ", "added hypervisor pier-2 with 1 guests: crew-rota"} {
		require.Contains(t, out, step)
	}
}

// A guest that moves to another host while it runs is the same machine, and its set goes on with what changed; where its disks were copied
// without their bitmaps, it is read in full, and that says why.
func TestAGuestThatMoves(t *testing.T) {
	forFaults(t, "a guest is moved three times")
	withPier(t)
	require.Regexp(t, `pier-2 +ssh nobody@127.0.0.1:\d+ +libvirt \S+, QEMU \S+ +1 +.*✓ answers`, keenOK(t, "hypervisor", "list"))
	ctx := t.Context()
	guest := demo.Guest{Name: "gate-07", Disks: 1}
	require.NoError(t, place.Quay.MakeGuest(ctx, guest))
	t.Cleanup(func() {
		for _, h := range []*demo.Hypervisor{place.Quay, place.Pier} {
			h.Virsh(context.Background(), "destroy", guest.Name)
			h.Virsh(context.Background(), "undefine", "--checkpoints-metadata", guest.Name)
		}
		keenOK(t, "hypervisor", "find")
	})
	require.NoError(t, place.Quay.AwaitGuest(ctx, guest.Name))
	keenOK(t, "hypervisor", "find")
	folder := t.TempDir()
	withSite(t, func(s *site.Site) {
		s.Stores["gate-shelf"] = site.Store{Medium: "dir", Layout: site.Pooled, Settings: &dir.Settings{Folder: folder}}
		s.Policies["north-gate"] = site.Policy{Machines: []string{guest.Name}, Store: "gate-shelf", Cycle: "full every 9th", Rotation: "newest 5"}
	})
	machine := func() wire.Machine {
		for _, m := range keenJSON[[]wire.Machine](t, "machine", "list") {
			if m.Name == guest.Name {
				return m
			}
		}
		t.Fatal("the machine is not listed")
		return wire.Machine{}
	}
	newest := func() wire.Image {
		return keenJSON[[]wire.Image](t, "image", "list", "--machine", guest.Name, "--policy", "north-gate")[0]
	}
	before := machine()
	require.Equal(t, "quay-1", before.Hypervisor)
	backUp(t, "north-gate")
	full := newest()
	require.Equal(t, image.Full, full.Capture)

	require.NoError(t, place.Quay.Move(ctx, guest.Name, place.Pier))
	backUp(t, "north-gate")
	after := machine()
	require.Equal(t, before.ID, after.ID)
	require.Equal(t, "pier-2", after.Hypervisor)
	changes := newest()
	require.Equal(t, image.Incremental, changes.Capture, changes.CaptureWhy)
	require.Equal(t, full.ID, changes.Since)
	require.Less(t, changes.Read, full.Read/2)

	// It goes back, off, as a copy that no bitmap came along with.
	_, err := place.Pier.Virsh(ctx, "destroy", guest.Name)
	require.NoError(t, err)
	text, err := place.Pier.Virsh(ctx, "dumpxml", "--inactive", guest.Name)
	require.NoError(t, err)
	_, err = place.Pier.Virsh(ctx, "undefine", "--checkpoints-metadata", guest.Name)
	require.NoError(t, err)
	convert := fmt.Sprintf("qemu-img convert -O qcow2 %[1]s %[1]s.new && chown --reference=%[1]s %[1]s.new && mv %[1]s.new %[1]s", place.Quay.Disk(guest.Name, "vda"))
	copied, err := exec.Command("sh", "-c", convert).CombinedOutput()
	require.NoError(t, err, "%s", copied)
	file := t.TempDir() + "/gate-07.xml"
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	virsh(t, "define", file)
	backUp(t, "north-gate")
	require.Equal(t, "quay-1", machine().Hypervisor)
	whole := newest()
	require.Equal(t, image.Full, whole.Capture)
	require.True(t, strings.Contains(whole.CaptureWhy, "no checkpoint of image "+changes.ID), whole.CaptureWhy)
	keenOK(t, "image", "prove", whole.ID, "--level", "mount", "--wait")
}
