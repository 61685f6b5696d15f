package demo

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
)

// Clock is a guest whose disk is made not to boot.
const Clock = "harbour-clock"

// MakeBroken makes a guest that is off and has the disk of another one, without a kernel. remove takes it away.
func (h *Hypervisor) MakeBroken(ctx context.Context, name, of string) (remove func(), err error) {
	raw, disk := h.p.Path(name+".raw"), h.Disk(name, "vda")
	defer os.Remove(raw)
	for _, c := range [][]string{
		{"qemu-img", "convert", "-U", "-O", "raw", h.Disk(of, "vda"), raw},
		{"debugfs", "-w", "-R", "rm /boot/vmlinuz", raw + "?offset=1048576"},
		{"qemu-img", "convert", "-O", "qcow2", raw, disk},
		{"chown", "--reference=" + filepath.Dir(disk), disk},
	} {
		if out, err := exec.CommandContext(ctx, c[0], c[1:]...).CombinedOutput(); err != nil {
			return nil, fmt.Errorf("%s: %w: %s", c[0], err, out)
		}
	}
	err = h.Define(ctx, Guest{Name: name, Disks: 1, Tags: map[string]string{"tier": "bronze"}, Off: true},
		"<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='"+disk+"'/><target dev='vda' bus='virtio'/></disk>")
	return func() {
		h.Virsh(context.Background(), "undefine", name, "--checkpoints-metadata")
		os.Remove(disk)
	}, err
}
