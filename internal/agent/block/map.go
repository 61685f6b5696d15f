package block

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/used"
)

// swapHeader is what is kept of a swap area: its header, with label and UUID, whatever the size of a page is.
const swapHeader = 64 << 10

// Grain is what a disk is read in: ranges that are used are rounded to it, so that digests cover whole blocks.
const Grain = 64 << 10

// Map is which ranges of a disk are to be read.
type Map struct {
	Used *used.Ranges
	// Ignored are ranges that nobody needs, whatever is written to them: swap.
	Ignored *used.Ranges
	// Parts are the disk's, with what lies in them.
	Parts []Part
}

// Part is a range of a disk with what lies in it.
type Part struct {
	disk.Part
	// Mounted is where it is mounted, "" where it is not. Free is how much of it is not read, in bytes.
	Mounted string
	Free    int64
	// Whole says why all of it is read, "" where only what is in use is.
	Whole string
	// Behind says that what is in use is known as of a moment ago: what came into use since then is not in it.
	Behind bool
}

// MapOf finds what is in use of a disk. Of a file system that is mounted the kernel is asked, which also knows what is not on the disk yet; what
// comes into use after that is written, and who follows writes knows it.
func MapOf(ctx context.Context, d Device, r *Direct, mounts []Mount) (*Map, error) {
	parts, err := d.Parts(r)
	if err != nil {
		return nil, fmt.Errorf("disk %s: %w", d.Target, err)
	}
	m := &Map{Used: used.New(d.Size), Ignored: used.New(d.Size)}
	next := int64(0)
	for _, p := range parts {
		if p.Offset > next {
			m.add(next, p.Offset-next) // tables and boot loaders
		}
		next = max(next, p.Offset+p.Length)
		part := Part{Part: p}
		var on *Mount
		for i, mount := range mounts {
			if name, start, ok := mount.place(); ok && strings.ReplaceAll(name, "!", "-") == d.Target && start == p.Offset {
				part.Mounted, on = mount.Path, &mounts[i]
			}
		}
		if err := ctx.Err(); err != nil {
			return nil, context.Cause(ctx)
		}
		m.part(r, &part, on)
		m.Parts = append(m.Parts, part)
	}
	m.add(next, d.Size-next)
	return m, nil
}

func (m *Map) add(offset, length int64) {
	if length > 0 {
		first := offset / Grain * Grain
		m.Used.Add(first, (offset+length+Grain-1)/Grain*Grain-first)
	}
}

// part adds what is in use of a part, which is mounted or not: all of it, where that is not known.
func (m *Map) part(r *Direct, p *Part, on *Mount) {
	if p.Format == "swap" {
		m.add(p.Offset, swapHeader)
		m.Ignored.Add(p.Offset+swapHeader, p.Length-swapHeader)
		p.Free = p.Length - min(p.Length, swapHeader)
		return
	}
	var in *used.Ranges
	var err error
	switch itself := io.NewSectionReader(r, p.Offset, p.Length); {
	case on != nil && strings.HasPrefix(p.Format, "ext"):
		in, err = extMap(*on, itself, p.Length)
	case on != nil && p.Format == "btrfs":
		in, err = used.OfCommitted(itself, p.Length)
	case on != nil && p.Format != "vfat":
		in, err = fsMap(p.Mounted, p.Length)
	default:
		in, err = used.Of(p.Format, itself, p.Length)
	}
	p.Behind = p.Format == "btrfs" || p.Format == "vfat" // a btrfs may be mounted by another device
	if err != nil {
		p.Whole = err.Error()
		m.add(p.Offset, p.Length)
		return
	}
	for _, e := range in.All() {
		m.add(p.Offset+e.Offset, e.Length)
	}
	p.Free = p.Length - in.Bytes()
}

