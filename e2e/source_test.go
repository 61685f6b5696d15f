package e2e

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	_ "keenlodge/internal/source/libvirt"
	"keenlodge/internal/source/sourcetest"
)

// libvirt keeps the contract that every source keeps, with a guest of its own that writes to a disk of its own.
func TestLibvirtIsASource(t *testing.T) {
	ctx := t.Context()
	guest := demo.Guest{Name: "gate-07", Disks: 1, Off: true}
	require.NoError(t, place.MakeGuest(ctx, guest))
	t.Cleanup(func() {
		place.Virsh(context.Background(), "destroy", guest.Name)
		place.Virsh(context.Background(), "undefine", "--checkpoints-metadata", guest.Name)
	})
	disks := ""
	of := func(target string) string { return filepath.Join(place.Folder, "pool", guest.Name+"-"+target+".qcow2") }
	out, err := exec.Command("qemu-img", "create", "-q", "-f", "qcow2", of("vdb"), "32M").CombinedOutput()
	require.NoError(t, err, "%s", out)
	out, err = exec.Command("chown", "--reference", of("vda"), of("vdb")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, target := range []string{"vda", "vdb"} {
		disks += fmt.Sprintf("<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='%s'/><target dev='%s' bus='virtio'/></disk>", of(target), target)
	}
	_, err = place.Virsh(ctx, "undefine", guest.Name)
	require.NoError(t, err)
	guest.Off = false
	require.NoError(t, place.Define(ctx, guest, disks))
	require.NoError(t, place.AwaitGuest(ctx, guest.Name))
	dial := func(t *testing.T) source.Source {
		h, err := source.Dial(t.Context(), site.Hypervisor{URI: place.URI()})
		require.NoError(t, err)
		return h
	}
	sourcetest.Run(t, sourcetest.Subject{Guest: guest.Name, Target: "vdb", Dial: dial, NewID: image.NewID,
		Write: func(t *testing.T, at int64, fill byte) {
			h := dial(t)
			defer h.Close()
			inside, err := source.As[source.Insider](h, "run a command")
			require.NoError(t, err)
			write := fmt.Sprintf(`busybox dd if=/dev/zero bs=1M count=1 | busybox tr '\000' '\%03o' | busybox dd of=/dev/vdb bs=4k seek=%d conv=notrunc,fsync`, fill, at/4096)
			code, output, err := inside.Execute(t.Context(), guest.Name, []string{"/bin/sh", "-c", write}, 30*time.Second)
			require.NoError(t, err)
			require.Zero(t, code, output)
		}})
}
