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
	devices := map[string]string{} // by the file system's name
	for i, name := range d.Names {
		device, err := deviceOf(i)
		if err != nil {
			return g.opened, fmt.Errorf("disk %s: %w", name, err)
		}
		found, err := partsOf(name, device, devices)
		if err != nil {
			return g.opened, fmt.Errorf("disk %s: %w", name, err)
		}
		g.opened.FileSystems = append(g.opened.FileSystems, found...)
	}
	for i := range g.opened.FileSystems {
		f := &g.opened.FileSystems[i]
		if f.Why == "" {
			if refused, err := attach(devices[f.Name], f); err != nil {
				f.Why, f.Refused = plain.Text(err.Error(), 400), refused
			}
		}
	}
	g.assemble()
	if g.opened.Tree {
		g.users, g.groups = owners("etc/passwd"), owners("etc/group")
	}
	g.done = true
	return g.opened, nil
}

// owners reads the names of the machine's own users or groups (passwd(5), group(5)), by number.
func owners(file string) map[uint32]string {
	out := map[uint32]string{}
	fd, err := openAt(treeFolder, file, unix.O_RDONLY|unix.O_NONBLOCK)
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

// partsOf lists what lies on a disk, and notes the devices.
func partsOf(name, device string, devices map[string]string) (out []reader.FileSystem, err error) {
	parts, err := filepath.Glob(filepath.Join("/sys/block", device, device+"*"))
	if err != nil {
		return nil, err
	}
	slices.SortFunc(parts, func(a, b string) int { return numberOf(a) - numberOf(b) })
	if len(parts) == 0 {
		parts = []string{filepath.Join("/sys/block", device)}
	}
	for _, p := range parts {
		f := reader.FileSystem{Name: name, Disk: name}
		if body, err := os.ReadFile(filepath.Join(p, "partition")); err == nil {
			f.Name = name + strings.TrimSpace(string(body))
		}
		if body, err := os.ReadFile(filepath.Join(p, "size")); err == nil {
			sectors, _ := strconv.ParseInt(strings.TrimSpace(string(body)), 10, 64)
			f.Size = sectors * 512
		}
		if body, err := os.ReadFile(filepath.Join(p, "start")); err == nil {
			sectors, _ := strconv.ParseInt(strings.TrimSpace(string(body)), 10, 64)
			f.Offset = sectors * 512
		}
		if f.Size <= 1024 { // the box of logical partitions
			continue
		}
		devices[f.Name] = "/dev/" + filepath.Base(p)
		describe(devices[f.Name], &f)
		out = append(out, f)
	}
	return out, nil
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
	case "":
		f.Why = "what lies in it is no file system that is known here"
	default:
		f.Why = "what lies in it is " + f.Format + ", which can't be opened here"
	}
}

// options are those with which a kind is mounted. A journal that is not clean is played back, into an overlay of the guest's.
var options = map[string]string{"xfs": "nouuid", "vfat": "utf8=1"}

// drivers are what the kernel calls a kind, where that is not its name.
var drivers = map[string]string{"ext2": "ext4"}

// attach mounts a file system of a device for reading. refused says that it is what lies there that is wrong.
func attach(device string, f *reader.FileSystem) (refused bool, err error) {
	place := filepath.Join(systemsFolder, f.Name)
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

// assemble puts the file systems together as on their machine, by the mount table of the one that has one. Where there is one file system only, that
// is the tree.
func (g *Guest) assemble() {
	var open []reader.FileSystem
	for _, f := range g.opened.FileSystems {
		if f.Why == "" {
			open = append(open, f)
		}
	}
	for _, f := range open {
		in, err := os.Open(filepath.Join(systemsFolder, f.Name, "etc/fstab"))
		if err != nil {
			continue
		}
		table := bufio.NewScanner(io.LimitReader(in, 1<<20))
		var lines [][]string
		for table.Scan() {
			if fields := strings.Fields(table.Text()); len(fields) >= 3 && !strings.HasPrefix(fields[0], "#") && filepath.IsAbs(fields[1]) {
				lines = append(lines, fields)
			}
		}
		in.Close()
		if err := os.MkdirAll(treeFolder, 0o755); err != nil || !g.bind(f.Name, "/") {
			continue
		}
		g.opened.Tree = true
		slices.SortStableFunc(lines, func(a, b []string) int { return strings.Count(a[1], "/") - strings.Count(b[1], "/") })
		for _, l := range lines {
			if name := g.named(l[0], f.Name); name != "" && filepath.Clean(l[1]) != "/" {
				g.bind(name, filepath.Clean(l[1]))
			}
		}
		return
	}
	if len(open) == 1 && os.MkdirAll(treeFolder, 0o755) == nil {
		g.opened.Tree = g.bind(open[0].Name, "/")
	}
}

// named finds a file system by what a mount table calls it: by UUID or label, or by the end of a device's name, for a disk may have been called
// sda on its machine.
func (g *Guest) named(spec, root string) string {
	what, value, _ := strings.Cut(spec, "=")
	value = strings.Trim(value, `"`)
	for _, f := range g.opened.FileSystems {
		if f.Why != "" || f.Name == root {
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
			if strings.TrimPrefix(spec, "/dev/") == f.Name {
				return f.Name
			}
		}
	}
	return ""
}

// bind shows a file system at a place of the tree, if there is such a folder.
func (g *Guest) bind(name, at string) bool {
	i := slices.IndexFunc(g.opened.FileSystems, func(f reader.FileSystem) bool { return f.Name == name })
	if err := unix.Mount(filepath.Join(systemsFolder, name), filepath.Join(treeFolder, at), "", unix.MS_BIND, ""); err != nil {
		return false
	}
	g.opened.FileSystems[i].Mounted = at
	return true
}
