// Package bootable makes first file systems for Linux (initramfs): our program and others with what they are linked with, and the kernel's modules.
package bootable

import (
	"bytes"
	"context"
	"debug/elf"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// Kernel finds a kernel of this host that has its modules: the newest, of those for clouds, which are small and know no hardware but a hypervisor's, or of
// the others, as far as there is one such. Where there is none at all, all is "".
func Kernel(cloud bool) (file, version string, err error) {
	found, err := filepath.Glob("/boot/vmlinuz-*")
	if err != nil {
		return "", "", err
	}
	for _, f := range found {
		v := strings.TrimPrefix(filepath.Base(f), "vmlinuz-")
		if _, err := os.Stat(filepath.Join("/lib/modules", v, "modules.dep")); err != nil {
			continue
		}
		wanted := func(v string) int {
			if strings.Contains(v, "cloud") == cloud {
				return 1
			}
			return 0
		}
		if version == "" || wanted(v) > wanted(version) || wanted(v) == wanted(version) && newer(v, version) {
			file, version = f, v
		}
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

// Modules are the files of a kernel's modules, with those that they need, in the order in which they are loaded. Where they are optional, the kernel need
// not have all of them.
func Modules(ctx context.Context, version string, names []string, optional bool) (files []string, err error) {
	for _, module := range names {
		out, err := exec.CommandContext(ctx, "modprobe", "-S", version, "-n", "--show-depends", module).Output()
		if err != nil && optional {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("which modules %s needs in kernel %s: %w; install kmod", module, version, err)
		}
		for l := range strings.Lines(string(out)) {
			fields := strings.Fields(l)
			if len(fields) > 1 && fields[0] == "insmod" && !slices.Contains(files, fields[1]) {
				files = append(files, fields[1])
			}
		}
	}
	return files, nil
}

// Archive is a first file system, as cpio's newc format has it (Linux, driver-api/early-userspace/buffer-format).
type Archive struct {
	out  bytes.Buffer
	made map[string]bool
	n    int
}

// New has what a kernel needs to say that something is wrong.
func New() *Archive {
	a := &Archive{made: map[string]bool{}}
	a.Add("/dev", nil, 0o40755)
	a.record("dev/console", nil, 0o20600, 5, 1) // for what goes wrong before there is anything else
	return a
}

// libraries are where programs look for what they are linked with.
var libraries = []string{"/lib/x86_64-linux-gnu", "/usr/lib/x86_64-linux-gnu", "/lib64", "/usr/lib64", "/lib", "/usr/lib"}

// Program adds a program, with what it is linked with.
func (a *Archive) Program(place, file string) error {
	body, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	a.Add(place, loaded(body), 0o755)
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
			if err := a.File(loader, loader, 0o755); err != nil {
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
		if err := a.Program("/lib/x86_64-linux-gnu/"+name, filepath.Join(libraries[i], name)); err != nil {
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

// File adds a file of this host, unless there is one at the place already.
func (a *Archive) File(place, file string, mode uint32) error {
	if a.made[place] {
		return nil
	}
	body, err := os.ReadFile(file)
	if err == nil {
		a.Add(place, body, mode)
	}
	return err
}

// Add adds a file, and the folders in which it lies.
func (a *Archive) Add(place string, body []byte, mode uint32) {
	if a.made[place] {
		return
	}
	if folder := filepath.Dir(place); folder != "/" {
		a.Add(folder, nil, 0o40755)
	}
	a.made[place] = true
	if mode&0o170000 == 0 {
		mode |= 0o100000
	}
	a.record(strings.TrimPrefix(place, "/"), body, mode, 0, 0)
}

// record adds a record; major and minor are a device's.
func (a *Archive) record(name string, body []byte, mode, major, minor uint32) {
	a.n++
	fmt.Fprintf(&a.out, "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X", a.n, mode, 0, 0, 1, 0, len(body), 0, 0, major, minor, len(name)+1, 0)
	a.out.WriteString(name)
	a.out.Write(make([]byte, 1+(4-(110+len(name)+1)%4)%4))
	a.out.Write(body)
	a.out.Write(make([]byte, (4-len(body)%4)%4))
}

// End is the archive as a kernel unpacks it; nothing may be added after it.
func (a *Archive) End() []byte {
	a.record("TRAILER!!!", nil, 0, 0, 0)
	return a.out.Bytes()
}
