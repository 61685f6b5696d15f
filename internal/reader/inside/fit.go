package inside

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/line"
	"keenlodge/internal/reader"
	"keenlodge/internal/reader/identity"
	"keenlodge/internal/unpack"
)

// fit makes what lies on the disks fit for another machine.
func (g *Guest) fit(ctx context.Context, f reader.Fit) (done []string, err error) {
	say := func(format string, args ...any) { done = append(done, fmt.Sprintf(format, args...)) }
	g.mu.Lock()
	g.together() // it may have rested
	g.mu.Unlock()
	for _, r := range f.Shrink {
		if err := g.apart(r.FileSystem, func(s *reader.FileSystem) error { return g.shrink(s, r.Bytes) }); err != nil {
			return done, fmt.Errorf("make %s smaller: %w", r.FileSystem, err)
		}
		say("%s was made smaller, to %s", r.FileSystem, humanize.IBytes(uint64(r.Bytes)))
	}
	for _, c := range f.Copies {
		n, err := g.copy(ctx, c)
		if err != nil {
			return done, fmt.Errorf("copy the files of %s into a new file system: %w", c.To, err)
		}
		say("%s is a new file system, with %d files copied into it", c.To, n)
	}
	for _, name := range f.Grow {
		if err := g.apart(name, g.grow); err != nil {
			return done, fmt.Errorf("have %s grow: %w", name, err)
		}
		say("%s was given all the room that it has", name)
	}
	if f.Boot != nil {
		if err := g.boot(*f.Boot, say); err != nil {
			return done, fmt.Errorf("have it start by %s: %w", reader.Firmware(f.Boot.UEFI), err)
		}
	}
	if f.Findable {
		if err := g.findable(say); err != nil {
			return done, fmt.Errorf("have UEFI find the boot loader: %w", err)
		}
	}
	if f.Identity != nil {
		changed, err := g.identify(*f.Identity)
		done = append(done, changed...)
		if err != nil {
			return done, fmt.Errorf("give the machine an identity of its own: %w", err)
		}
	}
	return done, nil
}

// apart does something with a file system that is taken apart for it, and puts all together again.
func (g *Guest) apart(name string, do func(*reader.FileSystem) error) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	f := g.find(name)
	if f == nil {
		return line.Refuse(line.Unknown, "there is no file system %q", name)
	}
	if f.Why != "" && f.Format != "lvm" {
		return fmt.Errorf("it can't be opened: %s", f.Why)
	}
	g.dismantle()
	if place := g.systems[name]; place != "" {
		if err := unix.Unmount(place, 0); err != nil {
			return fmt.Errorf("take it apart: %w", err)
		}
		delete(g.systems, name)
	}
	defer g.together()
	return do(f)
}

// sound has a file system of Linux's ext family checked, and small things mended, without which it is not resized.
func (g *Guest) sound(f *reader.FileSystem) error {
	if _, err := tool(nil, "e2fsck", "-f", "-p", g.devices[f.Name]); err != nil && !strings.Contains(err.Error(), "exit status 1:") { // 1: "errors corrected"
		return err
	}
	return nil
}

// shrink makes a file system smaller.
func (g *Guest) shrink(f *reader.FileSystem, bytes int64) error {
	switch f.Format {
	case "ext2", "ext4":
		if err := g.sound(f); err != nil {
			return err
		}
		_, err := tool(nil, "resize2fs", g.devices[f.Name], fmt.Sprint(bytes>>10)+"K")
		return err
	case "btrfs":
		return g.mounted(f, func(at string) error {
			_, err := tool(nil, "btrfs", "filesystem", "resize", fmt.Sprint(bytes), at)
			return err
		})
	}
	return fmt.Errorf("%s can't be made smaller", f.Format)
}

// grow has a file system take all the room that it has.
func (g *Guest) grow(f *reader.FileSystem) error {
	switch f.Format {
	case "ext2", "ext4":
		if err := g.sound(f); err != nil {
			return err
		}
		_, err := tool(nil, "resize2fs", g.devices[f.Name])
		return err
	case "btrfs":
		return g.mounted(f, func(at string) error { _, err := tool(nil, "btrfs", "filesystem", "resize", "max", at); return err })
	case "xfs":
		return g.mounted(f, func(at string) error { _, err := tool(nil, "xfs_growfs", at); return err })
	case "lvm":
		return g.growVolumes(f)
	}
	return fmt.Errorf("%s can't grow", f.Format)
}

