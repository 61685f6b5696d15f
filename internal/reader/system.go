package reader

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"keenlodge/internal/bootable"
)

// drivers are the kernel's modules that a guest needs: for itself, and to open a kind of file system.
var drivers = map[string][]string{
	"base": {"virtio_pci", "virtio_blk", "virtio_console"}, "ext4": {"ext4"}, "xfs": {"xfs"}, "btrfs": {"btrfs"}, "vfat": {"vfat", "nls_cp437", "nls_ascii"},
	"iso9660": {"isofs"}, "squashfs": {"squashfs"}, "ntfs": {"fuse"},
	"raid": {"raid0", "raid1", "raid10", "raid456", "linear"}, "lvm": {"dm_mod", "dm_snapshot", "dm_thin_pool", "dm_raid"}, "luks": {"dm_mod", "dm_crypt", "xts", "ecb", "essiv", "algif_skcipher", "algif_hash"},
}

// optional are kinds of which a kernel need not have every driver.
var optional = []string{"raid", "lvm", "luks"}

// tools are programs that open what the kernel does not by itself, and that check, resize and make file systems, where this host has them.
var tools = []string{"ntfs-3g", "mdadm", "lvm", "cryptsetup", "e2fsck", "xfs_repair", "btrfs", "fsck.fat", "resize2fs", "xfs_growfs", "mkfs.xfs", "mke2fs", "mkfs.fat", "grub-mkimage"}

// system returns the kernel that guests boot, and their first file system, which is made if it is not there or of another program.
func system(ctx context.Context, folder, program string) (kernel, initrd string, err error) {
	kernel, version, err := kernelOf()
	if err != nil {
		return "", "", err
	}
	info, err := os.Stat(program)
	if err != nil {
		return "", "", err
	}
	sum := sha256.Sum256(fmt.Append(nil, version, " ", program, " ", info.Size(), " ", info.ModTime().UnixNano()))
	initrd = filepath.Join(folder, "system-"+hex.EncodeToString(sum[:8]))
	if _, err := os.Stat(initrd); err == nil {
		return kernel, initrd, nil
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", "", err
	}
	older, _ := filepath.Glob(filepath.Join(folder, "system-*"))
	a, err := System(ctx, version, program)
	if err != nil {
		return "", "", err
	}
	part, err := os.CreateTemp(folder, ".system-")
	if err != nil {
		return "", "", err
	}
	_, err = part.Write(a.End())
	err = errors.Join(err, part.Chmod(0o644), part.Close())
	if err == nil {
		err = os.Rename(part.Name(), initrd)
	}
	if err != nil {
		return "", "", errors.Join(err, os.Remove(part.Name()))
	}
	for _, o := range older { // of an older program; a guest that is up has read its own
		if o != initrd {
			err = errors.Join(err, os.Remove(o))
		}
	}
	return kernel, initrd, err
}

// kernelOf finds the kernel of guests: the newest for clouds that this host has, for it is small, or else the newest.
func kernelOf() (file, version string, err error) {
	file, version, err = bootable.Kernel(true)
	if err == nil && version == "" {
		err = fmt.Errorf("%w: it has no kernel with modules in /boot; install linux-image-cloud-amd64", ErrUnfit)
	}
	return file, version, err
}

// System makes the first file system for a kernel of this host: our program, what it is linked with, the kernel's modules, and tools.
func System(ctx context.Context, version, program string) (*bootable.Archive, error) {
	a := bootable.New()
	if err := a.Program("/keenlodge", program); err != nil {
		return nil, err
	}
	for _, tool := range tools {
		if place, err := exec.LookPath(tool); err == nil {
			if err := a.Program("/"+tool, place); err != nil {
				return nil, err
			}
		}
	}
	if err := addLoaders(a); err != nil {
		return nil, err
	}
	for _, kind := range slices.Sorted(maps.Keys(drivers)) {
		files, err := bootable.Modules(ctx, version, drivers[kind], slices.Contains(optional, kind))
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrUnfit, err)
		}
		var names []string
		for _, file := range files {
			names = append(names, filepath.Base(file))
			if err := a.File("/modules/"+filepath.Base(file), file, 0o644); err != nil {
				return nil, err
			}
		}
		a.Add("/modules/"+kind, []byte(strings.Join(names, "\n")), 0o644)
	}
	return a, nil
}
