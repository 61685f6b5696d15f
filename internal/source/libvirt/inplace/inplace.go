// Package inplace keeps snapshots of libvirt's guests on their own disks. Of a guest that is off, or with its memory, they are internal ones: they lie in
// its qcow2 files, and libvirt goes back to them. Of one that runs they are external ones, taken while it is frozen: a new file on top of each disk. These
// libvirt 9 neither removes nor goes back to, so both is done here.
package inplace

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/image"
	"keenlodge/internal/source"
	"keenlodge/internal/source/libvirt/daemon"
)

const (
	// memoryTime is how long a guest's memory may take to be written, mergeTime how long a snapshot's removal may.
	memoryTime = 10 * time.Minute
	mergeTime  = time.Hour
)

// Host is what keeps them.
type Host struct {
	*daemon.Conn
	// Freezer freezes a guest.
	Freezer func(golibvirt.Domain) source.Freezer
	// Below says over what a disk's file lies, "" for nothing.
	Below func(ctx context.Context, file string) (string, error)
	// Checkpoints and DropCheckpoints are those of [source.Capturer].
	Checkpoints     func(ctx context.Context, name string) ([]string, error)
	DropCheckpoints func(ctx context.Context, name string, ids []string) ([]string, error)
}

// guest is a guest, with how it stands.
type guest struct {
	golibvirt.Domain
	runs bool
	def  *libvirtxml.Domain
}

func (h Host) guest(ctx context.Context, name, uuid string) (g guest, err error) {
	if g.Domain, err = h.DomainOf(ctx, name, uuid); err != nil {
		return g, err
	}
	state, err := h.State(ctx, g.Domain)
	if err != nil {
		return g, err
	}
	g.runs = state != golibvirt.DomainShutoff && state != golibvirt.DomainCrashed
	_, g.def, err = h.Definition(ctx, g.Domain, !g.runs)
	return g, err
}

