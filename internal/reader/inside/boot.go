package inside

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/plain"
	"keenlodge/internal/reader"
)

// usual is where UEFI looks for a boot loader on a disk of which its variables say nothing (UEFI specification 2.10, section 3.5.1.1).
const usual = "EFI/BOOT/BOOTX64.EFI"

// loaders are what boot loaders are called that stand in the folder of a system, the one that is started first before others. Those that it starts lie
// beside it under their own names.
var loaders, helpers = []string{"shimx64.efi", "grubx64.efi", "systemd-bootx64.efi"}, []string{"grubx64.efi", "mmx64.efi", "fbx64.efi"}

// findable puts a copy of the boot loader where UEFI looks for it by itself, in each file system that has one and none there.
func (g *Guest) findable(say func(string, ...any)) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	found := false
	for i := range g.opened.FileSystems {
		f := &g.opened.FileSystems[i]
		if f.Format != "vfat" || f.Why != "" || strings.HasPrefix(f.Name, reader.OldDisk) {
			continue
		}
		root := g.systems[f.Name]
		if _, err := os.Stat(filepath.Join(root, usual)); err == nil {
			found = true
			continue
		}
		vendors, err := filepath.Glob(filepath.Join(root, "EFI/*"))
		if err != nil {
			return err
		}
		for _, vendor := range vendors {
			first := firstOf(vendor, loaders)
			if first == "" {
				continue
			}
			if err := unix.Mount("", root, "", unix.MS_REMOUNT|unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
				return fmt.Errorf("open %s for writing: %w", f.Name, err)
			}
			if err := os.MkdirAll(filepath.Join(root, filepath.Dir(usual)), 0o755); err != nil {
				return err
			}
			if err := copyFile(filepath.Join(vendor, first), filepath.Join(root, usual)); err != nil {
				return err
			}
			for _, h := range helpers {
				if _, err := os.Stat(filepath.Join(vendor, h)); err == nil && h != first {
					if err := copyFile(filepath.Join(vendor, h), filepath.Join(root, filepath.Dir(usual), h)); err != nil {
						return err
					}
				}
			}
			say("%s: %s of %s is where UEFI looks by itself, too", f.Name, first, plain.Text(filepath.Base(vendor), 60))
			found = true
			break
		}
	}
	if !found {
		return errors.New("no partition has one that it could start")
	}
	return nil
}

func firstOf(folder string, names []string) string {
	for _, name := range names {
		if _, err := os.Stat(filepath.Join(folder, name)); err == nil {
			return name
		}
	}
	return ""
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o755)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}
