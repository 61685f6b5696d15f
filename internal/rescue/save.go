package rescue

import (
	"context"
	"errors"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/wire"
)

// save makes an image of this machine, whose disks nobody writes to meanwhile.
func save(ctx context.Context, c *console, t settings) (err error) {
	l, err := askLodge(ctx, c, t)
	if err != nil {
		return err
	}
	disks, err := targets()
	if err != nil {
		return err
	}
	if len(disks) == 0 {
		return errNoDisk
	}
	name, err := c.ask(ctx, "What is the machine called", "")
	if err != nil {
		return err
	}
	into, err := c.ask(ctx, "Into which store of the lodge", "")
	if err != nil {
		return err
	}
	uefi := startedByUEFI()
	brought, by := wire.Brought{System: "saved by a rescue medium", UEFI: &uefi}, map[string]disk.Disk{}
	for _, d := range disks {
		c.say("  %s", d.line())
		if err := d.open(false); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, d.close()) }()
		brought.Disks = append(brought.Disks, wire.BroughtDisk{Target: d.name, Size: d.size})
		by[d.name] = d
	}
	if err := c.pause(ctx, "All of these are read"); err != nil {
		return err
	}
	taken, err := l.k.Bring(ctx, into, name, "saved by a rescue medium", brought, by)
	if err != nil {
		return err
	}
	c.say("\n✓ image %s of %s in %s; %s of it were new to the store", taken.Image, name, into, size(taken.Stored))
	return nil
}
