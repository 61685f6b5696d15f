// Package islet reaches hypervisors that speak islet's interface, as the stand-in of that kind does (docs/stand-ins.md): several hosts at one address,
// snapshots as what a capture reads, offered over NBD with TLS, and lists of what changed since a change identity, a tide.
package islet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

// Kind is the kind of these sources.
const Kind = "islet"

func init() {
	source.Register(Kind, func(_ context.Context, spec site.Hypervisor) (source.Source, error) {
		c, err := rest.New(spec)
		if err != nil {
			return nil, err
		}
		return &Hypervisor{c}, nil
	}, nil)
}

// taskTime is how long a task may take, mergeTime how long a snapshot's removal may.
const (
	taskTime  = time.Minute
	mergeTime = time.Hour
)

// Hypervisor is a connection.
type Hypervisor struct{ *rest.Client }

// guest is a machine, as the interface tells of it.
type guest struct {
	ID    string            `json:"id,omitempty"`
	Name  string            `json:"name"`
	Host  string            `json:"host,omitempty"`
	Power string            `json:"power,omitempty"`
	Tags  map[string]string `json:"tags,omitempty"`
	Build build             `json:"build"`
	Disks []guestDisk       `json:"disks"`
	Notes map[string]string `json:"notes,omitempty"`
}

// build is what a machine is beside its disks. Shares are folders of its host that it sees.
type build struct {
	Memory   int64    `json:"memory"`
	CPUs     int      `json:"cpus"`
	Firmware string   `json:"firmware"`
	Cards    []string `json:"cards,omitempty"`
	Shares   []string `json:"shares,omitempty"`
}

type guestDisk struct {
	Target string `json:"target"`
	Volume string `json:"volume"`
	Size   int64  `json:"size,omitempty"`
}

// snapshot is a moment of a guest.
type snapshot struct {
	ID    string    `json:"id"`
	Name  string    `json:"name"`
	Note  string    `json:"note"`
	Made  time.Time `json:"made"`
	Power string    `json:"power"`
	Held  bool      `json:"held"`
	Grown int64     `json:"grown"`
	Disks []struct {
		Target string `json:"target"`
		Size   int64  `json:"size"`
		Tide   string `json:"tide"`
	} `json:"disks"`
}

// identity is a machine's UUID as the lodge writes it.
func (g guest) identity() string { return rest.Identity(g.ID) }

func (g guest) runs() bool { return g.Power == "on" }

func (h *Hypervisor) guests(ctx context.Context) (out []guest, err error) {
	if err := h.Call(ctx, http.MethodGet, "/guests", nil, &out); err != nil {
		return nil, fmt.Errorf("list guests: %w", err)
	}
	return out, nil
}

// guest finds a guest by its name.
func (h *Hypervisor) guest(ctx context.Context, name string) (guest, error) {
	all, err := h.guests(ctx)
	if err != nil {
		return guest{}, err
	}
	i := slices.IndexFunc(all, func(g guest) bool { return g.Name == name })
	if i < 0 {
		return guest{}, fmt.Errorf("guest %s: %w", name, source.ErrNoMachine)
	}
	return all[i], nil
}

// gone has an answer that something is not there be [source.ErrNoMachine], where that is a guest.
func gone(name string, err error) error {
	if rest.Is(err, http.StatusNotFound) {
		return fmt.Errorf("guest %s: %w (%w)", name, source.ErrNoMachine, err)
	}
	return err
}

// Machines implements [source.Source].
func (h *Hypervisor) Machines(ctx context.Context) ([]source.Machine, error) {
	all, err := h.guests(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]source.Machine, 0, len(all))
	for _, g := range all {
		m := source.Machine{Name: g.Name, UUID: g.identity(), State: machine.Off, Tags: g.Tags, Disks: []source.Disk{}}
		if g.runs() {
			m.State = machine.Running
		}
		if m.Tags == nil {
			m.Tags = map[string]string{}
		}
		for _, d := range g.Disks {
			m.Disks = append(m.Disks, source.Disk{Target: d.Target, Format: format, Size: d.Size})
		}
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b source.Machine) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// format is what its disks are called.
const format = "islet"

