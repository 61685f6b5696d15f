package files

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
)

// Shift sums up what differs between two lists: counts of what came, went and changed, by how many bytes it grew, and which packages and files of the boot
// folder are among it. Its zero value is ready.
type Shift struct {
	Added, Changed, Gone int
	Bytes                int64
	// Packages are those of Debian's package manager that came, changed or went; Boot are files below /boot.
	Packages, Boot []string
}

// See counts a difference.
func (s *Shift) See(d Difference) {
	p := ""
	switch {
	case d.Old == nil:
		s.Added++
		p, s.Bytes = d.New.Path, s.Bytes+d.New.Size
	case d.New == nil:
		s.Gone++
		p, s.Bytes = d.Old.Path, s.Bytes-d.Old.Size
	default:
		if d.New.Kind == Dir {
			return // for what is in it is told
		}
		s.Changed++
		p, s.Bytes = d.New.Path, s.Bytes+d.New.Size-d.Old.Size
	}
	if name, is := strings.CutPrefix(p, "var/lib/dpkg/info/"); is && strings.HasSuffix(name, ".list") {
		name, _, _ = strings.Cut(strings.TrimSuffix(name, ".list"), ":")
		s.Packages = append(s.Packages, name)
	}
	if strings.HasPrefix(p, "boot/") && path.Dir(p) == "boot" {
		s.Boot = append(s.Boot, path.Base(p))
	}
}

// mostNamed is how many packages and files are named.
const mostNamed = 3

// String is it in words: "files: 12 changed, 3 came, 1 went (+38 MiB); packages: openssl; in /boot: vmlinuz-6.1.0-28".
func (s Shift) String() string {
	if s.Added+s.Changed+s.Gone == 0 {
		return "no file changed"
	}
	sign, bytes := "+", s.Bytes
	if bytes < 0 {
		sign, bytes = "−", -bytes
	}
	text := fmt.Sprintf("files: %d changed, %d came, %d went (%s%s)", s.Changed, s.Added, s.Gone, sign, humanize.IBytes(uint64(bytes)))
	if len(s.Packages) > 0 {
		text += "; packages: " + some(s.Packages)
	}
	if len(s.Boot) > 0 {
		text += "; in /boot: " + some(s.Boot)
	}
	return text
}

func some(all []string) string {
	slices.Sort(all)
	all = slices.Compact(all)
	if len(all) > mostNamed {
		return fmt.Sprintf("%s and %d more", strings.Join(all[:mostNamed], ", "), len(all)-mostNamed)
	}
	return strings.Join(all, ", ")
}
