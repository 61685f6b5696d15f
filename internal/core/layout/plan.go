package layout

import (
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"

	"github.com/dustin/go-humanize"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/used"
)

// Way is what becomes of a partition.
type Way string

// The ways.
const (
	// Keep leaves it as long as it is; it may move.
	Keep Way = "keep"
	// Grow has more room, which what lies in it takes once it is there.
	Grow Way = "grow"
	// Shrink has less room: what lies in it gets smaller before it moves. Copy has less room, too, and what lies in it can't get smaller: its files are
	// copied into a new file system of the same name.
	Shrink Way = "shrink"
	Copy   Way = "copy"
	// Add was not there.
	Add Way = "add"
)

// Ways are all of them.
var Ways = []Way{Keep, Grow, Shrink, Copy, Add}

// growable are formats that take more room while nobody looks, shrinkable and copyable those that take less.
var growable, shrinkable, copyable = []string{"ext2", "ext4", "xfs", "btrfs", "lvm"}, []string{"ext2", "ext4", "btrfs"}, []string{"xfs"}

// Extra is a partition that is added.
type Extra string

// The extras: what UEFI starts from, and where a PC's BIOS finds the rest of a boot loader on a disk with a GUID partition table (GRUB manual, "BIOS
// installation").
const (
	ESP      Extra = "esp"
	BIOSBoot Extra = "bios-boot"
)

const (
	// espLength is how long an added ESP is, leastCore how long a place for a boot loader has to be, in bytes.
	espLength, leastCore = 64 * mib, 256 << 10
	// Types of partitions, as they lie on disks: c12a7328-f81f-11d2-ba4b-00a0c93ec93b, 21686148-6449-6e6f-744e-656564454649, and UEFI's in a PC's table.
	espGUID, biosGUID, espMBR = "28732ac11ff8d211ba4b00a0c93ec93b", "4861682149646f6e744e656564454649", 0xef
)

// Step is what becomes of a partition: as it was, and as it will be.
type Step struct {
	From, To Part
	Way      Way
	// Least is how small it may become, in bytes, as far as is known beforehand.
	Least int64
}

// Plan is how a disk will be divided. Free is how many bytes at its end belong to nothing.
type Plan struct {
	From    Disk
	Size    int64
	Steps   []Step
	Free    int64
	Notices []string

	extra Extra
}

// ErrTooSmall marks a disk on which there is no room for what has to be on it.
var ErrTooSmall = errors.New("too small")

const (
	mib = 1 << 20
	// slack is what a file system that gets smaller is left beside what it holds: a sixteenth, and so much, in bytes.
	slack = 32 * mib
	// mostMBR is how far a PC's table reaches, in bytes.
	mostMBR = (1<<32 - 1) * 512
)

func down(n int64) int64 { return n / mib * mib }
func up(n int64) int64   { return down(n + mib - 1) }

// Least is how small a partition may become, in bytes: its length where it can't be made smaller, or that is not known.
func Least(d disk.Disk, p Part) int64 {
	if !slices.Contains(shrinkable, p.Format) && !slices.Contains(copyable, p.Format) {
		return p.Length
	}
	s, err := p.Of(d)
	if err != nil {
		return p.Length
	}
	r, err := used.Of(p.Format, s, p.Length)
	if err != nil {
		return p.Length
	}
	least := r.Bytes()
	least += least/16 + slack
	if p.Format == "xfs" {
		least = max(least, 300*mib) // mkfs.xfs makes none that is smaller
	}
	return min(up(least), p.Length)
}

// end is how far partitions may reach on a disk of a size.
func (l Disk) end(size int64) int64 {
	switch l.Table {
	case GPT:
		tail := (int64(len(l.slots))+l.Sector-1)/l.Sector*l.Sector + l.Sector
		return (size/l.Sector*l.Sector - tail) / l.Sector * l.Sector
	case MBR:
		return min(size, mostMBR)
	}
	return size
}

