package stores

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/wire"
)

// Adopt records the images that a store holds: after the database was lost, or from another lodge. Rotation leaves them alone, for that lodge
// may still be there and rotate them by its own rules, until a person says with rotate that they are this lodge's from now on.
func (ss *Stores) Adopt(ctx context.Context, name string, rotate bool) (wire.Adopted, error) {
	out := wire.Adopted{Damaged: []string{}, Missing: []string{}}
	st, err := ss.Named(ctx, name)
	if err != nil {
		return out, err
	}
	self, err := ss.rec.Lodge(ctx)
	if err != nil {
		return out, err
	}
	owner, err := store.ReadOwner(ctx, st.Medium())
	if err != nil {
		return out, err
	}
	notes, err := st.AllNotes(ctx)
	if err != nil {
		return out, err
	}
	ids, err := st.ImageIDs(ctx)
	if err != nil {
		return out, err
	}
	there := map[string]bool{}
	sets := map[[2]string]bool{}
	for _, id := range ids {
		there[id] = true
		m, err := st.ReadImage(ctx, id)
		if errors.Is(err, medium.ErrNotFound) {
			continue // dropped meanwhile
		}
		if errors.Is(err, chunk.ErrDamaged) {
			out.Damaged = append(out.Damaged, err.Error())
			continue
		}
		if err != nil {
			return out, err
		}
		sets[[2]string{identityOf(m), m.Policy}] = true
		n := notes[id]
		rec := Finished(records.Image{ID: id, Machine: m.Machine, MachineID: identityOf(m), Policy: m.Policy, Store: name, Scope: m.Scope, Adopted: owner.Lodge != self}, m)
		if n.Pin != nil {
			rec.Pinned, rec.PinNote = true, n.Pin.Note
		}
		var proofs []records.Proof
		for _, p := range n.Proofs {
			if !slices.Contains(image.Levels, p.Level) {
				out.Damaged = append(out.Damaged, fmt.Sprintf("image %s: a proof of a level that is not known to this program, %.40q, was left out", id, p.Level))
				continue
			}
			proofs = append(proofs, records.Proof{Level: p.Level, Passed: p.Passed, Began: p.Began, Ended: p.Ended, Program: p.Program, Evidence: p.Evidence, Error: p.Error, Report: p.Report})
		}
		fresh, err := ss.rec.Adopt(ctx, rec, proofs)
		if records.Refused(err) {
			out.Damaged = append(out.Damaged, fmt.Sprintf("image %s of %s says of itself what can't be recorded (scope %.40q, capture %.40q, consistency %.40q)", id, m.Machine, m.Scope, m.Capture, m.Consistency))
			continue
		}
		if err != nil {
			return out, err
		}
		if !fresh {
			out.Known++
			continue
		}
		out.Images, out.Proofs = out.Images+1, out.Proofs+len(proofs)
		if n.Pin != nil {
			out.Pins++
		}
		added, err := ss.rec.AdoptMachine(ctx, machineFrom(m))
		if err != nil {
			return out, err
		}
		if added {
			out.Machines++
		}
	}
	out.Sets = len(sets)
	known, err := ss.rec.Images(ctx, records.ImageFilter{Store: name})
	for _, m := range known {
		if !there[m.ID] && m.State != "writing" {
			out.Missing = append(out.Missing, fmt.Sprintf("%s of %s, taken %s", m.ID, m.Machine, m.Taken.Format("2006-01-02 15:04")))
		}
	}
	if err == nil && rotate {
		out.TakenOver, err = ss.takeOver(ctx, name, st, self)
	} else if owner.Lodge != self && out.Images+out.Known > 0 {
		out.Owner = &owner
	}
	return out, err
}

// Record records an image that this lodge has made in a store, and its machine where that is new.
func (ss *Stores) Record(ctx context.Context, name string, m *image.Manifest) error {
	rec := Finished(records.Image{ID: m.ID, Machine: m.Machine, MachineID: identityOf(m), Policy: m.Policy, Store: name, Scope: m.Scope}, m)
	if _, err := ss.rec.AdoptMachine(ctx, machineFrom(m)); err != nil {
		return err
	}
	if _, err := ss.rec.Adopt(ctx, rec, nil); err != nil {
		return err
	}
	if ss.Came == nil {
		return nil
	}
	if err := ss.Came(ctx, name); err != nil { // the image is there and stays
		ss.log.Warn("what follows an image that came into a store could not be started; its next moment does it", "store", name, "error", err)
	}
	return nil
}

// takeOver makes this lodge the one that rotates a store's images.
func (ss *Stores) takeOver(ctx context.Context, name string, st store.Store, self string) (images int, err error) {
	if err := store.PutOwner(ctx, st.Medium(), store.Owner{Lodge: self, Since: time.Now().UTC()}); err != nil {
		return 0, err
	}
	return ss.rec.TakeOver(ctx, name)
}

// identityOf is the identity of an image's machine. Images made before machines had one have one of its name.
func identityOf(m *image.Manifest) string { return cmp.Or(m.Identity, "named-"+m.Machine) }

// machineFrom is what an image tells of its machine.
func machineFrom(m *image.Manifest) records.Machine {
	out := records.Machine{ID: identityOf(m), Name: m.Machine, UUID: m.Identity, Hypervisor: m.Hypervisor, Tags: m.Tags, Disks: []records.MachineDisk{}, Seen: m.Taken}
	if out.Tags == nil {
		out.Tags = map[string]string{}
	}
	for _, d := range m.Disks {
		out.Disks = append(out.Disks, records.MachineDisk{Target: d.Target, Format: d.Format, Size: d.Size})
	}
	return out
}
