package daemon

import (
	"context"
	"encoding/hex"
	"fmt"

	golibvirt "github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/source"
)

// Domain looks a guest up. One that is not there is [source.ErrNoMachine].
func (c *Conn) Domain(ctx context.Context, name string) (golibvirt.Domain, error) {
	var d golibvirt.Domain
	err := c.Within(ctx, AnswerTime, "look up guest "+name, func() (err error) {
		d, err = c.L.DomainLookupByName(name)
		return err
	})
	if IsCode(err, golibvirt.ErrNoDomain) {
		err = fmt.Errorf("guest %s: %w on this hypervisor", name, source.ErrNoMachine)
	}
	return d, err
}

// DomainOf is the guest of a name, which has to have a UUID (32 digits, "" for any): another one of that name is [source.ErrNoMachine].
func (c *Conn) DomainOf(ctx context.Context, name, uuid string) (golibvirt.Domain, error) {
	d, err := c.Domain(ctx, name)
	if is := hex.EncodeToString(d.UUID[:]); err == nil && uuid != "" && is != uuid {
		err = fmt.Errorf("guest %s: %w on this hypervisor with UUID %s; the one of that name has %s", name, source.ErrNoMachine, uuid, is)
	}
	return d, err
}

// State is how a guest stands.
func (c *Conn) State(ctx context.Context, d golibvirt.Domain) (golibvirt.DomainState, error) {
	var state int32
	err := c.Within(ctx, AnswerTime, "ask for the state of guest "+d.Name, func() (err error) {
		state, _, err = c.L.DomainGetState(d, 0)
		return err
	})
	return golibvirt.DomainState(state), err
}

// Definition is the guest's description; inactive is the one that the next start will use.
func (c *Conn) Definition(ctx context.Context, d golibvirt.Domain, inactive bool) (string, *libvirtxml.Domain, error) {
	var flags golibvirt.DomainXMLFlags // without the one that would tell passwords
	if inactive {
		flags = golibvirt.DomainXMLInactive
	}
	var text string
	err := c.Within(ctx, AnswerTime, "read the definition of guest "+d.Name, func() (err error) {
		text, err = c.L.DomainGetXMLDesc(d, flags)
		return err
	})
	if err != nil {
		return "", nil, err
	}
	def := new(libvirtxml.Domain)
	if err := def.Unmarshal(text); err != nil {
		return "", nil, fmt.Errorf("definition of guest %s: %w", d.Name, err)
	}
	return text, def, nil
}

// Described implements [source.Reverter].
func (c *Conn) Described(ctx context.Context, name string) (string, error) {
	d, err := c.Domain(ctx, name)
	if err != nil {
		return "", err
	}
	text, _, err := c.Definition(ctx, d, true)
	return text, err
}

// Revert implements [source.Reverter].
func (c *Conn) Revert(ctx context.Context, name, described string) error {
	d, err := c.Domain(ctx, name)
	if err != nil {
		return err
	}
	state, err := c.State(ctx, d)
	if err != nil {
		return err
	}
	if state != golibvirt.DomainShutoff && state != golibvirt.DomainCrashed {
		return fmt.Errorf("guest %s: %w: it is not off; shut it down first", name, source.ErrBusy)
	}
	return c.Within(ctx, AnswerTime, "define guest "+name+" as it was", func() error {
		_, err := c.L.DomainDefineXML(described)
		return err
	})
}

// Attach implements [source.Attacher].
func (c *Conn) Attach(ctx context.Context, name string, places []string) (targets []string, err error) {
	d, err := c.Domain(ctx, name)
	if err != nil {
		return nil, err
	}
	_, def, err := c.Definition(ctx, d, true)
	if err != nil {
		return nil, err
	}
	state, err := c.State(ctx, d)
	if err != nil {
		return nil, err
	}
	how := uint32(golibvirt.DomainDeviceModifyConfig)
	if state == golibvirt.DomainRunning || state == golibvirt.DomainPaused {
		how |= uint32(golibvirt.DomainDeviceModifyLive)
	}
	taken := map[string]bool{}
	if def.Devices != nil {
		for _, k := range def.Devices.Disks {
			if k.Target != nil {
				taken[k.Target.Dev] = true
			}
		}
	}
	for _, place := range places {
		target := ""
		for letter := 'a'; letter <= 'z' && target == ""; letter++ {
			if !taken["vd"+string(letter)] {
				target = "vd" + string(letter)
			}
		}
		if target == "" {
			return targets, fmt.Errorf("guest %s has no room for one more disk", name)
		}
		k := libvirtxml.DomainDisk{Device: "disk", Driver: &libvirtxml.DomainDiskDriver{Name: "qemu", Type: "qcow2"}, Source: &libvirtxml.DomainDiskSource{File: &libvirtxml.DomainDiskSourceFile{File: place}},
			Target: &libvirtxml.DomainDiskTarget{Dev: target, Bus: "virtio"}}
		text, err := k.Marshal()
		if err != nil {
			return targets, err
		}
		err = c.Within(ctx, AnswerTime, "attach disk "+target+" to guest "+name, func() error { return c.L.DomainAttachDeviceFlags(d, text, how) })
		if err != nil {
			return targets, fmt.Errorf("%w; a guest that runs may have no free slot: shut it down, and do it again", err)
		}
		taken[target], targets = true, append(targets, target)
	}
	return targets, nil
}
