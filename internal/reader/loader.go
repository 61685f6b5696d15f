package reader

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"keenlodge/internal/bootable"
)

// Firmware is what a machine starts by, in words.
func Firmware(uefi bool) string {
	if uefi {
		return "UEFI"
	}
	return "a PC's BIOS"
}

// Loader is what GRUB calls what it is made for: UEFI, or a PC's BIOS.
func Loader(uefi bool) string {
	if uefi {
		return "x86_64-efi"
	}
	return "i386-pc"
}

// LoaderModules are those of a boot loader that reads a machine's own menu wherever that lies, as far as one for its firmware has them.
var LoaderModules = []string{"part_gpt", "part_msdos", "fat", "ext2", "xfs", "btrfs", "lvm", "mdraid1x", "mdraid09", "diskfilter", "normal", "configfile", "linux", "search", "search_fs_uuid", "search_fs_file", "search_label",
	"echo", "test", "gzio", "loadenv", "minicmd", "ls", "cat", "true", "halt", "reboot", "sleep", "terminal", "serial", "font", "gfxterm", "all_video", "regexp", "biosdisk", "vbe", "vga", "efi_gop", "efi_uga"}

// addLoaders adds the parts of boot loaders that this host has.
func addLoaders(a *bootable.Archive) error {
	for _, uefi := range []bool{false, true} {
		folder := filepath.Join("/usr/lib/grub", Loader(uefi))
		lists, err := os.ReadFile(filepath.Join(folder, "moddep.lst"))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		needs := map[string][]string{}
		for l := range strings.Lines(string(lists)) {
			name, others, _ := strings.Cut(strings.TrimSpace(l), ":")
			needs[name] = strings.Fields(others)
		}
		wanted := map[string]bool{}
		var want func(name string)
		want = func(name string) {
			if others, there := needs[name]; there && !wanted[name] {
				wanted[name] = true
				for _, o := range others {
					want(o)
				}
			}
		}
		for _, name := range LoaderModules {
			want(name)
		}
		files := []string{"moddep.lst", "kernel.img", "boot.img", "diskboot.img", "lzma_decompress.img"}
		for name := range wanted {
			files = append(files, name+".mod")
		}
		for _, name := range files {
			err := a.File("/grub/"+Loader(uefi)+"/"+name, filepath.Join(folder, name), 0o644)
			if err != nil && !errors.Is(err, fs.ErrNotExist) { // UEFI starts from no sectors
				return err
			}
		}
	}
	return nil
}
