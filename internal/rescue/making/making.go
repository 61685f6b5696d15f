// Package making makes rescue media: an ISO image from which PCs start by their BIOS and by UEFI, from a disc or a USB stick, and the same as files for
// starting over a network. What is on it is Debian's kernel, our program and the tools for file systems that this host has.
package making

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"keenlodge/internal/bootable"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/reader"
	"keenlodge/internal/rescue"
)

// Wish says what a medium is to know.
type Wish struct {
	// Program is ours.
	Program string
	// Lodge is the address that is proposed, Pin the fingerprint of its authority; "" for neither.
	Lodge, Pin string
}

// Medium is what a medium starts: a kernel, its first file system, and what the kernel is told.
type Medium struct {
	Kernel, Version string
	Initrd          []byte
	Line            string
}

// hardware are the folders of a kernel's modules that drive what a machine may have: disks and what they hang on, network cards, keyboards.
var hardware = []string{"drivers/ata", "drivers/scsi", "drivers/message", "drivers/nvme", "drivers/block", "drivers/virtio", "drivers/md", "drivers/usb/host", "drivers/usb/storage", "drivers/usb/core", "drivers/hid",
	"drivers/net/ethernet", "drivers/net/phy", "drivers/net/mdio", "drivers/net/pcs", "drivers/net/virtio_net.ko", "drivers/net/net_failover.ko", "drivers/net/vmxnet3", "drivers/mmc", "drivers/cdrom", "drivers/hv", "drivers/xen", "drivers/nvdimm", "drivers/mfd",
	"drivers/input/serio", "drivers/input/keyboard", "drivers/char/virtio_console.ko", "net/packet", "fs/fuse", "fs/fat", "fs/nls", "fs/isofs", "fs/ext4", "fs/xfs", "fs/btrfs", "fs/efivarfs"}

// Make makes what a medium starts.
func Make(ctx context.Context, w Wish) (Medium, error) {
	m := Medium{}
	var err error
	if m.Kernel, m.Version, err = bootable.Kernel(false); err != nil {
		return m, err
	}
	if m.Version == "" {
		return m, fmt.Errorf("this host has no kernel with modules in /boot; install linux-image-amd64")
	}
	a, err := reader.System(ctx, m.Version, w.Program)
	if err != nil {
		return m, err
	}
	for _, name := range []string{"kmod", "busybox", "losetup", "mount", "umount"} {
		file, err := exec.LookPath(name)
		if err != nil {
			return m, fmt.Errorf("this host has no %s, which a medium needs: %w; install kmod, mount and busybox-static", name, err)
		}
		if err := a.Program("/"+name, file); err != nil {
			return m, err
		}
	}
	if err := modules(a, m.Version); err != nil {
		return m, err
	}
	if err := trusted(a); err != nil {
		return m, err
	}
	var packed bytes.Buffer
	z, err := zstd.NewWriter(&packed)
	if err != nil {
		return m, err
	}
	if _, err := z.Write(a.End()); err != nil {
		return m, err
	}
	if err := z.Close(); err != nil {
		return m, err
	}
	m.Initrd = packed.Bytes()
	words := []string{"console=ttyS0,115200", "console=tty0", "quiet", "loglevel=3", "rdinit=/keenlodge"}
	for _, told := range [][2]string{{"lodge", w.Lodge}, {"pin", w.Pin}} {
		if strings.ContainsAny(told[1], " \t\n\"'") {
			return m, fmt.Errorf("the %s %q can't be put on a medium: a kernel is told in words, without spaces and quotes", told[0], told[1])
		}
		if told[1] != "" {
			words = append(words, "keenlodge."+told[0]+"="+told[1])
		}
	}
	m.Line = strings.Join(append(words, "--", rescue.Command), " ")
	return m, nil
}

// modules adds the modules for hardware, with those that they need, and the lists by which they are found.
func modules(a *bootable.Archive, version string) error {
	root := filepath.Join("/lib/modules", version)
	needs, err := os.ReadFile(filepath.Join(root, "modules.dep"))
	if err != nil {
		return err
	}
	add := func(rel string) error { return a.File(filepath.Join(root, rel), filepath.Join(root, rel), 0o644) }
	for l := range strings.Lines(string(needs)) {
		module, others, _ := strings.Cut(strings.TrimSpace(l), ":")
		if !slices.ContainsFunc(hardware, func(h string) bool {
			below, ok := strings.CutPrefix(module, "kernel/"+h)
			return ok && (below == "" || below[0] == '/' || strings.HasSuffix(h, ".ko"))
		}) {
			continue
		}
		for _, rel := range append(strings.Fields(others), module) {
			if err := add(rel); err != nil {
				return err
			}
		}
	}
	lists, err := filepath.Glob(filepath.Join(root, "modules.*"))
	if err != nil {
		return err
	}
	for _, file := range lists {
		if err := add(filepath.Base(file)); err != nil {
			return err
		}
	}
	return nil
}

// trusted adds the certificates by which this host knows others, for services that are spoken to over TLS.
func trusted(a *bootable.Archive) error {
	const file = "/etc/ssl/certs/ca-certificates.crt"
	body, err := os.ReadFile(file)
	if os.IsNotExist(err) {
		return nil
	}
	if err == nil {
		a.Add(file, body, 0o644)
	}
	return err
}

// ISO writes a medium as an ISO image, which is a disk image for a USB stick at the same time. It needs GRUB's tools and xorriso on this host.
func (m Medium) ISO(ctx context.Context, out string) error {
	folder, err := os.MkdirTemp("", "keenlodge-rescue-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	menu := fmt.Sprintf("set timeout=3\nserial --unit=0 --speed=115200\nterminal_input console serial\nterminal_output console serial\nmenuentry 'Keen Lodge: rescue' {\n\tlinux /boot/vmlinuz %s\n\tinitrd /boot/initrd\n}\n", m.Line)
	if err := m.files(filepath.Join(folder, "boot"), map[string]string{"grub/grub.cfg": menu}); err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, "grub-mkrescue", "-o", out, folder, "--", "-volid", rescue.Label)
	said, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("grub-mkrescue: %w: %s; it needs the packages grub-common, grub-pc-bin, grub-efi-amd64-bin, mtools and xorriso", err, plain.LastLine(string(said), 300))
	}
	return nil
}

// NetFiles are the names of the files for starting over a network: what iPXE is told, the kernel, and its first file system.
var NetFiles = []string{"boot.ipxe", "vmlinuz", "initrd"}

// Net writes a medium as files for starting over a network by iPXE (https://ipxe.org/scripting), into a folder that HTTP serves.
func (m Medium) Net(folder string) error {
	script := "#!ipxe\nkernel vmlinuz initrd=initrd " + m.Line + "\ninitrd initrd\nboot\n"
	return m.files(folder, map[string]string{NetFiles[0]: script})
}

// files writes the kernel and its first file system, and others by name.
func (m Medium) files(folder string, others map[string]string) error {
	kernel, err := os.ReadFile(m.Kernel)
	if err != nil {
		return err
	}
	all := map[string][]byte{NetFiles[1]: kernel, NetFiles[2]: m.Initrd}
	for name, body := range others {
		all[name] = []byte(body)
	}
	for name, body := range all {
		place := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(place), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(place, body, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// Handler serves what [Medium.Net] wrote into a folder, and nothing else.
func Handler(folder string) http.Handler {
	files := http.NewServeMux()
	for _, name := range NetFiles {
		files.HandleFunc("GET /"+name, func(w http.ResponseWriter, r *http.Request) { http.ServeFile(w, r, filepath.Join(folder, name)) })
	}
	return files
}
