package sourcetest

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/qcow2"
	"keenlodge/internal/source"
)

// CreateDisk implements [source.Restorer].
func (c *Conn) CreateDisk(_ context.Context, pool, name string, length int64, content io.Reader) (string, error) {
	if err := c.h.fault("create disk", name); err != nil {
		return "", err
	}
	body, err := io.ReadAll(content)
	if err == nil && int64(len(body)) != length {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return "", fmt.Errorf("disk %s: %w", name, err)
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	if c.h.disks == nil {
		c.h.disks = map[string][]byte{}
	}
	place := path.Join(pool, name)
	c.h.disks[place] = body
	return place, nil
}

// RemoveDisk implements [source.Restorer].
func (c *Conn) RemoveDisk(_ context.Context, pool, name string) (removed bool, err error) {
	if err := c.h.fault("remove disk", name); err != nil {
		return false, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	place := path.Join(pool, name)
	for _, g := range c.h.guests {
		if slices.Contains(g.places, place) {
			return false, nil
		}
	}
	_, removed = c.h.disks[place]
	delete(c.h.disks, place)
	return removed, nil
}

// Unused lists the places of disks that restores made and no guest has.
func (h *Host) Unused() (out []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for place := range h.disks {
		if !slices.ContainsFunc(slices.Collect(maps.Values(h.guests)), func(g *Guest) bool { return slices.Contains(g.places, place) }) {
			out = append(out, place)
		}
	}
	return out
}

// Clear takes away all that restores made.
func (h *Host) Clear() {
	h.mu.Lock()
	defer h.mu.Unlock()
	clear(h.disks)
	maps.DeleteFunc(h.guests, func(_ string, g *Guest) bool { return strings.HasPrefix(g.UUID, restored) })
}

// restored begins the UUID of what a restore made.
const restored = "restored-"

// Restored lists the places of the disks that restores made.
func (h *Host) Restored() []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.Sorted(maps.Keys(h.disks))
}

// Admit implements [source.Restorer]: a fake's definition reaches nothing.
func (c *Conn) Admit(g source.NewGuest) (left []string, err error) {
	if len(g.Take) > 0 {
		return nil, fmt.Errorf("nothing of the definition that could be taken over is called %q", g.Take[0])
	}
	return nil, nil
}

// Define implements [source.Restorer].
func (c *Conn) Define(ctx context.Context, g source.NewGuest) (left []string, err error) {
	if err := c.h.fault("define", g.Name); err != nil {
		return nil, err
	}
	disks := map[string]disk.Memory{}
	for target, place := range g.Disks {
		c.h.mu.Lock()
		body := c.h.disks[place]
		c.h.mu.Unlock()
		opened, err := qcow2.Open(bytes.NewReader(body), nil)
		if err != nil {
			return nil, fmt.Errorf("disk %s: %w", place, err)
		}
		m := make(disk.Memory, opened.Size())
		if _, err := opened.ReadAt(m, 0); err != nil && err != io.EOF {
			return nil, fmt.Errorf("disk %s: %w", place, err)
		}
		disks[target] = m
	}
	c.h.mu.Lock()
	old, taken := c.h.guests[g.Name]
	if taken && g.Replace {
		for _, place := range old.places {
			delete(c.h.disks, place) // they stay, as somebody's: they are not what a restore left
		}
	}
	c.h.mu.Unlock()
	if taken && !g.Replace {
		return nil, fmt.Errorf("guest %s: %w", g.Name, source.ErrExists)
	}
	c.h.Add(g.Name, restored+g.Name, nil, disks)
	c.h.mu.Lock()
	variables := c.h.disks[g.Variables]
	c.h.mu.Unlock()
	c.h.Change(g.Name, func(made *Guest) {
		made.State, made.Variables, made.TPM = machine.Off, variables, g.TPM
		made.places = append(slices.Collect(maps.Values(g.Disks)), g.Variables)
	})
	return nil, context.Cause(ctx)
}

// Start implements [source.Restorer].
func (c *Conn) Start(_ context.Context, name string) error {
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, err := c.h.guest(name)
	if err == nil {
		g.State = machine.Running
	}
	return err
}

// Described implements [source.Reverter].
func (c *Conn) Described(_ context.Context, name string) (string, error) {
	if err := c.h.fault("describe", name); err != nil {
		return "", err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, ok := c.h.guests[name]
	if !ok {
		return "", fmt.Errorf("guest %s: %w", name, source.ErrNoMachine)
	}
	was := fmt.Sprintf("as of %d", len(c.h.was))
	c.h.was = append(c.h.was, *g)
	return was, nil
}

// Revert implements [source.Reverter].
func (c *Conn) Revert(_ context.Context, name, described string) error {
	if err := c.h.fault("revert", name); err != nil {
		return err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, n := c.h.guests[name], -1
	if _, err := fmt.Sscanf(described, "as of %d", &n); err != nil || n >= len(c.h.was) || g == nil {
		return fmt.Errorf("guest %s: %q describes none", name, described)
	}
	if g.State != machine.Off {
		return fmt.Errorf("guest %s: %w: it is not off", name, source.ErrBusy)
	}
	was := c.h.was[n]
	c.h.guests[name] = &was
	return nil
}

// Attach implements [source.Attacher].
func (c *Conn) Attach(_ context.Context, name string, places []string) (targets []string, err error) {
	if err := c.h.fault("attach", name); err != nil {
		return nil, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, ok := c.h.guests[name]
	if !ok {
		return nil, fmt.Errorf("guest %s: %w", name, source.ErrNoMachine)
	}
	for _, place := range places {
		opened, err := qcow2.Open(bytes.NewReader(c.h.disks[place]), nil)
		if err != nil {
			return targets, err
		}
		body := make(disk.Memory, opened.Size())
		if _, err := opened.ReadAt(body, 0); err != nil && err != io.EOF {
			return targets, err
		}
		target := fmt.Sprintf("vd%c", 'a'+len(g.Disks))
		g.Disks[target] = body
		g.places = append(g.places, place)
		targets = append(targets, target)
	}
	return targets, nil
}