// growVolumes has the volumes on a device take its room: the largest one with a file system that can.
func (g *Guest) growVolumes(f *reader.FileSystem) error {
	if _, err := tool(nil, "lvm", "pvresize", "-q", "--config", lvmConfig, g.devices[f.Name]); err != nil {
		return err
	}
	told, err := tool(nil, "lvm", "pvs", "--noheadings", "-o", "vg_name", "--config", lvmConfig, g.devices[f.Name])
	group := strings.TrimSpace(told)
	if err != nil || group == "" {
		return err
	}
	var largest *reader.FileSystem
	for i := range g.opened.FileSystems {
		s := &g.opened.FileSystems[i]
		if strings.HasPrefix(s.Name, group+"/") && slices.Contains([]string{"ext2", "ext4", "xfs", "btrfs"}, s.Format) && (largest == nil || s.Size > largest.Size) {
			largest = s
		}
	}
	if largest == nil {
		return nil // what is free in it is there for who wants it
	}
	if place := g.systems[largest.Name]; place != "" {
		if err := unix.Unmount(place, 0); err != nil {
			return err
		}
		delete(g.systems, largest.Name)
	}
	if _, err := tool(nil, "lvm", "lvextend", "-q", "-l", "+100%FREE", "--config", lvmConfig, largest.Name); err != nil && !strings.Contains(err.Error(), "matches existing size") {
		return err
	}
	largest.Size = 512 * sectors(filepath.Join("/sys/class/block", filepath.Base(g.devices[largest.Name])), "size")
	return g.grow(largest)
}

// mounted does something with a file system that is mounted for writing.
func (g *Guest) mounted(f *reader.FileSystem, do func(at string) error) error {
	at := filepath.Join(systemsFolder, "writing")
	if err := os.MkdirAll(at, 0o755); err != nil {
		return err
	}
	if err := load(f.Format); err != nil {
		return err
	}
	if f.Format == "btrfs" {
		if err := registerBtrfs(g.devices[f.Name]); err != nil {
			return err
		}
	}
	if err := unix.Mount(g.devices[f.Name], at, f.Format, unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, options[f.Format]); err != nil {
		return fmt.Errorf("mount it for writing: %w", err)
	}
	return errors.Join(do(at), unix.Unmount(at, 0))
}

