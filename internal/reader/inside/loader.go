package inside

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"keenlodge/internal/inode"
	"keenlodge/internal/line"
	"keenlodge/internal/reader"
)

// menus are where a machine may have the boot loader's menu, below where its /boot is.
var menus = []string{"boot/grub/grub.cfg", "boot/grub2/grub.cfg"}

// boot has the machine start by other firmware: with a boot loader of the medium's, which reads the menu that the machine has.
func (g *Guest) boot(b reader.Boot, say func(string, ...any)) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.opened.Tree {
		return line.Refuse(line.Unknown, "the disks have no mount table, so there is no tree in which its boot loader's menu could be")
	}
	uuid, prefix, err := g.menu()
	if err != nil {
		return err
	}
	find := fmt.Sprintf("search --no-floppy --fs-uuid --set=root %s\nset prefix=($root)%s\n", uuid, prefix)
	if b.UEFI {
		err = g.startByUEFI(b, find)
	} else {
		err = g.startByBIOS(b, find)
	}
	if err == nil {
		say("it starts by %s, with a boot loader of its own, which reads %s/grub.cfg", reader.Firmware(b.UEFI), prefix)
	}
	return err
}

// menu finds in which file system the boot loader's menu lies, by its UUID, and in which folder of that.
func (g *Guest) menu() (uuid, prefix string, err error) {
	for _, file := range menus {
		fd, err := inode.OpenIn(treeFolder, file, unix.O_PATH)
		if err != nil {
			continue
		}
		unix.Close(fd)
		holds, below := "/", "/"+path.Dir(file)
		if slices.ContainsFunc(g.opened.FileSystems, func(f reader.FileSystem) bool { return f.Mounted == "/boot" }) {
			holds, below = "/boot", "/"+path.Dir(strings.TrimPrefix(file, "boot/"))
		}
		for _, f := range g.opened.FileSystems {
			if f.Mounted != holds {
				continue
			}
			if f.UUID == "" {
				return "", "", fmt.Errorf("the file system %s, which has /%s, has no UUID", f.Name, file)
			}
			if f.Format == "btrfs" && holds == "/" { // whose root may be a folder of it
				for _, sub := range []string{"", "/@", "/@rootfs", "/root"} {
					if _, err := os.Stat(filepath.Join(g.systems[f.Name], sub, file)); err == nil {
						below = sub + below
						break
					}
				}
			}
			return strings.ToLower(f.UUID), below, nil
		}
	}
	return "", "", errors.New("it has no /boot/grub/grub.cfg: what starts it is no boot loader whose menu can be read from the other firmware")
}

// grubImage makes a boot loader that runs some commands before anything else.
func grubImage(uefi bool, prefix, early string) ([]byte, error) {
	kind := reader.Loader(uefi)
	folder := "/grub/" + kind
	if _, err := os.Stat(folder); err != nil {
		return nil, fmt.Errorf("there is no boot loader for it here: the host where this guest or medium was made had none; install grub-pc-bin and grub-efi-amd64-bin there")
	}
	if err := os.WriteFile("/run/early.cfg", []byte(early), 0o600); err != nil {
		return nil, err
	}
	var has []string
	for _, m := range reader.LoaderModules {
		if _, err := os.Stat(folder + "/" + m + ".mod"); err == nil {
			has = append(has, m)
		}
	}
	if _, err := tool(nil, "grub-mkimage", slices.Concat([]string{"-d", folder, "-O", kind, "-o", "/run/core", "-p", prefix, "-c", "/run/early.cfg"}, has)...); err != nil {
		return nil, err
	}
	return os.ReadFile("/run/core")
}

// startByUEFI makes an EFI system partition with a boot loader where firmware looks by itself.
func (g *Guest) startByUEFI(b reader.Boot, find string) error {
	f := g.find(b.Partition)
	if f == nil {
		return line.Refuse(line.Unknown, "there is no partition %q", b.Partition)
	}
	core, err := grubImage(true, "/EFI/BOOT", "configfile $cmdpath/grub.cfg\n")
	if err != nil {
		return err
	}
	if _, err := tool(nil, "mkfs.fat", "-F", "32", "-n", "EFI", g.devices[f.Name]); err != nil {
		return err
	}
	f.Format, f.Why = "vfat", ""
	return g.mounted(f, func(at string) error {
		if err := os.MkdirAll(filepath.Join(at, filepath.Dir(usual)), 0o755); err != nil {
			return err
		}
		return errors.Join(os.WriteFile(filepath.Join(at, usual), core, 0o755),
			os.WriteFile(filepath.Join(at, filepath.Dir(usual), "grub.cfg"), []byte(find+"configfile $prefix/grub.cfg\n"), 0o644))
	})
}

// What of a boot sector and of the sector behind it says where the rest lies (GRUB 2.06, include/grub/i386/pc/boot.h and grub-core/boot/i386/pc/diskboot.S):
// offsets in bytes.
const (
	bootRest, bootDrive, bootCheck = 0x5c, 0x64, 0x66
	bootTable, bootFloppy          = 440, 0x5a
	listAt, listSegment            = 512 - 12, 0x820
)

// startByBIOS writes a boot loader to the first sector of a disk and its rest behind it, or into a partition that is for it.
func (g *Guest) startByBIOS(b reader.Boot, find string) error {
	i := slices.Index(g.names, b.Disk)
	if i < 0 {
		return line.Refuse(line.Unknown, "there is no disk %q", b.Disk)
	}
	start, room := int64(512), g.firstPart(b.Disk)-512
	if b.Partition != "" {
		f := g.find(b.Partition)
		if f == nil {
			return line.Refuse(line.Unknown, "there is no partition %q", b.Partition)
		}
		start, room = f.Offset, f.Size
	}
	core, err := grubImage(false, "/boot/grub", find)
	if err != nil {
		return err
	}
	boot, err := os.ReadFile("/grub/" + reader.Loader(false) + "/boot.img")
	if err != nil {
		return err
	}
	if int64(len(core)) > room || len(boot) != 512 || len(core) < 1024 {
		return fmt.Errorf("the boot loader takes %d bytes, and where its rest goes on disk %s there is room for %d", len(core), b.Disk, room)
	}
	out, err := os.OpenFile("/dev/"+g.disks[i], os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer out.Close()
	was := make([]byte, 512)
	if _, err := out.ReadAt(was, 0); err != nil {
		return err
	}
	le := binary.LittleEndian
	copy(boot[bootTable:], was[bootTable:])
	copy(boot[3:bootFloppy], was[3:bootFloppy])
	le.PutUint64(boot[bootRest:], uint64(start/512))
	boot[bootDrive] = 0xff                                   // the one that it is started from
	boot[bootCheck], boot[bootCheck+1] = 0x90, 0x90          // which some firmware says wrongly of floppy disks, and nobody of others
	le.PutUint64(core[listAt:], uint64(start/512)+1)         // where the rest of it lies,
	le.PutUint16(core[listAt+8:], uint16((len(core)-1)/512)) // how many sectors that are,
	le.PutUint16(core[listAt+10:], listSegment)              // and where in memory it goes
	if _, err := out.WriteAt(core, start); err != nil {
		return err
	}
	if _, err := out.WriteAt(boot, 0); err != nil {
		return err
	}
	return out.Sync()
}

// firstPart is where the first partition of a disk begins, in bytes.
func (g *Guest) firstPart(disk string) int64 {
	first := int64(0)
	for _, f := range g.opened.FileSystems {
		if f.Disk == disk && f.Offset > 0 && (first == 0 || f.Offset < first) {
			first = f.Offset
		}
	}
	return first
}
