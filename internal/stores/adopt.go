package stores

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/records"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/wire"
)

// Adopt takes over the images that a store holds: after the database was lost, or from another lodge.
func (ss *Stores) Adopt(ctx context.Context, name string) (wire.Adopted, error) {
	out := wire.Adopted{Damaged: []string{}, Missing: []string{}}
	st, err := ss.Named(ctx, name)
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
		rec := Finished(records.Image{ID: id, Machine: m.Machine, MachineID: identityOf(m), Policy: m.Policy, Store: name, State: "usable", Scope: m.Scope}, m)
		if n.Pin != nil {
			rec.Pinned, rec.PinNote = true, n.Pin.Note
		}
		var proofs []records.Proof
		for _, p := range n.Proofs {
			proofs = append(proofs, records.Proof{Level: p.Level, Passed: p.Passed, Began: p.Began, Ended: p.Ended, Program: p.Program, Evidence: p.Evidence, Error: p.Error})
		}
		fresh, err := ss.rec.Adopt(ctx, rec, proofs)
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
	return out, err
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
