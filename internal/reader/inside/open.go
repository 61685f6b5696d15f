package inside

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/inode"
	"keenlodge/internal/reader"
)

// systemsFolder is where file systems are mounted, each by its name, treeFolder where they are as on their machine.
const systemsFolder, treeFolder = "/systems", "/tree"

// open opens what lies on the disks, once.
func (g *Guest) open(d reader.Disks) (reader.Opened, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.done {
		return g.opened, nil
	}
	for i, name := range d.Names {
		device, err := deviceOf(i)
		if err == nil {
			g.disks, g.names = append(g.disks, device), append(g.names, name)
			err = g.add(name, name, device)
		}
		if err != nil {
			return g.opened, fmt.Errorf("disk %s: %w", name, err)
		}
	}
	g.settle()
	g.done = true
	return g.opened, nil
}

// settle opens what lies over what was found, until nothing new comes, and all that together.
func (g *Guest) settle() {
	for n := -1; n < len(g.seen); {
		n = len(g.seen)
		g.arrays()
		g.volumes()
	}
	g.together()
}

// together mounts all that is not, and puts the tree together, anew where there was one: what was unlocked may be its root.
func (g *Guest) together() {
	for i := range g.opened.FileSystems {
		f := &g.opened.FileSystems[i]
		if f.Why == "" && g.systems[f.Name] == "" {
			place := filepath.Join(systemsFolder, strconv.Itoa(i))
			if refused, err := attach(g.devices[f.Name], place, f); err != nil {
				f.Why, f.Refused = plain.Text(err.Error(), 400), refused
			} else {
				g.systems[f.Name] = place
			}
		}
	}
	g.dismantle()
	g.assemble()
	if g.opened.Tree {
		g.users, g.groups = owners("etc/passwd"), owners("etc/group")
	}
}

// owners reads the names of the machine's own users or groups (passwd(5), group(5)), by number.
func owners(file string) map[uint32]string {
	out := map[uint32]string{}
	fd, err := inode.OpenIn(treeFolder, file, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return out
	}
	in := os.NewFile(uintptr(fd), file)
	defer in.Close()
	lines := bufio.NewScanner(io.LimitReader(in, 4<<20))
	for lines.Scan() {
		if fields := strings.Split(lines.Text(), ":"); len(fields) > 2 {
			if id, err := strconv.ParseUint(fields[2], 10, 32); err == nil && out[uint32(id)] == "" {
				out[uint32(id)] = plain.Text(fields[0], 64)
			}
		}
	}
	return out
}

// deviceOf finds the device of a disk, by its place among the guest's.
func deviceOf(i int) (string, error) {
	serials, _ := filepath.Glob("/sys/block/vd*/serial")
	for _, file := range serials {
		if body, err := os.ReadFile(file); err == nil && strings.TrimSpace(string(body)) == reader.Serial(i) {
			return filepath.Base(filepath.Dir(file)), nil
		}
	}
	return "", fmt.Errorf("it is not there")
}

// add notes what lies on a block device of a name: its partitions, or itself where it has none. disk is the disk that it is, "" where it is none.
func (g *Guest) add(name, disk, device string) error {
	g.seen[device] = true
	parts, err := filepath.Glob(filepath.Join("/sys/block", device, device+"*"))
	if err != nil {
		return err
	}
	slices.SortFunc(parts, func(a, b string) int { return numberOf(a) - numberOf(b) })
	if len(parts) == 0 {
		parts = []string{filepath.Join("/sys/block", device)}
	}
	for _, p := range parts {
		f := reader.FileSystem{Name: name, Disk: disk}
		if body, err := os.ReadFile(filepath.Join(p, "partition")); err == nil {
			between := ""
			if end := name[len(name)-1]; disk == "" && end >= '0' && end <= '9' {
				between = "p"
			}
			f.Name = name + between + strings.TrimSpace(string(body))
		}
		f.Size = 512 * sectors(p, "size")
		if disk != "" {
			f.Offset = 512 * sectors(p, "start")
		}
		if f.Size <= 1024 { // the box of logical partitions
			continue
		}
		for n, base := 2, f.Name; g.devices[f.Name] != ""; n++ { // an array may be called as a disk is
			f.Name = fmt.Sprintf("%s-%d", base, n)
		}
		g.devices[f.Name] = "/dev/" + filepath.Base(p)
		describe(g.devices[f.Name], &f)
		g.opened.FileSystems = append(g.opened.FileSystems, f)
	}
	return nil
}

func sectors(part, what string) int64 {
	body, _ := os.ReadFile(filepath.Join(part, what))
	n, _ := strconv.ParseInt(strings.TrimSpace(string(body)), 10, 64)
	return n
}