// Fit plans the division of a disk of another size, in bytes. Where there is more room, the largest partition that can have it does; where there is less,
// those give that have most to give. least is [Least] of the disk, for a partition. extra, where it is not "", is a partition that is added.
func (l Disk) Fit(size int64, least func(Part) int64, extra Extra) (Plan, error) {
	p := Plan{From: l, Size: size, extra: extra}
	last := int64(0)
	for _, part := range l.Parts {
		p.Steps = append(p.Steps, Step{From: part, To: part, Way: Keep, Least: part.Length})
		last = max(last, part.End())
	}
	if !p.Changes() {
		return p, nil
	}
	end := l.end(size)
	if extra == ESP {
		end -= espLength + mib
	}
	switch {
	case size > l.Size:
		i := p.largest()
		if i < 0 {
			p.Notices = append(p.Notices, "nothing on it can grow here, so the rest of the disk stays free")
			break
		}
		more := end - last
		if l.Table != None {
			more = down(more)
		}
		if more > 0 {
			p.Steps[i].Way = Grow
			p.change(i, more)
		}
	case last > end:
		if err := p.shrink(last-end, least); err != nil {
			return p, err
		}
	}
	if extra != "" {
		added, err := p.added(extra)
		if err != nil {
			return p, err
		}
		p.Steps = append(p.Steps, Step{To: added, Way: Add})
	}
	last = 0
	for _, s := range p.Steps {
		last = max(last, s.To.End())
	}
	if l.Table == MBR && size > mostMBR+mib {
		p.Notices = append(p.Notices, fmt.Sprintf("its partition table reaches no further than %s", humanize.IBytes(mostMBR)))
	}
	p.Free = size - last
	return p, nil
}

// added is where an extra partition will be.
func (p Plan) added(extra Extra) (Part, error) {
	none := fmt.Errorf("%w: its partition table has no room for one more partition", ErrTooSmall)
	last, first := int64(0), p.Size
	taken := map[int]bool{}
	for _, s := range p.Steps {
		last, first = max(last, s.To.End()), min(first, s.To.Offset)
		taken[s.To.Number] = true
	}
	slots := map[Table]int{GPT: p.From.entries, MBR: 4}[p.From.Table]
	number := 1
	for taken[number] {
		number++
	}
	if number > slots {
		return Part{}, none
	}
	added := Part{Number: number, Offset: up(last), Length: espLength, entry: make([]byte, max(p.From.width, mbrEntry))}
	if extra == BIOSBoot {
		if p.From.Table != GPT {
			return Part{}, none
		}
		added.Offset = (2 + (int64(len(p.From.slots))+p.From.Sector-1)/p.From.Sector) * p.From.Sector
		if added.Length = min(first-added.Offset, mib); added.Length < leastCore { // before all others, where it is free on most disks
			added.Offset, added.Length = up(last), mib
		}
	}
	if added.End() > p.From.end(p.Size) {
		return Part{}, fmt.Errorf("%w: there is no room for a partition of %s more, from which the machine starts", ErrTooSmall, humanize.IBytes(uint64(added.Length)))
	}
	if p.From.Table == MBR {
		added.entry[4] = espMBR
		return added, nil
	}
	kind := map[Extra]string{ESP: espGUID, BIOSBoot: biosGUID}[extra]
	hex.Decode(added.entry[:16], []byte(kind))
	rand.Read(added.entry[16:32])
	added.entry[16+7], added.entry[16+8] = added.entry[16+7]&0x0f|0x40, added.entry[16+8]&0x3f|0x80
	return added, nil
}

// largest is the longest partition that can grow, -1 if there is none.
func (p Plan) largest() int {
	found := -1
	for i, s := range p.Steps {
		if slices.Contains(growable, s.From.Format) && !s.From.box && (found < 0 || s.From.Length > p.Steps[found].From.Length) {
			found = i
		}
	}
	return found
}