// Describe implements [source.Describer].
func (h *Hypervisor) Describe(ctx context.Context) (source.Facts, error) {
	var about struct {
		System string `json:"system"`
		Hosts  []struct {
			Name string `json:"name"`
		} `json:"hosts"`
	}
	if err := h.Call(ctx, http.MethodGet, "/about", nil, &about); err != nil {
		return source.Facts{}, err
	}
	names := make([]string, len(about.Hosts))
	for i, host := range about.Hosts {
		names[i] = host.Name
	}
	return source.Facts{Version: about.System, Host: strings.Join(names, ", "), Free: -1, Total: -1}, nil
}

// CreateDisk implements [source.Restorer]. There are no pools; its place is the volume's ID.
func (h *Hypervisor) CreateDisk(ctx context.Context, _, name string, length int64, content io.Reader) (string, error) {
	var v struct {
		ID string `json:"id"`
	}
	err := h.Send(ctx, http.MethodPut, rest.Path("volumes", name), length, content, &v)
	if rest.Is(err, http.StatusConflict) {
		return "", fmt.Errorf("volume %s: %w", name, source.ErrExists)
	}
	if err == nil && v.ID == "" {
		err = errors.New("it answers that it is there, but not what it is")
	}
	if err != nil {
		_, undone := h.RemoveDisk(context.WithoutCancel(ctx), "", name)
		return "", errors.Join(fmt.Errorf("make volume %s: %w", name, err), undone)
	}
	return v.ID, nil
}

// RemoveDisk implements [source.Restorer].
func (h *Hypervisor) RemoveDisk(ctx context.Context, _, name string) (removed bool, err error) {
	err = h.Call(ctx, http.MethodDelete, rest.Path("volumes", name), nil, nil)
	if rest.Is(err, http.StatusNotFound) || rest.Is(err, http.StatusConflict) { // what a machine has stays
		return false, nil
	}
	return err == nil, err
}

// Define implements [source.Restorer].
func (h *Hypervisor) Define(ctx context.Context, n source.NewGuest) (left []string, err error) {
	g, left, err := describe(n)
	if err != nil {
		return nil, err
	}
	was, err := h.guest(ctx, n.Name)
	switch {
	case err == nil && !n.Replace:
		return nil, fmt.Errorf("guest %s: %w", n.Name, source.ErrExists)
	case err == nil && was.runs():
		return nil, fmt.Errorf("guest %s: %w, it runs; power it off first", n.Name, source.ErrBusy)
	case err == nil:
		if g.ID = was.ID; len(g.Build.Cards) > 0 {
			g.Build.Cards = was.Build.Cards
		}
		if err := h.Call(ctx, http.MethodDelete, rest.Path("guests", was.ID), nil, nil); err != nil {
			return nil, fmt.Errorf("take guest %s away, to define it anew: %w", n.Name, err)
		}
	case !errors.Is(err, source.ErrNoMachine):
		return nil, err
	}
	if err := h.Call(ctx, http.MethodPost, "/guests", g, nil); err != nil {
		return nil, fmt.Errorf("define guest %s: %w", n.Name, err)
	}
	if _, err := h.guest(ctx, n.Name); err != nil {
		return nil, fmt.Errorf("the hypervisor answers that it is defined, but: %w", err)
	}
	return left, nil
}

// Admit implements [source.Restorer].
func (h *Hypervisor) Admit(n source.NewGuest) (left []string, err error) {
	_, left, err = describe(n)
	return left, err
}

// Start implements [source.Restorer].
func (h *Hypervisor) Start(ctx context.Context, name string) error {
	g, err := h.guest(ctx, name)
	if err != nil {
		return err
	}
	if err := h.Task(ctx, taskTime, http.MethodPost, rest.Path("guests", g.ID, "power"), "on", nil); err != nil {
		return fmt.Errorf("power guest %s on: %w", name, err)
	}
	if g, err = h.guest(ctx, name); err == nil && !g.runs() {
		err = fmt.Errorf("guest %s: it answers that it is on, and it is not", name)
	}
	return err
}

// definition is what is kept of a guest: all but what changes.
func (g guest) definition() (string, error) {
	g.Notes, g.Host, g.Power = nil, "", ""
	body, err := json.Marshal(g)
	return string(body), err
}