func numberOf(part string) int {
	body, _ := os.ReadFile(filepath.Join(part, "partition"))
	n, _ := strconv.Atoi(strings.TrimSpace(string(body)))
	return n
}

// describe says what lies on a device, by its first bytes.
func describe(device string, f *reader.FileSystem) {
	in, err := os.Open(device)
	if err != nil {
		f.Why = err.Error()
		return
	}
	defer in.Close()
	describeIn(in, f)
}

func describeIn(in io.ReaderAt, f *reader.FileSystem) {
	f.Format = disk.Format(in, 0, f.Size)
	at := func(offset int64, n int) []byte {
		p := make([]byte, n)
		in.ReadAt(p, offset)
		return p
	}
	text := func(offset int64, n int) string {
		p, _, _ := bytes.Cut(at(offset, n), []byte{0})
		return plain.Text(strings.TrimSpace(string(p)), 200)
	}
	uuid := func(offset int64) string {
		u := at(offset, 16)
		return fmt.Sprintf("%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:])
	}
	switch f.Format {
	case "ext2", "ext4":
		f.UUID, f.Label = uuid(0x468), text(0x478, 16)
	case "xfs":
		f.UUID, f.Label = uuid(32), text(108, 12)
	case "btrfs":
		f.UUID, f.Label = uuid(0x10020), text(0x1012b, 256)
	case "vfat":
		id, label := int64(39), int64(43)
		if string(at(82, 5)) == "FAT32" {
			id, label = 67, 71
		}
		n := binary.LittleEndian.Uint32(at(id, 4))
		f.UUID, f.Label = fmt.Sprintf("%04X-%04X", n>>16, n&0xffff), text(label, 11)
	case "ntfs":
		f.UUID = fmt.Sprintf("%016X", binary.LittleEndian.Uint64(at(0x48, 8)))
	case "swap":
		f.UUID, f.Label, f.Why = uuid(1036), text(1052, 16), "it is swap, and holds no files"
	case "iso9660":
		f.Label = text(0x8028, 32)
	case "squashfs":
	case "luks":
		f.UUID = text(168, 40)
		f.Locked, f.Why = true, "it is locked (LUKS); a key opens it"
	case "lvm":
		f.Why = "it holds logical volumes"
	case "raid":
		f.Why = "it is a part of an array"
	case "":
		f.Why = "what lies in it is no file system that is known here"
	default:
		f.Why = "what lies in it is " + f.Format + ", which can't be opened here"
	}
}

// options are those with which a kind is mounted. A journal that is not clean is played back, into an overlay of the guest's.
var options = map[string]string{"xfs": "nouuid", "vfat": "utf8=1", "btrfs": "subvolid=5"}

// drivers are what the kernel calls a kind, where that is not its name.
var drivers = map[string]string{"ext2": "ext4"}

// attach mounts a file system of a device for reading. refused says that it is what lies there that is wrong.
func attach(device, place string, f *reader.FileSystem) (refused bool, err error) {
	if err := os.MkdirAll(place, 0o755); err != nil {
		return false, err
	}
	kind := f.Format
	if driver, ok := drivers[kind]; ok {
		kind = driver
	}
	if err := load(kind); err != nil {
		return false, err
	}
	if kind == "ntfs" {
		out, err := exec.Command("/ntfs-3g", "-o", "ro,force,streams_interface=none", device, place).CombinedOutput()
		var ended *exec.ExitError
		if err != nil {
			return errors.As(err, &ended), fmt.Errorf("open it with ntfs-3g: %w: %s", err, plain.LastLine(string(out), 300))
		}
	} else {
		if kind == "btrfs" {
			if err := registerBtrfs(device); err != nil {
				return false, err
			}
		}
		if err := unix.Mount(device, place, kind, unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, options[kind]); err != nil {
			return !errors.Is(err, unix.ENODEV), fmt.Errorf("mount it: %w", err)
		}
	}
	var s unix.Statfs_t
	if unix.Statfs(place, &s) == nil {
		f.Used = int64(s.Blocks-s.Bfree) * s.Bsize
	}
	return false, nil
}

// registerBtrfs tells the kernel of a device of a btrfs, which may have several.
func registerBtrfs(device string) error {
	f, err := os.OpenFile("/dev/btrfs-control", os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	var args [4096]byte // struct btrfs_ioctl_vol_args
	copy(args[8:], device)
	const scan = 0x50009404 // BTRFS_IOC_SCAN_DEV
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), scan, uintptr(unsafe.Pointer(&args))); errno != 0 {
		return fmt.Errorf("tell the kernel of it: %w", errno)
	}
	return nil
}