// copy makes a file system like another one, and copies that one's files into it. It returns how many.
func (g *Guest) copy(ctx context.Context, c reader.Copies) (n int64, err error) {
	g.mu.Lock()
	from, to := g.find(c.From), g.find(c.To)
	g.mu.Unlock()
	if from == nil || to == nil {
		return 0, line.Refuse(line.Unknown, "%s or %s is not there", c.From, c.To)
	}
	if from.Why != "" {
		return 0, fmt.Errorf("%s can't be opened: %s", c.From, from.Why)
	}
	if err := g.makeLike(from, to); err != nil {
		return 0, err
	}
	to.Format, to.UUID, to.Label = from.Format, from.UUID, from.Label
	err = g.mounted(to, func(at string) error {
		n, err = g.copyFiles(ctx, c.From, at)
		return err
	})
	if err != nil {
		return n, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	to.Why = ""
	g.together()
	return n, nil
}

// extFeatures are those of a new file system of the ext family: what kernels and boot loaders of the last ten years know.
const extFeatures = "none,has_journal,ext_attr,resize_inode,dir_index,filetype,extent,flex_bg,sparse_super,large_file,huge_file,dir_nlink,extra_isize,64bit,metadata_csum"

// makeLike makes a file system of the format, name and UUID of another one.
func (g *Guest) makeLike(from, to *reader.FileSystem) error {
	var args []string
	switch from.Format {
	case "xfs":
		args = []string{"mkfs.xfs", "-q", "-f", "-m", "uuid=" + from.UUID}
	case "ext4":
		args = []string{"mke2fs", "-q", "-F", "-t", "ext4", "-O", extFeatures, "-U", from.UUID}
	case "ext2":
		args = []string{"mke2fs", "-q", "-F", "-U", from.UUID}
	default:
		return fmt.Errorf("no new file system of the kind %s is made here", from.Format)
	}
	if from.Label != "" {
		args = append(args, "-L", from.Label)
	}
	_, err := tool(nil, args[0], append(args[1:], g.devices[to.Name])...)
	return err
}

// copyFiles copies all files of a file system to a place, as a restore of files does.
func (g *Guest) copyFiles(ctx context.Context, name, at string) (int64, error) {
	notes := "/run/notes"
	if err := os.MkdirAll(notes, 0o700); err != nil {
		return 0, err
	}
	place := unpack.Place{Root: at, Writable: []string{"/"}, Folder: notes}
	list, end, err := stream(g.list(reader.Where{FileSystem: name, Path: "/", Below: true, Self: true, Full: true}))
	if err != nil {
		return 0, err
	}
	defer end()
	entries, err := files.NewListReader(list)
	if err != nil {
		return 0, err
	}
	plan, err := place.Plan(ctx, back.Order{ID: image.NewID(), Roots: []back.Root{{From: ".", To: "."}}, Existing: back.Replace}, entries)
	if err != nil {
		return 0, err
	}
	if plan.Short != "" {
		return 0, errors.New(plan.Short)
	}
	archive, endArchive, err := stream(g.archive(ctx, reader.Where{FileSystem: name, Path: "/"}))
	if err != nil {
		return 0, err
	}
	defer endArchive()
	done, err := plan.Put(ctx, files.NewReader(archive), func(back.Progress) {})
	if err == nil && done.Failures > 0 {
		err = fmt.Errorf("%d paths could not be copied, such as %s: %s", done.Failures, done.Failed[0].Path, done.Failed[0].Why)
	}
	return int64(len(plan.Steps)), err
}

// stream has what a call sends to read. End it.
func stream(_ any, send func(net.Conn) error, err error) (in net.Conn, end func(), _ error) {
	if err != nil {
		return nil, nil, err
	}
	in, out := net.Pipe()
	go func() { send(out); out.Close() }()
	return in, func() { in.Close() }, nil
}

// rest puts down all that was written, and takes everything apart.
func (g *Guest) rest() error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.dismantle()
	for name, place := range g.systems {
		if err := unix.Unmount(place, 0); err != nil {
			return fmt.Errorf("take %s apart: %w", name, err)
		}
		delete(g.systems, name)
	}
	unix.Sync()
	for _, d := range g.disks {
		f, err := os.OpenFile("/dev/"+d, os.O_RDWR, 0)
		if err == nil {
			err = errors.Join(f.Sync(), f.Close())
		}
		if err != nil {
			return fmt.Errorf("put down what was written to %s: %w", d, err)
		}
	}
	return nil
}

// identify makes the machine another one.
func (g *Guest) identify(id reader.Identity) (done []string, err error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.opened.Tree {
		return nil, line.Refuse(line.Unknown, "the disks have no mount table, so there is no tree in which its identity could be found")
	}
	if err := g.writable(unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC); err != nil {
		return nil, err
	}
	err = identity.Give(treeFolder, id, func(format string, args ...any) { done = append(done, fmt.Sprintf(format, args...)) })
	return done, err
}

// writable has the tree opened for writing, with what is otherwise not allowed in it; what is written goes into the guest's overlay.
func (g *Guest) writable(without uintptr) error {
	g.dismantle()
	for name, place := range g.systems {
		f := g.find(name)
		if slices.Contains([]string{"iso9660", "squashfs", "ntfs"}, f.Format) || strings.HasPrefix(name, reader.OldDisk) {
			continue
		}
		if err := unix.Mount("", place, "", unix.MS_REMOUNT|without, ""); err != nil {
			return fmt.Errorf("open %s for writing: %w", name, err)
		}
	}
	g.assemble()
	if !g.opened.Tree {
		return errors.New("the machine's tree could not be put together again")
	}
	return nil
}
