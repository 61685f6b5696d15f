package block

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// Layout is all that is needed to lay a server out again on empty disks, and that a person reads first. Sizes are in bytes.
type Layout struct {
	Kind   string       `json:"kind"` // "server"
	Host   string       `json:"host"`
	System string       `json:"system"`
	Kernel string       `json:"kernel"`
	Arch   string       `json:"arch"`
	Boot   string       `json:"boot"` // "bios" or "uefi"
	CPUs   int          `json:"cpus,omitempty"`
	Memory int64        `json:"memory,omitempty"`
	Disks  []LayoutDisk `json:"disks"`
	// Volumes are logical volumes and software RAID, as lsblk tells of them.
	Volumes []LayoutVolume `json:"volumes,omitempty"`
	// FStab is the mount table.
	FStab string `json:"fstab,omitempty"`
	// LeftOut says what of the server is not in its images, and why.
	LeftOut []string `json:"left_out,omitempty"`
}

// LayoutDisk is a disk, as it was.
type LayoutDisk struct {
	Target string       `json:"target"`
	Size   int64        `json:"size"`
	Sector int64        `json:"sector"`
	Model  string       `json:"model,omitempty"`
	Serial string       `json:"serial,omitempty"`
	Table  string       `json:"table,omitempty"` // "gpt", "dos"; "" for a disk without one
	ID     string       `json:"id,omitempty"`    // of the table
	Parts  []LayoutPart `json:"parts"`
}

// LayoutPart is a partition, or a whole disk where its number is 0.
type LayoutPart struct {
	Number  int    `json:"number"`
	Start   int64  `json:"start"`
	Size    int64  `json:"size"`
	Type    string `json:"type,omitempty"` // of the partition: a GUID, or a number in hexadecimal
	UUID    string `json:"part_uuid,omitempty"`
	Name    string `json:"part_name,omitempty"`
	Holds   string `json:"holds,omitempty"` // ext4, swap, LVM2_member …
	Label   string `json:"label,omitempty"`
	FSUUID  string `json:"uuid,omitempty"`
	Mounted string `json:"mounted,omitempty"`
	Free    int64  `json:"free,omitempty"`  // not read
	Whole   string `json:"whole,omitempty"` // why all of it is read
}

// LayoutVolume is something that stands on disks.
type LayoutVolume struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind"` // lvm, raid1, crypt …
	Size    int64    `json:"size"`
	On      []string `json:"on"`
	Holds   string   `json:"holds,omitempty"`
	Label   string   `json:"label,omitempty"`
	UUID    string   `json:"uuid,omitempty"`
	Mounted string   `json:"mounted,omitempty"`
}

// Describe describes this server, with what lies on some of its disks; left are the others.
func Describe(devices, left []Device, maps map[string]*Map) (Layout, error) {
	l := Layout{Kind: "server", Boot: "bios", Disks: []LayoutDisk{}}
	var err error
	if l.Host, err = os.Hostname(); err != nil {
		return l, err
	}
	l.System, l.Kernel, l.Arch = System()
	l.CPUs = runtime.NumCPU()
	var info unix.Sysinfo_t
	if err := unix.Sysinfo(&info); err == nil { // what is not known is not told
		l.Memory = int64(info.Totalram) * int64(info.Unit)
	}
	if _, err := os.Stat("/sys/firmware/efi"); err == nil {
		l.Boot = "uefi"
	}
	for _, d := range devices {
		disk := LayoutDisk{Target: d.Target, Size: d.Size, Sector: d.Logical, Model: d.Model, Serial: d.Serial, Parts: []LayoutPart{}}
		about := probe(d.Path, 0, 0)
		disk.Table, disk.ID = about["PTTYPE"], about["PTUUID"]
		entries := entriesOf(d.Path)
		for _, p := range maps[d.Target].Parts {
			part := LayoutPart{Number: p.Number, Start: p.Offset, Size: p.Length, Holds: p.Format, Mounted: p.Mounted, Free: p.Free, Whole: p.Whole}
			about := about
			if p.Number > 0 {
				about = probe(d.Path, p.Offset, p.Length)
				entry := entries[fmt.Sprint(p.Number)]
				part.Type, part.UUID, part.Name = entry.Type, entry.UUID, entry.Name
			}
			if about["TYPE"] != "" {
				part.Holds = about["TYPE"]
			}
			part.Label, part.FSUUID = about["LABEL"], about["UUID"]
			disk.Parts = append(disk.Parts, part)
		}
		l.Disks = append(l.Disks, disk)
	}
	l.Volumes = volumes()
	if body, err := os.ReadFile("/etc/fstab"); err == nil {
		l.FStab = string(body[:min(len(body), 64<<10)])
	}
	for _, d := range left {
		l.LeftOut = append(l.LeftOut, fmt.Sprintf("disk %s: %s", d.Target, d.Left))
	}
	mounts, err := Mounts()
	for _, m := range mounts {
		if m.Network() {
			l.LeftOut = append(l.LeftOut, fmt.Sprintf("%s (%s): it lies on another computer", m.Path, m.Kind))
		}
	}
	slices.Sort(l.LeftOut)
	return l, err
}