// change makes a partition longer or shorter, and moves those behind it.
func (p *Plan) change(i int, by int64) {
	at := p.Steps[i].To.Offset
	p.Steps[i].To.Length += by
	for j := range p.Steps {
		to := &p.Steps[j].To
		switch {
		case j == i:
		case to.box && to.Offset < at && at < to.End(): // it lies within
			to.Length += by
		case to.Offset > at:
			to.Offset += by
			if to.table > 0 {
				to.table += by
			}
		}
	}
}

// shrink takes so many bytes off the partitions.
func (p *Plan) shrink(by int64, least func(Part) int64) error {
	total, last := int64(0), int64(0)
	for i := range p.Steps {
		s := &p.Steps[i]
		if !s.From.box {
			s.Least = least(s.From)
		}
		total += down(s.From.Length - s.Least)
		last = max(last, s.From.End())
	}
	if want := up(by); p.From.Table != None && want <= total || p.From.Table == None && by <= total {
		if p.From.Table == None {
			want = by
		}
		for want > 0 {
			most := slices.MaxFunc(p.indexes(), func(a, b int) int { return int(p.spare(a)/mib - p.spare(b)/mib) })
			take := min(want, p.spare(most))
			if p.From.Table != None {
				take = min(want, down(p.spare(most)))
			}
			s := &p.Steps[most]
			s.Way = Shrink
			if slices.Contains(copyable, s.From.Format) {
				s.Way = Copy
			}
			p.change(most, -take)
			want -= take
		}
		return nil
	}
	return fmt.Errorf("%w: what is on it needs a disk of %s at least, and this one is of %s", ErrTooSmall, humanize.IBytes(uint64(up(last-total+p.From.Size-p.From.end(p.From.Size)))), humanize.IBytes(uint64(p.Size)))
}

func (p Plan) indexes() (out []int) {
	for i := range p.Steps {
		out = append(out, i)
	}
	return out
}

// spare is what a partition has to give, in bytes.
func (p Plan) spare(i int) int64 { return p.Steps[i].To.Length - p.Steps[i].Least }

// Changes reports whether the disk will be divided otherwise than it is.
func (p Plan) Changes() bool { return p.Size != p.From.Size || p.extra != "" }

// Compose is the disk as it will be, before anything in its file systems is done: of d, in which what shrinks has already, to the length planned.
func (p Plan) Compose(d disk.Disk) (disk.Disk, error) {
	if !p.Changes() {
		return d, nil
	}
	var out []disk.Stretch
	lay := func(at int64, body []byte) {
		out = append(out, disk.Stretch{Offset: at, Length: int64(len(body)), From: disk.Memory(body)})
	}
	first := p.Size
	for _, s := range p.Steps {
		if s.Way != Add {
			first = min(first, s.To.Offset)
		}
	}
	behind := int64(0)
	switch p.From.Table {
	case GPT:
		behind = p.layGPT(lay)
	case MBR:
		behind = p.layMBR(lay)
	}
	if gap := min(first, d.Size()) - behind; gap > 0 { // a boot loader may lie there
		out = append(out, disk.Stretch{Offset: behind, Length: gap, From: d, At: behind})
	}
	for _, s := range p.Steps {
		if !s.From.box && s.Way != Copy && s.Way != Add {
			out = append(out, disk.Stretch{Offset: s.To.Offset, Length: min(s.From.Length, s.To.Length), From: d, At: s.From.Offset})
		}
	}
	slices.SortFunc(out, func(a, b disk.Stretch) int { return int((a.Offset - b.Offset) / 512) })
	return disk.Stretches(p.Size, out)
}