// extMap finds what is in use of an ext2, ext3 or ext4 that is mounted: what the kernel's cache of its device says, which has what is not on the
// device yet, and what the device says, which has what a deletion has taken that a power cut now would bring back.
func extMap(on Mount, device io.ReaderAt, size int64) (*used.Ranges, error) {
	body, err := os.ReadFile(fmt.Sprintf("/sys/dev/block/%d:%d/uevent", on.Number>>20, on.Number&(1<<20-1)))
	if err != nil {
		return nil, err
	}
	_, name, ok := strings.Cut(string(body), "DEVNAME=")
	name, _, _ = strings.Cut(name, "\n")
	if !ok {
		return nil, fmt.Errorf("the device of %s has no name", on.Path)
	}
	f, err := os.Open("/dev/" + name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	in, err := used.OfMounted(f, size)
	if err != nil {
		return nil, err
	}
	there, err := used.OfMounted(device, size)
	if err != nil {
		return nil, err
	}
	in.Join(0, there)
	return in, nil
}

// fsMapHead and fsMapRecord are struct fsmap_head and struct fsmap of linux/fsmap.h.
type fsMapRecord struct {
	Device, Flags                   uint32
	Physical, Owner, Offset, Length uint64
	_                               [3]uint64
}

type fsMapHead struct {
	InFlags, OutFlags, Count, Entries uint32
	_                                 [6]uint64
	Keys                              [2]fsMapRecord
}

const (
	fsMapAtOnce = 4096
	fsMapLast   = 1 << 5 // FMR_OF_LAST
	fsMapFree   = 1      // FMR_OWN_FREE, where FMR_OF_SPECIAL_OWNER says that the owner is special
	fsMapOwn    = 1 << 4
	getFSMap    = 0xc0c0583b // FS_IOC_GETFSMAP
)

// fsMap asks the kernel what is free in a file system that is mounted: xfs tells, and ext4, which has a way of its own above.
func fsMap(path string, size int64) (*used.Ranges, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	buffer := make([]byte, unsafe.Sizeof(fsMapHead{})+fsMapAtOnce*unsafe.Sizeof(fsMapRecord{}))
	head := (*fsMapHead)(unsafe.Pointer(&buffer[0]))
	records := unsafe.Slice((*fsMapRecord)(unsafe.Pointer(&buffer[unsafe.Sizeof(fsMapHead{})])), fsMapAtOnce)
	var stat unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &stat); err != nil {
		return nil, err
	}
	own := uint32(stat.Dev) // as the kernel encodes device numbers for programs
	head.Count = fsMapAtOnce
	high := &head.Keys[1]
	*high = fsMapRecord{Device: ^uint32(0), Flags: ^uint32(0), Physical: ^uint64(0), Owner: ^uint64(0), Offset: ^uint64(0)}
	m := used.New(size)
	end := int64(0)
	for {
		head.Entries, head.OutFlags = 0, 0
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), getFSMap, uintptr(unsafe.Pointer(&buffer[0]))); errno != 0 {
			if errors.Is(errno, unix.ENOTTY) || errors.Is(errno, unix.EOPNOTSUPP) {
				return nil, fmt.Errorf("%w: the kernel does not tell for this kind", used.ErrUnknown)
			}
			return nil, fmt.Errorf("ask the kernel what is free in %s: %w", path, errno)
		}
		if head.Entries == 0 {
			break
		}
		for _, e := range records[:head.Entries] {
			if e.Device != own {
				continue // a journal or real-time device of its own
			}
			// What no record is about is in use: ext4 (Linux 6.18) leaves out what lies between free space and the end of a group.
			m.Add(end, int64(e.Physical)-end)
			if e.Flags&fsMapOwn == 0 || e.Owner != fsMapFree {
				m.Add(int64(e.Physical), int64(e.Length))
			}
			end = max(end, int64(e.Physical+e.Length))
		}
		last := records[head.Entries-1]
		if last.Flags&fsMapLast != 0 {
			break
		}
		head.Keys[0] = last
	}
	if end == 0 || m.Bytes() == 0 {
		return nil, fmt.Errorf("%w: the kernel told nothing", used.ErrOdd)
	}
	m.Add(end, size-end)
	m.Add(0, Grain) // a boot sector, and the superblock
	return m, nil
}

// whole is a device of which all is data.
type whole struct{ *Direct }

func (whole) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	return []disk.Extent{{Offset: offset, Length: length, Kind: disk.Data}}, nil
}