// System is what this server runs: what os-release calls it, its kernel, and for what processor that is.
func System() (name, kernel, arch string) {
	if body, err := os.ReadFile("/etc/os-release"); err == nil {
		for line := range strings.Lines(string(body)) {
			if text, ok := strings.CutPrefix(strings.TrimSpace(line), "PRETTY_NAME="); ok {
				name = strings.Trim(text, `"'`)
			}
		}
	}
	var u unix.Utsname
	if unix.Uname(&u) == nil {
		kernel, arch = unix.ByteSliceToString(u.Release[:]), unix.ByteSliceToString(u.Machine[:])
	}
	return name, kernel, arch
}

// probe asks blkid what lies in a range of a device; a length of 0 is all of it. What is not known is not there.
func probe(path string, offset, length int64) map[string]string {
	args := []string{"-p", "-o", "export"}
	if length > 0 {
		args = append(args, "-O", fmt.Sprint(offset), "-S", fmt.Sprint(length))
	}
	out, err := exec.Command("blkid", append(args, path)...).Output()
	if err != nil {
		return nil // it found nothing, or is not here
	}
	found := map[string]string{}
	for line := range strings.Lines(string(out)) {
		if key, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok {
			found[key] = strings.ReplaceAll(value, `\ `, " ")
		}
	}
	return found
}

type entry struct {
	Node, Type, UUID, Name string
}

// entriesOf are the entries of a disk's table, by number, as sfdisk tells them.
func entriesOf(path string) map[string]entry {
	out, err := exec.Command("sfdisk", "--json", path).Output()
	if err != nil {
		return nil
	}
	var told struct {
		Table struct{ Partitions []entry } `json:"partitiontable"`
	}
	if json.Unmarshal(out, &told) != nil {
		return nil
	}
	entries := map[string]entry{}
	for _, e := range told.Table.Partitions {
		entries[strings.TrimPrefix(strings.TrimPrefix(e.Node, path), "p")] = e
	}
	return entries
}

// volumes asks lsblk what stands on disks.
func volumes() (out []LayoutVolume) {
	text, err := exec.Command("lsblk", "--json", "--bytes", "--list", "-o", "NAME,TYPE,SIZE,PKNAME,FSTYPE,LABEL,UUID,MOUNTPOINT").Output()
	if err != nil {
		return nil
	}
	var told struct {
		BlockDevices []struct {
			Name, Type                              string
			Size                                    int64
			PKName, FSType, Label, UUID, MountPoint *string
		} `json:"blockdevices"`
	}
	if json.Unmarshal(text, &told) != nil {
		return nil
	}
	or := func(s *string) string {
		if s == nil {
			return ""
		}
		return *s
	}
	for _, d := range told.BlockDevices {
		if slices.Contains([]string{"disk", "part", "loop", "rom"}, d.Type) {
			continue
		}
		i := slices.IndexFunc(out, func(v LayoutVolume) bool { return v.Name == d.Name })
		if i < 0 {
			out = append(out, LayoutVolume{Name: d.Name, Kind: d.Type, Size: d.Size, Holds: or(d.FSType), Label: or(d.Label), UUID: or(d.UUID), Mounted: or(d.MountPoint)})
			i = len(out) - 1
		}
		out[i].On = append(out[i].On, or(d.PKName))
	}
	return out
}

// Local lists the file systems of this server's disks, with how much they hold.
func Local() ([]Mount, error) {
	mounts, err := Mounts()
	var out []Mount
	var errs []error
	for _, m := range mounts {
		if !m.OnBlocks() {
			continue
		}
		errs = append(errs, m.Space())
		out = append(out, m)
	}
	return out, errors.Join(append(errs, err)...)
}
