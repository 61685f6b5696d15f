package reader

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
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
var tools = []string{"ntfs-3g", "mdadm", "lvm", "cryptsetup", "e2fsck", "xfs_repair", "btrfs", "fsck.fat", "resize2fs", "xfs_growfs", "mkfs.xfs"}

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
	body, err := build(ctx, version, program)
	if err != nil {
		return "", "", err
	}
	part, err := os.CreateTemp(folder, ".system-")
	if err != nil {
		return "", "", err
	}
	_, err = part.Write(body)
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
	found, err := filepath.Glob("/boot/vmlinuz-*")
	if err != nil {
		return "", "", err
	}
	version = ""
	for _, f := range found {
		v := strings.TrimPrefix(filepath.Base(f), "vmlinuz-")
		if _, err := os.Stat(filepath.Join("/lib/modules", v, "modules.dep")); err != nil {
			continue
		}
		small := func(v string) int { return cmp.Compare(strings.Count(v, "cloud"), 0) }
		if version == "" || small(v) > small(version) || small(v) == small(version) && newer(v, version) {
			file, version = f, v
		}
	}
	if version == "" {
		return "", "", fmt.Errorf("%w: it has no kernel with modules in /boot; install linux-image-cloud-amd64", ErrUnfit)
	}
	return file, version, nil
}

// newer compares versions number by number.
func newer(a, b string) bool {
	numbers := func(v string) (out []int) {
		for part := range strings.FieldsFuncSeq(v, func(r rune) bool { return r < '0' || r > '9' }) {
			n := 0
			fmt.Sscan(part, &n)
			out = append(out, n)
		}
		return out
	}
	return slices.Compare(numbers(a), numbers(b)) > 0
}

// build makes the first file system: our program, what it is linked with, the kernel's modules, and tools.
func build(ctx context.Context, version, program string) ([]byte, error) {
	a := &archive{made: map[string]bool{}}
	a.add("/dev", nil, 0o40755)
	a.record("dev/console", nil, 0o20600, 5, 1) // for what goes wrong before there is anything else
	if err := a.program("/keenlodge", program); err != nil {
		return nil, err
	}
	for _, tool := range tools {
		if place, err := exec.LookPath(tool); err == nil {
			if err := a.program("/"+tool, place); err != nil {
				return nil, err
			}
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(drivers)) {
		var names []string
		for _, module := range drivers[kind] {
			out, err := exec.CommandContext(ctx, "modprobe", "-S", version, "-n", "--show-depends", module).Output()
			if err != nil && slices.Contains(optional, kind) {
				continue
			}
			if err != nil {
				return nil, fmt.Errorf("%w: which modules %s needs in kernel %s: %w; install kmod", ErrUnfit, module, version, err)
			}
			for l := range strings.Lines(string(out)) {
				fields := strings.Fields(l)
				if len(fields) < 2 || fields[0] != "insmod" || slices.Contains(names, filepath.Base(fields[1])) {
					continue
				}
				names = append(names, filepath.Base(fields[1]))
				if err := a.file("/modules/"+filepath.Base(fields[1]), fields[1], 0o644); err != nil {
					return nil, err
				}
			}
		}
		a.add("/modules/"+kind, []byte(strings.Join(names, "\n")), 0o644)
	}
	return a.end(), nil
}

// archive is a first file system, as cpio's newc format has it (Linux, driver-api/early-userspace/buffer-format).
type archive struct {
	out  bytes.Buffer
	made map[string]bool
	n    int
}

// libraries are where programs look for what they are linked with.
var libraries = []string{"/lib/x86_64-linux-gnu", "/usr/lib/x86_64-linux-gnu", "/lib64", "/usr/lib64", "/lib", "/usr/lib"}

// program adds a program, with what it is linked with.
func (a *archive) program(place, file string) error {
	body, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	a.add(place, loaded(body), 0o755)
	f, err := elf.Open(file)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	defer f.Close()
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP {
			name, err := io.ReadAll(io.LimitReader(p.Open(), 4096))
			if err != nil {
				return err
			}
			loader := strings.TrimRight(string(name), "\x00")
			if err := a.file(loader, loader, 0o755); err != nil {
				return err
			}
		}
	}
	needs, err := f.ImportedLibraries()
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	if slices.ContainsFunc(needs, func(n string) bool { return strings.HasPrefix(n, "libcryptsetup") }) {
		needs = append(needs, "libgcc_s.so.1") // the C library loads it by itself, for threads that end
	}
	for _, name := range needs {
		if a.made["/lib/x86_64-linux-gnu/"+name] {
			continue
		}
		i := slices.IndexFunc(libraries, func(folder string) bool { _, err := os.Stat(filepath.Join(folder, name)); return err == nil })
		if i < 0 {
			return fmt.Errorf("%s needs %s, which is not there", file, name)
		}
		if err := a.program("/lib/x86_64-linux-gnu/"+name, filepath.Join(libraries[i], name)); err != nil {
			return err
		}
	}
	return nil
}

// loaded is what of a program is loaded: what is for debuggers lies behind that.
func loaded(body []byte) []byte {
	f, err := elf.NewFile(bytes.NewReader(body))
	if err != nil || f.Class != elf.ELFCLASS64 {
		return body
	}
	end := uint64(0)
	for _, p := range f.Progs {
		end = max(end, p.Off+p.Filesz)
	}
	if end > uint64(len(body)) {
		return body
	}
	out := slices.Clone(body[:end])
	clear(out[0x28:0x30]) // there are no sections (ELF-64 Object File Format, e_shoff, e_shnum, e_shstrndx)
	clear(out[0x3c:0x40])
	return out
}

func (a *archive) file(place, file string, mode uint32) error {
	if a.made[place] {
		return nil
	}
	body, err := os.ReadFile(file)
	if err == nil {
		a.add(place, body, mode)
	}
	return err
}

// add adds a file, and the folders in which it lies.
func (a *archive) add(place string, body []byte, mode uint32) {
	if a.made[place] {
		return
	}
	if folder := filepath.Dir(place); folder != "/" {
		a.add(folder, nil, 0o40755)
	}
	a.made[place] = true
	if mode&0o170000 == 0 {
		mode |= 0o100000
	}
	a.record(strings.TrimPrefix(place, "/"), body, mode, 0, 0)
}

// record adds a record; major and minor are a device's.
func (a *archive) record(name string, body []byte, mode, major, minor uint32) {
	a.n++
	fmt.Fprintf(&a.out, "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X", a.n, mode, 0, 0, 1, 0, len(body), 0, 0, major, minor, len(name)+1, 0)
	a.out.WriteString(name)
	a.out.Write(make([]byte, 1+(4-(110+len(name)+1)%4)%4))
	a.out.Write(body)
	a.out.Write(make([]byte, (4-len(body)%4)%4))
}

func (a *archive) end() []byte {
	a.record("TRAILER!!!", nil, 0, 0, 0)
	return a.out.Bytes()
}
