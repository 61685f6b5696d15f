package block

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/mountinfo"
)

// Mount is a file system that is mounted. Used and Total are bytes.
type Mount struct {
	ID           int
	Number       uint32 // of the device that it is on, as the kernel counts; that of btrfs is of no device
	Path         string
	Kind, Source string
	Options      string
	Used, Total  int64
}

// Mounts lists what is mounted, once for each file system: at the place where it was mounted first.
func Mounts() ([]Mount, error) {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return parseMounts(f)
}

// parseMounts reads mountinfo (proc(5)).
func parseMounts(r io.Reader) ([]Mount, error) {
	var out []Mount
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		l, ok := mountinfo.Parse(lines.Text())
		id, err := strconv.Atoi(l.ID)
		dev, good := Number(l.Device)
		if !ok || err != nil || !good {
			return nil, fmt.Errorf("mountinfo: %q is not to be understood", lines.Text())
		}
		m := Mount{ID: id, Number: dev, Path: l.Point, Kind: l.Kind, Source: l.Source, Options: l.Options}
		i := slices.IndexFunc(out, func(o Mount) bool { return o.Number == m.Number })
		switch {
		case i < 0:
			out = append(out, m)
		case l.Root == "/" && out[i].Path != "/": // the whole of it rather than a part that was bound elsewhere
			m.ID = min(m.ID, out[i].ID)
			out[i] = m
		}
	}
	return out, lines.Err()
}

// Space fills in how much a file system holds.
func (m *Mount) Space() error {
	var s unix.Statfs_t
	if err := unix.Statfs(m.Path, &s); err != nil {
		return fmt.Errorf("file system at %s: %w", m.Path, err)
	}
	m.Total = int64(s.Blocks) * s.Bsize
	m.Used = m.Total - int64(s.Bfree)*s.Bsize
	return nil
}

// OnBlocks reports whether a file system lies on a disk of this server.
func (m Mount) OnBlocks() bool { return strings.HasPrefix(m.Source, "/dev/") }

// network are kinds that lie elsewhere.
var network = []string{"nfs", "nfs4", "cifs", "smb3", "9p", "ceph", "afs", "fuse.sshfs", "virtiofs", "glusterfs"}

// Network reports whether a file system lies on another computer.
func (m Mount) Network() bool { return slices.Contains(network, m.Kind) }

// place is where a mounted file system lies: the name of its disk, and where on it that begins, in bytes.
func (m Mount) place() (name string, start int64, ok bool) {
	number := m.Number
	if number>>20 == 0 { // btrfs and others have numbers of no device
		var s unix.Stat_t
		if !m.OnBlocks() || unix.Stat(m.Source, &s) != nil || s.Mode&unix.S_IFMT != unix.S_IFBLK {
			return "", 0, false
		}
		number = unix.Major(s.Rdev)<<20 | unix.Minor(s.Rdev)
	}
	path, err := filepath.EvalSymlinks(fmt.Sprintf("/sys/dev/block/%d:%d", number>>20, number&(1<<20-1)))
	if err != nil {
		return "", 0, false
	}
	name = filepath.Base(path)
	if body, err := os.ReadFile(filepath.Join(path, "start")); err == nil { // a partition
		sectors, err := strconv.ParseInt(strings.TrimSpace(string(body)), 10, 64)
		if err != nil {
			return "", 0, false
		}
		return filepath.Base(filepath.Dir(path)), sectors * sector, true
	}
	return name, 0, true
}

// standsOn lists the names of the disks on which a device stands in the end: those of logical volumes and of RAID.
func standsOn(name string) (out []string) {
	below, err := os.ReadDir(filepath.Join("/sys/class/block", name, "slaves"))
	if err != nil || len(below) == 0 {
		path, err := filepath.EvalSymlinks(filepath.Join("/sys/class/block", name))
		if err != nil {
			return nil
		}
		if _, err := os.Stat(filepath.Join(path, "partition")); err == nil {
			return []string{filepath.Base(filepath.Dir(path))}
		}
		return []string{name}
	}
	for _, b := range below {
		out = append(out, standsOn(b.Name())...)
	}
	return out
}

// On lists the mounts that lie on some disks, directly or through volumes, the last mounted first: that is the order in which they are frozen.
func On(mounts []Mount, devices []Device) []Mount {
	var out []Mount
	for _, m := range mounts {
		name, _, ok := m.place()
		if !ok {
			continue
		}
		for _, base := range standsOn(name) {
			if slices.ContainsFunc(devices, func(d Device) bool { return d.Target == strings.ReplaceAll(base, "!", "-") }) {
				out = append(out, m)
				break
			}
		}
	}
	slices.SortFunc(out, func(a, b Mount) int { return b.ID - a.ID })
	return out
}

// Removable reports whether a file system lies on a disk that can be taken out of the server.
func (m Mount) Removable() bool {
	name, _, ok := m.place()
	if !ok {
		return false
	}
	body, err := os.ReadFile(filepath.Join("/sys/class/block", name, "removable"))
	return err == nil && strings.TrimSpace(string(body)) == "1"
}