// layGPT makes both tables, and says where the first one ends.
func (p Plan) layGPT(lay func(int64, []byte)) int64 {
	le, sector := binary.LittleEndian, p.From.Sector
	slots := slices.Clone(p.From.slots)
	for _, s := range p.Steps {
		e := slots[(s.To.Number-1)*p.From.width:]
		if s.Way == Add {
			copy(e[:p.From.width], s.To.entry)
		}
		le.PutUint64(e[32:], uint64(s.To.Offset/sector))
		le.PutUint64(e[40:], uint64(s.To.End()/sector-1))
	}
	long := (int64(len(slots)) + sector - 1) / sector // sectors
	last := p.Size/sector - 1
	head := slices.Clone(p.From.head)
	header := func(own, other, table int64) []byte {
		h := make([]byte, sector)
		copy(h, head)
		for at, v := range map[int]int64{24: own, 32: other, 40: 2 + long, 48: last - long - 1, 72: table} {
			le.PutUint64(h[at:], uint64(v))
		}
		if first := le.Uint64(head[40:]); int64(first) > 2+long && p.extra != BIOSBoot { // what it kept free for a boot loader
			le.PutUint64(h[40:], first)
		}
		le.PutUint32(h[88:], crc32.ChecksumIEEE(slots))
		le.PutUint32(h[16:], 0)
		le.PutUint32(h[16:], crc32.ChecksumIEEE(h[:len(head)]))
		return h
	}
	padded := make([]byte, long*sector)
	copy(padded, slots)
	lay(0, p.From.protect(p.Size))
	lay(sector, header(1, last, 2))
	lay(2*sector, padded)
	lay((last-long)*sector, padded)
	lay(last*sector, header(last, 1, last-long))
	return (2 + long) * sector
}

// protect is the first sector of a disk of a size, which says to whom knows no GPT that all of it is in use.
func (l Disk) protect(size int64) []byte {
	s := make([]byte, l.Sector)
	copy(s, l.boot)
	for i := range 4 {
		if e := s[mbrEntries+i*mbrEntry:][:mbrEntry]; e[4] == protective {
			binary.LittleEndian.PutUint32(e[12:], uint32(min(size/l.Sector-1, 1<<32-1)))
		}
	}
	return s
}

// layMBR makes the first sector and those of logical partitions, and says where the first one ends.
func (p Plan) layMBR(lay func(int64, []byte)) int64 {
	le := binary.LittleEndian
	head := slices.Clone(p.From.head)
	put := func(e []byte, from, to int64, base int64) {
		le.PutUint32(e[8:], uint32((from-base)/512))
		le.PutUint32(e[12:], uint32((to-from)/512))
		for _, at := range []int{1, 5} { // heads and cylinders, which nothing reads any more: "beyond what they reach"
			copy(e[at:], []byte{0xfe, 0xff, 0xff})
		}
	}
	var logical []Part
	var box Part
	for _, s := range p.Steps {
		switch {
		case s.To.Number <= 4:
			copy(head[mbrEntries+(s.To.Number-1)*mbrEntry:][:mbrEntry], s.To.entry[:mbrEntry])
			put(head[mbrEntries+(s.To.Number-1)*mbrEntry:], s.To.Offset, s.To.End(), 0)
			if s.To.box {
				box = s.To
			}
		default:
			logical = append(logical, s.To)
		}
	}
	lay(0, head)
	slices.SortFunc(logical, func(a, b Part) int { return a.Number - b.Number })
	if len(logical) > 0 && logical[0].table != box.Offset { // the first one of the chain was deleted: it holds none
		empty := make([]byte, 512)
		empty[510], empty[511] = 0x55, 0xaa
		chain(empty, logical[0], box)
		lay(box.Offset, empty)
	}
	for i, q := range logical {
		s := make([]byte, 512)
		s[510], s[511] = 0x55, 0xaa
		own := s[mbrEntries:][:mbrEntry]
		copy(own, q.entry)
		put(own, q.Offset, q.End(), q.table)
		if i+1 < len(logical) {
			chain(s, logical[i+1], box)
		}
		lay(q.table, s)
	}
	return 512
}

// chain has a logical partition's table lead to the next one's.
func chain(s []byte, next, box Part) {
	e := s[mbrEntries+mbrEntry:][:mbrEntry]
	e[4] = 0x05
	binary.LittleEndian.PutUint32(e[8:], uint32((next.table-box.Offset)/512))
	binary.LittleEndian.PutUint32(e[12:], uint32((next.End()-next.table)/512))
	for _, at := range []int{1, 5} {
		copy(e[at:], []byte{0xfe, 0xff, 0xff})
	}
}
