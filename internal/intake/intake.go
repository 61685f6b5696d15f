// Package intake makes images of disks that somebody brings, such as files of other programs: of machines that no source has.
package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"github.com/google/uuid"

	"keenlodge/internal/agent/block"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/wire"
)

const (
	// mostDisks bounds the disks of one machine, mostSize each of them, in bytes.
	mostDisks, mostSize = 256, 1 << 50
	// recordTime is how long a finished image waits for a database that does not answer; after that it can be adopted from its store.
	recordTime = 10 * time.Minute
)

// Intake takes disks in.
type Intake struct {
	rec     *records.Records
	log     *slog.Logger
	stores  *stores.Stores
	program string
}

// New makes an Intake. program is the name under which images are made.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores, program string) *Intake {
	return &Intake{rec, log, ss, program}
}

// Order says what becomes of what is brought: an image of a machine, in a store.
type Order struct {
	Store, Machine, Note string
}

// Admit refuses what can't be, before anything is read. The machine must be one that no source has.
func (in *Intake) Admit(ctx context.Context, o Order) error {
	s, err := in.rec.Site(ctx)
	if err != nil {
		return err
	}
	if _, ok := s.Stores[o.Store]; !ok {
		return fmt.Errorf("%w: the site has no store %q; look at: keenlodge store list", fault.ErrNotFound, o.Store)
	}
	if !machine.IsName(o.Machine) {
		return fmt.Errorf("%w: %q can't be a machine's name: up to 63 letters, digits, dots, dashes and underscores", fault.ErrInvalid, o.Machine)
	}
	_, err = in.machine(ctx, o.Machine)
	return err
}

// machine is the identity of the machine of a name, a new one where there is none.
func (in *Intake) machine(ctx context.Context, name string) (string, error) {
	all, err := in.rec.MachineStandings(ctx)
	if err != nil {
		return "", err
	}
	for _, m := range all {
		if m.Name != name {
			continue
		}
		if m.Hypervisor != "" {
			return "", fmt.Errorf("%w: %s is a machine of %s, of which images are taken there; choose another name for what is imported", fault.ErrConflict, name, m.Hypervisor)
		}
		return m.ID, nil
	}
	return uuid.NewString(), nil
}

// Opener opens a disk that is brought; close it.
type Opener func(ctx context.Context, target string) (store.OpenedDisk, error)

// Take makes an image of what is brought. Until all of it is in the store there is none.
func (in *Intake) Take(ctx context.Context, o Order, what wire.Brought, open Opener) (_ *image.Manifest, err error) {
	if err := check(what); err != nil {
		return nil, fmt.Errorf("%w: %w", fault.ErrInvalid, err)
	}
	id, err := in.machine(ctx, o.Machine)
	if err != nil {
		return nil, err
	}
	s, err := in.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	spec := s.Stores[o.Store]
	st, err := in.stores.Named(ctx, o.Store)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	m := &image.Manifest{Format: image.Format, ID: image.NewID(), Machine: o.Machine, Identity: id, Taken: began.UTC(), Scope: image.WholeMachine, Capture: image.Full, Consistency: image.Crash,
		Why: "it was imported", Note: o.Note, SeparateSet: true, System: plain.Text(what.System, 200), Program: in.program}
	w, err := st.Begin(ctx, m, store.WriteOptions{Program: in.program, Compress: spec.Compress, Compression: spec.Compression})
	if err != nil {
		return nil, err
	}
	defer func() {
		if ended := w.End(context.WithoutCancel(ctx), err); ended != nil {
			in.log.Warn("the end of an image's writing", "image", m.ID, "error", ended)
		}
	}()
	layout := block.Layout{Kind: "server", Host: o.Machine, System: m.System, Arch: "x86_64", CPUs: max(what.CPUs, 0), Memory: max(what.Memory, 0)}
	if what.UEFI != nil && *what.UEFI {
		layout.Boot = "uefi"
	}
	count := &store.Progress{}
	for _, d := range what.Disks {
		boots, err := in.disk(ctx, w, m, d, open, count)
		if err != nil {
			return nil, fmt.Errorf("disk %s: %w", d.Target, err)
		}
		if layout.Boot == "" {
			layout.Boot = boots
		}
		layout.Disks = append(layout.Disks, block.LayoutDisk{Target: d.Target, Size: d.Size, Sector: 512, Parts: []block.LayoutPart{}})
	}
	if err := w.Flush(ctx); err != nil {
		return nil, err
	}
	definition, err := json.Marshal(layout)
	if err != nil {
		return nil, err
	}
	m.Definition = string(definition)
	m.Sizes.Read, m.Sizes.Data = count.Data.Load(), min(count.Data.Load(), m.Sizes.Disks)
	m.Sizes.New, m.Sizes.Stored = w.Written()
	m.Took = time.Since(began)
	m.Lock(spec.LockTime(), time.Now())
	if err := w.Finish(ctx, m); err != nil {
		return nil, err
	}
	recording, end := context.WithTimeout(context.WithoutCancel(ctx), recordTime)
	defer end()
	if err := in.stores.Record(recording, o.Store, m); err != nil {
		return nil, fmt.Errorf("image %s lies in the store, and could not be recorded; have it recorded with keenlodge store adopt %s: %w", m.ID, o.Store, err)
	}
	return m, nil
}

// check refuses disks that can't be.
func check(what wire.Brought) error {
	if len(what.Disks) == 0 || len(what.Disks) > mostDisks {
		return fmt.Errorf("a machine has 1 to %d disks, and %d are brought", mostDisks, len(what.Disks))
	}
	for i, d := range what.Disks {
		if !image.IsTarget(d.Target) || slices.ContainsFunc(what.Disks[:i], func(o wire.BroughtDisk) bool { return o.Target == d.Target }) {
			return fmt.Errorf("%.80q is no name of a disk, or there twice", d.Target)
		}
		if d.Size <= 0 || d.Size%512 != 0 || d.Size > mostSize {
			return fmt.Errorf("disk %s has %d bytes, which are no whole sectors of 512 bytes, or too many", d.Target, d.Size)
		}
	}
	return nil
}

// disk stores one disk, and tells how a machine starts from it.
func (in *Intake) disk(ctx context.Context, w store.Writing, m *image.Manifest, d wire.BroughtDisk, open Opener, count *store.Progress) (boots string, err error) {
	opened, err := open(ctx, d.Target)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, opened.Close()) }()
	if opened.Size() != d.Size {
		return "", fmt.Errorf("%w: %d bytes were announced, and it has %d", fault.ErrInvalid, d.Size, opened.Size())
	}
	stored, err := w.Disk(ctx, d.Target, "raw", opened, nil, count)
	if err != nil {
		return "", err
	}
	m.Disks = append(m.Disks, stored)
	m.Sizes.Disks += d.Size
	boots, _ = disk.Boots(opened) // what can't be told is asked for by nobody
	return boots, nil
}
