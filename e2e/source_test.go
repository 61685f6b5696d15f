package e2e

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
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
	return withTestDisk(ctx, "crew-rota")
})

// withTestDisk makes and starts a guest on pier-2 that has a disk for tests, vdb.
func withTestDisk(ctx context.Context, name string) error {
	h := place.Pier
	guest := demo.Guest{Name: name, Disks: 1, Tags: map[string]string{"tier": "silver"}, Off: true}
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
}

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

// libvirt's guests keep snapshots on their own disks: external ones, which are merged and gone back to, and internal ones with their memory.
func TestInPlaceOnLibvirt(t *testing.T) {
	forFaults(t, "it takes two minutes, most of them guests that start")
	require.NoError(t, pier())
	t.Parallel() // beside others that wait; it has a guest of its own
	require.NoError(t, withTestDisk(t.Context(), "harbour-radio"))
	t.Cleanup(func() {
		_, err := place.Pier.Virsh(context.Background(), "destroy", "harbour-radio")
		require.NoError(t, err)
	})
	dial := func(t *testing.T) source.Source {
		h, err := source.Dial(t.Context(), place.Pier.OverSSH())
		require.NoError(t, err)
		return h
	}
	subject := sourcetest.Subject{Guest: "harbour-radio", Target: "vdb", Dial: dial, NewID: image.NewID, Write: writer("harbour-radio", dial)}
	sourcetest.RunInPlace(t, subject, reader("harbour-radio", dial))
	withMemory(t, subject, reader("harbour-radio", dial))
}

// withMemory takes a snapshot of a guest with its memory, and goes back to it: the guest goes on where it was. One that somebody else made on top of it by
// other means keeps it from that, and stays.
func withMemory(t *testing.T, s sourcetest.Subject, read func(t *testing.T, at int64) []byte) {
	h := s.Dial(t)
	defer h.Close()
	keeps := h.(source.Snapshotter)
	s.Write(t, 0, 5)
	r := source.Request{Machine: s.Guest, ID: s.NewID(), Quiesce: machine.NoFreeze}
	got, err := keeps.Snap(t.Context(), r, "", true)
	require.NoError(t, err)
	require.True(t, got.Memory)
	s.Write(t, 0, 6)
	_, err = keeps.GoBack(t.Context(), s.Guest, got.ID, got.Ref, true)
	require.NoError(t, err)
	require.Equal(t, bytes.Repeat([]byte{5}, 1<<20), read(t, 0))
	was, err := keeps.Unsnap(t.Context(), s.Guest, got.ID, got.Ref)
	require.NoError(t, err)
	require.True(t, was)

	r.ID = s.NewID()
	got, err = keeps.Snap(t.Context(), r, "", false)
	require.NoError(t, err)
	_, err = place.Pier.Virsh(t.Context(), "snapshot-create-as", s.Guest, "their-own", "--disk-only", "--atomic")
	require.NoError(t, err)
	_, err = keeps.GoBack(t.Context(), s.Guest, got.ID, got.Ref, true)
	require.ErrorContains(t, err, "which somebody else made")
	found, err := keeps.Snapshots(t.Context(), s.Guest)
	require.NoError(t, err)
	require.Equal(t, []string{got.ID, ""}, []string{found[0].ID, found[1].ID})
	was, err = keeps.Unsnap(t.Context(), s.Guest, got.ID, got.Ref)
	require.NoError(t, err)
	require.True(t, was, "from the middle of a chain")
	found, err = keeps.Snapshots(t.Context(), s.Guest)
	require.NoError(t, err)
	require.Equal(t, "their-own", found[0].Name)
	require.Equal(t, bytes.Repeat([]byte{5}, 1<<20), read(t, 0))
}

// reader reads a MiB of a guest's second disk from inside, once its agent answers.
func reader(guest string, dial func(t *testing.T) source.Source) func(t *testing.T, at int64) []byte {
	return func(t *testing.T, at int64) []byte {
		h := dial(t)
		defer h.Close()
		inside, err := source.As[source.Insider](h, "run a command")
		require.NoError(t, err)
		require.Eventually(t, func() bool { return inside.Ping(t.Context(), guest) == nil }, 3*time.Minute, time.Second)
		code, output, err := inside.Execute(t.Context(), guest, []string{"/bin/sh", "-c", fmt.Sprintf(`busybox dd if=/dev/vdb bs=4k skip=%d count=256 2>/dev/null | busybox od -An -tu1 -v -w1 | busybox sort -u`, at/4096)}, time.Minute)
		require.NoError(t, err)
		require.Zero(t, code, output)
		var fill int
		n, err := fmt.Sscan(output, &fill)
		require.NoError(t, err, output)
		require.Equal(t, 1, n)
		require.Len(t, strings.Fields(output), 1, "one byte, again and again: %s", output)
		return bytes.Repeat([]byte{byte(fill)}, 1<<20)
	}
}
