package restore

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/fitting"
	"keenlodge/internal/reader"
	"keenlodge/internal/runs"
	"keenlodge/internal/stores"
)

// fit has the disks of an image as a restore's guests get them. What is done to them for all of the guests is done once. Close it.
type fit struct {
	rs *Restores
	on restoring
	q  Request

	opened []reader.Disk
	fitted *fitting.Fitted
	clones *fitting.Clones
	ends   []func() error
}

// Close closes what was opened.
func (f *fit) Close() (err error) {
	for i := range f.ends {
		err = errors.Join(err, f.ends[len(f.ends)-1-i]())
	}
	f.ends = nil
	return err
}

// of are the disks of a task's guest, in the image's order, and the addresses of its network cards by those of the image.
func (f *fit) of(ctx context.Context, t *runs.Task) (disks []reader.Disk, cards map[string]string, err error) {
	if f.opened == nil {
		opened, end, err := stores.OpenDisks(ctx, f.on.st, f.on.manifest)
		if err != nil {
			return nil, nil, err
		}
		f.opened, f.ends = opened, append(f.ends, end)
	}
	if !f.q.fits() {
		return f.opened, nil, nil
	}
	if f.fitted == nil {
		if err := f.begin(ctx, t); err != nil {
			return nil, nil, err
		}
	}
	if !f.q.Identity {
		return f.fitted.Disks, nil, nil
	}
	return f.own(ctx, t)
}

// begin does what is done once.
func (f *fit) begin(ctx context.Context, t *runs.Task) error {
	if err := t.Begin(ctx, "fitting disks"); err != nil {
		return err
	}
	plans, err := fitting.Plans(f.opened, f.q.Sizes)
	if err != nil {
		return err
	}
	if f.fitted, err = fitting.Fit(ctx, f.rs.stores.Reader, f.rs.scratch, f.opened, plans); err != nil {
		return fmt.Errorf("make the disks fit: %w", err)
	}
	f.ends = append(f.ends, f.fitted.Close)
	for _, done := range f.fitted.Done {
		t.Log(ctx, "%s", done)
	}
	return nil
}

// own gives the task's guest an identity of its own.
func (f *fit) own(ctx context.Context, t *runs.Task) (disks []reader.Disk, cards map[string]string, err error) {
	if err := t.Begin(ctx, "giving it an identity"); err != nil {
		return nil, nil, err
	}
	if f.clones == nil {
		if f.clones, err = f.fitted.Clones(ctx, f.rs.stores.Reader); err != nil {
			return nil, nil, err
		}
		f.ends = append(f.ends, f.clones.Close)
	}
	cards = map[string]string{}
	for _, card := range machine.HardwareOf(f.on.manifest.Definition).Cards {
		if card != "" {
			cards[strings.ToLower(card)] = newCard()
		}
	}
	disks, done, err := f.clones.Next(ctx, reader.Identity{Host: t.Machine, Cards: cards})
	for _, what := range done {
		t.Log(ctx, "%s", what)
	}
	if err != nil {
		err = fmt.Errorf("give the guest an identity of its own: %w", err)
	}
	return disks, cards, err
}

// plans says how the disks of a request will be divided, or why they can't be made as they are wanted.
func (rs *Restores) plans(ctx context.Context, on restoring, q Request) (plans []fitting.Plan, err error) {
	if !q.fits() {
		return nil, nil
	}
	end, err := on.st.Reading(ctx, rs.program)
	if err != nil {
		return nil, err
	}
	defer end(context.WithoutCancel(ctx))
	disks, shut, err := stores.OpenDisks(ctx, on.st, on.manifest)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, shut()) }()
	return fitting.Plans(disks, q.Sizes)
}

// newCard draws the hardware address of a network card of QEMU's.
func newCard() string {
	n := make([]byte, 3)
	rand.Read(n)
	return fmt.Sprintf("52:54:00:%02x:%02x:%02x", n[0], n[1], n[2])
}
