package e2e

import (
	"context"
	"fmt"
	"os/exec"
	"sync"
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

// pier starts pier-2, which is reached by SSH and TLS, with crew-rota on it: a guest that has a disk for tests, vdb.
var pier = sync.OnceValue(func() error {
	ctx, h := context.Background(), place.Pier
	if err := h.OpenTLS(); err != nil {
		return err
	}
	if err := h.Start(ctx); err != nil {
		return err
	}
	if err := h.OpenSSH(ctx); err != nil {
		return err
	}
	guest := demo.Guest{Name: "crew-rota", Disks: 1, Tags: map[string]string{"tier": "silver"}, Off: true}
	if err := h.MakeGuest(ctx, guest); err != nil {
		return err
	}
	file := h.Disk(guest.Name, "vdb")
	if out, err := exec.Command("sh", "-c", fmt.Sprintf("qemu-img create -q -f qcow2 %s 32M && chown --reference=%s %[1]s", file, h.Disk(guest.Name, "vda"))).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	if _, err := h.Virsh(ctx, "attach-disk", guest.Name, file, "vdb", "--config", "--subdriver", "qcow2"); err != nil {
		return err
	}
	if _, err := h.Virsh(ctx, "start", guest.Name); err != nil {
		return err
	}
	return h.AwaitGuest(ctx, guest.Name)
})

// libvirt keeps the contract that every source keeps, whichever way it is reached, with a guest that writes to a disk of its own.
func TestLibvirtIsASource(t *testing.T) {
	require.NoError(t, pier())
	for way, spec := range map[string]site.Hypervisor{"by socket": place.Pier.Spec(), "by SSH": place.Pier.OverSSH(), "over TLS": place.Pier.OverTLS()} {
		dial := func(t *testing.T) source.Source {
			h, err := source.Dial(t.Context(), spec)
			require.NoError(t, err)
			return h
		}
		if way != "by SSH" && !faultsToo() { // it has all that the others have
			continue
		}
		t.Run(way, func(t *testing.T) {
			sourcetest.Run(t, sourcetest.Subject{Guest: "crew-rota", Target: "vdb", Dial: dial, NewID: image.NewID, Write: writer("crew-rota", dial)})
		})
	}
}

// writer writes to a guest's second disk from inside, as the conformance suite asks for.
func writer(guest string, dial func(t *testing.T) source.Source) func(t *testing.T, at int64, fill byte) {
	return func(t *testing.T, at int64, fill byte) {
		h := dial(t)
		defer h.Close()
		inside, err := source.As[source.Insider](h, "run a command")
		require.NoError(t, err)
		write := fmt.Sprintf(`busybox dd if=/dev/zero bs=1M count=1 | busybox tr '\000' '\%03o' | busybox dd of=/dev/vdb bs=4k seek=%d conv=notrunc,fsync`, fill, at/4096)
		code, output, err := inside.Execute(t.Context(), guest, []string{"/bin/sh", "-c", write}, 30*time.Second)
		require.NoError(t, err)
		require.Zero(t, code, output)
	}
}