// dismantle takes the tree apart. Who reads of it goes on.
func (g *Guest) dismantle() {
	if g.opened.Tree {
		unix.Unmount(treeFolder, unix.MNT_DETACH)
	}
	g.opened.Tree = false
	for i := range g.opened.FileSystems {
		g.opened.FileSystems[i].Mounted = ""
	}
}

// assemble puts the file systems together as on their machine, by the mount table of the one that has one. Where there is one file system only, and
// nothing is locked, that is the tree.
func (g *Guest) assemble() {
	var open []reader.FileSystem
	locked := false
	for _, f := range g.opened.FileSystems {
		if f.Why == "" {
			open = append(open, f)
		}
		locked = locked || f.Locked
	}
	for _, f := range open {
		roots := []string{"."}
		if f.Format == "btrfs" { // the machine's root may be a subvolume
			below, _ := os.ReadDir(g.systems[f.Name])
			for _, e := range below {
				roots = append(roots, e.Name())
			}
		}
		for _, root := range roots {
			if g.assembleBy(f.Name, root) {
				return
			}
		}
	}
	if len(open) == 1 && !locked && os.MkdirAll(treeFolder, 0o755) == nil {
		g.opened.Tree = g.bind(open[0].Name, ".", "/")
	}
}

// assembleBy puts the tree together by the mount table of a folder of a file system, if that has one.
func (g *Guest) assembleBy(name, root string) bool {
	lines := tableOf(g.systems[name], root+"/etc/fstab")
	lines = slices.DeleteFunc(lines, func(l []string) bool { return len(l) < 3 || !filepath.IsAbs(l[1]) })
	if len(lines) == 0 {
		return false
	}
	if err := os.MkdirAll(treeFolder, 0o755); err != nil || !g.bind(name, root, "/") {
		return false
	}
	g.opened.Tree = true
	g.nameUnlocked(tableOf(g.systems[name], root+"/etc/crypttab"))
	slices.SortStableFunc(lines, func(a, b []string) int { return strings.Count(a[1], "/") - strings.Count(b[1], "/") })
	for _, l := range lines {
		if of := g.named(l[0]); of != "" && filepath.Clean(l[1]) != "/" {
			g.bind(of, subvolume(l), filepath.Clean(l[1]))
		}
	}
	return true
}

// subvolume is the folder of a file system that a line of a mount table means.
func subvolume(l []string) string {
	if len(l) > 3 {
		for option := range strings.SplitSeq(l[3], ",") {
			if name, ok := strings.CutPrefix(option, "subvol="); ok {
				return "./" + name
			}
		}
	}
	return "."
}

// tableOf reads a table of a machine's: fields of lines that are no comments.
func tableOf(root, file string) (lines [][]string) {
	fd, err := inode.OpenIn(root, file, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return nil
	}
	in := os.NewFile(uintptr(fd), file)
	defer in.Close()
	table := bufio.NewScanner(io.LimitReader(in, 1<<20))
	for table.Scan() {
		if fields := strings.Fields(table.Text()); len(fields) > 1 && !strings.HasPrefix(fields[0], "#") {
			lines = append(lines, fields)
		}
	}
	return lines
}

// named finds a file system by what a mount table calls it: by UUID or label, or by the end of a device's name, for a disk may have been called
// sda on its machine.
func (g *Guest) named(spec string) string {
	for folder, what := range map[string]string{"/dev/disk/by-uuid/": "UUID=", "/dev/disk/by-label/": "LABEL="} {
		spec = strings.Replace(spec, folder, what, 1)
	}
	what, value, _ := strings.Cut(spec, "=")
	value = strings.Trim(value, `"`)
	for _, f := range g.opened.FileSystems {
		if f.Why != "" {
			continue
		}
		switch what {
		case "UUID":
			if strings.EqualFold(f.UUID, value) {
				return f.Name
			}
		case "LABEL":
			if f.Label != "" && f.Label == value {
				return f.Name
			}
		default:
			if device := strings.TrimPrefix(spec, "/dev/"); device == f.Name || g.called[device] == f.Name {
				return f.Name
			}
		}
	}
	return ""
}

// bind shows a folder of a file system at a place of the tree, if there is such a folder in both.
func (g *Guest) bind(name, sub, at string) bool {
	from, err := inode.OpenIn(g.systems[name], sub, unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return false
	}
	defer unix.Close(from)
	to, err := inode.OpenIn(treeFolder, at, unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return false
	}
	defer unix.Close(to)
	if err := unix.Mount(fmt.Sprintf("/proc/self/fd/%d", from), fmt.Sprintf("/proc/self/fd/%d", to), "", unix.MS_BIND, ""); err != nil {
		return false
	}
	if f := g.find(name); f.Mounted == "" {
		f.Mounted = at
	}
	return true
}