// disks are those that a guest writes to: qcow2 files. Others can't be kept in place.
func (g guest) disks() (out []libvirtxml.DomainDisk, err error) {
	for _, d := range g.def.Devices.Disks {
		switch {
		case d.Device != "disk" || d.ReadOnly != nil || d.Source == nil || d.Target == nil:
		case d.Source.File == nil || d.Driver == nil || d.Driver.Type != "qcow2":
			return nil, fmt.Errorf("guest %s: its disk %s is no qcow2 file, and can't be kept in place", g.Name, d.Target.Dev)
		default:
			out = append(out, d)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("guest %s has no disk that could be kept in place", g.Name)
	}
	return out, nil
}

// kept is a snapshot that a guest has.
type kept struct {
	snap golibvirt.DomainSnapshot
	def  libvirtxml.DomainSnapshot
	told source.Snapshot
}

// external reports whether it is one of files on top of disks.
func (k kept) external() bool {
	return k.def.Disks != nil && slices.ContainsFunc(k.def.Disks.Disks, func(d libvirtxml.DomainSnapshotDisk) bool { return d.Snapshot == "external" })
}

// bases are the files that hold its disks as they were, by target.
func (k kept) bases() map[string]string {
	out := map[string]string{}
	if k.def.Domain == nil || k.def.Domain.Devices == nil {
		return out
	}
	for _, d := range k.def.Disks.Disks {
		i := slices.IndexFunc(k.def.Domain.Devices.Disks, func(o libvirtxml.DomainDisk) bool { return o.Target != nil && o.Target.Dev == d.Name })
		if d.Snapshot == "external" && i >= 0 && k.def.Domain.Devices.Disks[i].Source != nil && k.def.Domain.Devices.Disks[i].Source.File != nil {
			out[d.Name] = k.def.Domain.Devices.Disks[i].Source.File.File
		}
	}
	return out
}

// Snap implements [source.Snapshotter].
func (h Host) Snap(ctx context.Context, r source.Request, note string, memory bool) (out source.Snapped, err error) {
	g, err := h.guest(ctx, r.Machine, r.UUID)
	if err != nil {
		return out, err
	}
	disks, err := g.disks()
	if err != nil {
		return out, err
	}
	name := source.SnapshotMark + r.ID
	def := libvirtxml.DomainSnapshot{Name: name, Description: note, Disks: &libvirtxml.DomainSnapshotDisks{}}
	var flags golibvirt.DomainSnapshotCreateFlags
	outside := g.runs && !memory
	if outside {
		def.Memory = &libvirtxml.DomainSnapshotMemory{Snapshot: "no"}
		flags = golibvirt.DomainSnapshotCreateDiskOnly | golibvirt.DomainSnapshotCreateAtomic
	}
	for _, d := range g.def.Devices.Disks {
		if d.Target == nil {
			continue
		}
		s := libvirtxml.DomainSnapshotDisk{Name: d.Target.Dev, Snapshot: "no"}
		if slices.ContainsFunc(disks, func(o libvirtxml.DomainDisk) bool { return o.Target.Dev == d.Target.Dev }) {
			if s.Snapshot = "internal"; outside {
				s.Snapshot, s.Driver = "external", &libvirtxml.DomainDiskDriver{Type: "qcow2"}
				s.Source = &libvirtxml.DomainDiskSource{File: &libvirtxml.DomainDiskSourceFile{File: path.Join(path.Dir(d.Source.File.File), name+"-"+d.Target.Dev+".qcow2")}}
			}
		}
		def.Disks.Disks = append(def.Disks.Disks, s)
	}
	text, err := def.Marshal()
	if err != nil {
		return out, err
	}
	take := func() error {
		return h.Within(ctx, memoryTime, "take a snapshot of guest "+r.Machine, func() error {
			_, err := h.L.DomainSnapshotCreateXML(g.Domain, text, uint32(flags))
			return err
		})
	}
	switch {
	case outside:
		out.Stood, err = source.WhileFrozen(ctx, r, h.Freezer(g.Domain), take)
	case g.runs:
		begun := time.Now()
		out.Stood, err = source.Stood{Consistency: image.Crash}, take()
		if out.Frozen = time.Since(begun); err == nil {
			out.Warnings = append(out.Warnings, fmt.Sprintf("the guest stood still for %s, while its memory was written", out.Frozen.Round(time.Millisecond)))
		}
	default:
		out.Stood, err = source.Stood{Consistency: image.Off}, take()
	}
	if err != nil {
		_, undone := h.Unsnap(context.WithoutCancel(ctx), r.Machine, r.ID, "")
		return out, errors.Join(err, undone)
	}
	all, err := h.of(ctx, g)
	if err != nil {
		return out, err
	}
	i := slices.IndexFunc(all, func(k kept) bool { return k.told.ID == r.ID })
	if i < 0 {
		return out, fmt.Errorf("guest %s: its hypervisor says that snapshot %s was taken, and does not list it", r.Machine, name)
	}
	out.Snapshot = all[i].told
	return out, nil
}

// of lists the snapshots of a guest, oldest first.
func (h Host) of(ctx context.Context, g guest) (out []kept, err error) {
	err = h.Within(ctx, daemon.AnswerTime, "list the snapshots of guest "+g.Name, func() error {
		out = nil
		all, _, err := h.L.DomainListAllSnapshots(g.Domain, 1, 0)
		if err != nil {
			return err
		}
		for _, s := range all {
			text, err := h.L.DomainSnapshotGetXMLDesc(s, 0)
			if daemon.IsCode(err, golibvirt.ErrNoDomainSnapshot) {
				continue // it went meanwhile
			}
			if err != nil {
				return err
			}
			k := kept{snap: s}
			if err := k.def.Unmarshal(text); err != nil {
				return fmt.Errorf("snapshot %s of guest %s: %w", s.Name, g.Name, err)
			}
			seconds, _ := strconv.ParseInt(k.def.CreationTime, 10, 64) // one that libvirt does not tell is very old
			k.told = source.Snapshot{Machine: g.Name, Ref: s.Name + "@" + k.def.CreationTime, Name: s.Name, Note: k.def.Description, Taken: time.Unix(seconds, 0), Bytes: -1,
				Memory: k.def.Memory != nil && k.def.Memory.Snapshot != "no"}
			if id, ours := strings.CutPrefix(s.Name, source.SnapshotMark); ours {
				k.told.ID = id
			}
			out = append(out, k)
		}
		return nil
	})
	// libvirt tells seconds; within one, a snapshot comes after the one that it was taken on.
	slices.SortStableFunc(out, func(a, b kept) int {
		return cmp.Or(a.told.Taken.Compare(b.told.Taken), above(out, a)-above(out, b))
	})
	if err == nil && len(out) > 0 && g.runs && out[len(out)-1].external() {
		out[len(out)-1].told.Bytes, err = h.grown(ctx, g)
	}
	return out, err
}

// above is on how many others a snapshot was taken.
func above(all []kept, k kept) (n int) {
	for ; k.def.Parent != nil && n <= len(all); n++ {
		i := slices.IndexFunc(all, func(o kept) bool { return o.snap.Name == k.def.Parent.Name })
		if i < 0 {
			return n
		}
		k = all[i]
	}
	return n
}

// later are those that were taken after one, of all in their order.
func later(all []kept, k kept) []kept {
	return all[slices.IndexFunc(all, func(o kept) bool { return o.snap.Name == k.snap.Name })+1:]
}

// grown is how many bytes the topmost files of a guest's disks take.
func (h Host) grown(ctx context.Context, g guest) (bytes int64, err error) {
	disks, err := g.disks()
	if err != nil {
		return -1, nil // it has got disks since that can't be kept
	}
	return bytes, h.Within(ctx, daemon.AnswerTime, "ask how large the disks of guest "+g.Name+" are", func() error {
		bytes = 0
		for _, d := range disks {
			n, _, _, err := h.L.DomainGetBlockInfo(g.Domain, d.Target.Dev, 0)
			if err != nil {
				return err
			}
			bytes += int64(n)
		}
		return nil
	})
}

// Snapshots implements [source.Snapshotter].
func (h Host) Snapshots(ctx context.Context, name string) ([]source.Snapshot, error) {
	names := []string{name}
	if name == "" {
		err := h.Within(ctx, daemon.AnswerTime, "list guests with snapshots", func() error {
			all, _, err := h.L.ConnectListAllDomains(1, golibvirt.ConnectListDomainsHasSnapshot)
			names = nil
			for _, d := range all {
				names = append(names, d.Name)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	out := []source.Snapshot{}
	for _, n := range names {
		g, err := h.guest(ctx, n, "")
		if errors.Is(err, source.ErrNoMachine) && name == "" {
			continue
		}
		if err != nil {
			return nil, err
		}
		all, err := h.of(ctx, g)
		if err != nil {
			return nil, err
		}
		for _, k := range all {
			out = append(out, k.told)
		}
	}
	return out, nil
}

// ours finds a snapshot of ours, nil for none.
func ours(all []kept, id, ref string) *kept {
	for i := range all {
		if all[i].told.ID == id && (ref == "" || all[i].told.Ref == ref) {
			return &all[i]
		}
	}
	return nil
}

// Unsnap implements [source.Snapshotter].
func (h Host) Unsnap(ctx context.Context, name, id, ref string) (was bool, err error) {
	g, err := h.guest(ctx, name, "")
	if errors.Is(err, source.ErrNoMachine) {
		return false, nil // it went with its guest
	}
	if err != nil {
		return false, err
	}
	all, err := h.of(ctx, g)
	k := ours(all, id, ref)
	if err != nil || k == nil {
		return false, err
	}
	var flags golibvirt.DomainSnapshotDeleteFlags
	if k.external() {
		if err := h.merge(ctx, g, *k); err != nil {
			return true, fmt.Errorf("guest %s: remove snapshot %s: %w", name, id, err)
		}
		flags = golibvirt.DomainSnapshotDeleteMetadataOnly
	}
	return true, h.forget(ctx, g, k.snap, flags)
}

// forget removes a snapshot from libvirt's list, and an internal one from the disks.
func (h Host) forget(ctx context.Context, g guest, s golibvirt.DomainSnapshot, flags golibvirt.DomainSnapshotDeleteFlags) error {
	err := h.Within(ctx, mergeTime, "remove snapshot "+s.Name+" of guest "+g.Name, func() error { return h.L.DomainSnapshotDelete(s, flags) })
	if daemon.IsCode(err, golibvirt.ErrNoDomainSnapshot) {
		return nil
	}
	return err
}

// chain lists the files of a disk, from the one that is written to down.
func (h Host) chain(ctx context.Context, top string) (out []string, err error) {
	for file := top; file != ""; {
		if out = append(out, file); len(out) > 200 {
			return nil, fmt.Errorf("disk %s lies over more than 200 files", top)
		}
		below, err := h.Below(ctx, file)
		if err != nil {
			return nil, fmt.Errorf("disk %s: %w", file, err)
		}
		if below != "" && !path.IsAbs(below) {
			below = path.Join(path.Dir(file), below)
		}
		file = below
	}
	return out, nil
}
