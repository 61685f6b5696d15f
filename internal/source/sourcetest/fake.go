// Package sourcetest has a source that lives in this process's memory, with faults on demand, and the conformance suite that every source
// passes. The program does not register it.
package sourcetest

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/files/filestest"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
)

// Kind is the kind of source under which fakes are registered.
const Kind = "fake"

// grain is how exactly a fake knows what changed, in bytes.
const grain = 64 << 10

var (
	hostsMu sync.Mutex
	hosts   = map[string]*Host{}
)

func init() {
	source.Register(Kind, func(ctx context.Context, spec site.Hypervisor) (source.Source, error) {
		h := Named(spec.URI)
		came := make(chan error, 1)
		go func() { came <- h.fault("dial", "") }()
		select {
		case err := <-came:
			if err != nil {
				return nil, err
			}
			return &Conn{h}, nil
		case <-ctx.Done():
			return nil, fmt.Errorf("%w: %w", source.ErrUnreachable, context.Cause(ctx))
		}
	}, nil)
}

// Named is the fake host of a name, which is made if need be. It is dialled by its name as the URI.
func Named(name string) *Host {
	hostsMu.Lock()
	defer hostsMu.Unlock()
	if hosts[name] == nil {
		hosts[name] = &Host{guests: map[string]*Guest{}}
	}
	return hosts[name]
}

// Host is a fake host.
type Host struct {
	// Fault, if not nil, is asked before each call, which it names, and may fail it or hold it up.
	Fault func(call, guest string) error

	mu     sync.Mutex
	guests map[string]*Guest
	was    []Guest // as they were described
	open   int
	// MostOpen is how many captures were open at the same time.
	MostOpen int
	// Things are what stands around its guests.
	Things []source.Thing
	disks  map[string][]byte // that CreateDisk made
	folder string
	// OnTrial, if not nil, is called whenever a throwaway guest is looked at, and says what is seen of it. Spare is what the host has left, nil for plenty.
	OnTrial func(*Trial)
	Spare   *source.Spare
}

// Guest is a machine of a fake host. Change it through [Host.Change].
type Guest struct {
	UUID  string
	State machine.State
	Tags  map[string]string
	Disks map[string]disk.Memory
	// Commands are what a command in the guest ends with; one that is missing ends with 127.
	Commands map[string]int
	// Called are the commands that were run, in their order.
	Called []string
	// Agent says that an agent answers in it.
	Agent bool
	// System is what the agent says that it runs.
	System string
	// WriteTimes, if not nil, tells what [source.WriteTimer] does; otherwise each [Host.Write] took a millisecond.
	WriteTimes func() (writes int64, took time.Duration)
	// Forgetful says that its disks can carry no checkpoint.
	Forgetful bool
	// Frozen, Job and Checkpoints are what captures do to it. Job is the ID of an open capture.
	Frozen      bool
	Job         string
	Checkpoints []string
	snaps       []snap
	// Files are those of a server, nil for what has none to offer; Parts are of its system state.
	Files filestest.Tree
	Parts []source.PartOf
	// Variables and TPM are what it keeps beside its disks, nil for nothing.
	Variables, TPM []byte

	restores map[string]*filesRestore             // of files
	trees    map[string]filestest.Tree            // of captures since which it can tell what changed
	trial    *Trial                               // that it is
	places   []string                             // of its disks, if a restore made them
	dirty    map[string]map[string]map[int64]bool // checkpoint, disk, grain
	writes   int64
}

// Add adds a guest that runs, with an agent in it.
func (h *Host) Add(name, uuid string, tags map[string]string, disks map[string]disk.Memory) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.guests[name] = &Guest{UUID: uuid, State: machine.Running, Tags: tags, Disks: disks, Agent: true, Commands: map[string]int{}, dirty: map[string]map[string]map[int64]bool{}}
}

// Remove takes a guest away.
func (h *Host) Remove(name string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.guests, name)
}

// Change changes a guest.
func (h *Host) Change(name string, change func(*Guest)) {
	h.mu.Lock()
	defer h.mu.Unlock()
	change(h.guests[name])
}

// Look returns a copy of what is known of a guest.
func (h *Host) Look(name string) Guest {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := *h.guests[name]
	g.Checkpoints = slices.Clone(g.Checkpoints)
	return g
}

// Remember gives a guest the checkpoint that a capture of an earlier lodge left, since which nothing was written.
func (h *Host) Remember(name, id string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := h.guests[name]
	g.Checkpoints = append(g.Checkpoints, id)
	g.dirty[id] = map[string]map[int64]bool{}
}

// Write writes to a guest's disk, as what runs in it does.
func (h *Host) Write(name, target string, at int64, body []byte) {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := h.guests[name]
	copy(g.Disks[target][at:], body)
	g.writes++
	for _, disks := range g.dirty {
		for i := at / grain; i <= (at+int64(len(body))-1)/grain && len(body) > 0; i++ {
			if disks[target] == nil {
				disks[target] = map[int64]bool{}
			}
			disks[target][i] = true
		}
	}
}

func (h *Host) fault(call, guest string) error {
	h.mu.Lock()
	f := h.Fault
	h.mu.Unlock()
	if f == nil {
		return nil
	}
	return f(call, guest)
}

// SetFault sets what fails from now on; nil is nothing.
func (h *Host) SetFault(f func(call, guest string) error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.Fault = f
}

// guest finds a guest; the caller holds the lock.
func (h *Host) guest(name string) (*Guest, error) {
	g, ok := h.guests[name]
	if !ok {
		return nil, fmt.Errorf("guest %s: %w on this fake", name, source.ErrNoMachine)
	}
	return g, nil
}

// Conn is a connection to a fake host.
type Conn struct{ h *Host }

// Close implements [source.Source].
func (c *Conn) Close() error { return nil }

// Machines implements [source.Source].
func (c *Conn) Machines(ctx context.Context) ([]source.Machine, error) {
	if err := c.h.fault("machines", ""); err != nil {
		return nil, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	var out []source.Machine
	for _, name := range slices.Sorted(maps.Keys(c.h.guests)) {
		g := c.h.guests[name]
		if g.trial != nil {
			continue // it is nobody's machine
		}
		m := source.Machine{Name: name, UUID: g.UUID, State: g.State, Tags: maps.Clone(g.Tags)}
		if m.Tags == nil {
			m.Tags = map[string]string{}
		}
		for _, target := range slices.Sorted(maps.Keys(g.Disks)) {
			m.Disks = append(m.Disks, source.Disk{Target: target, Format: "raw", Size: g.Disks[target].Size()})
		}
		out = append(out, m)
	}
	return out, context.Cause(ctx)
}

// capture is an open one.
type capture struct {
	c           *Conn
	r           source.Request
	disks       []source.CapturedDisk
	consistency image.Consistency
	frozen      time.Duration
	warnings    []string
	firmware    []image.Firmware
	earlier     []string
	closed      bool
}

// Capture implements [source.Capturer].
func (c *Conn) Capture(ctx context.Context, r source.Request) (source.Capture, error) {
	if err := c.h.fault("capture", r.Machine); err != nil {
		return nil, err
	}
	c.h.mu.Lock()
	g, err := c.h.guest(r.Machine)
	if err == nil && r.UUID != "" && g.UUID != r.UUID {
		err = fmt.Errorf("guest %s: %w on this fake with UUID %s", r.Machine, source.ErrNoMachine, r.UUID)
	}
	if err != nil {
		c.h.mu.Unlock()
		return nil, err
	}
	if job := g.Job; job != "" {
		c.h.mu.Unlock()
		if err := c.endDead(ctx, r, job); err != nil {
			return nil, err
		}
		c.h.mu.Lock()
	}
	state, agent := g.State, g.Agent
	c.h.mu.Unlock()
	k := &capture{c: c, r: r, consistency: image.Crash}
	if state == machine.Off {
		k.consistency = image.Off
		if err := r.Starting(); err != nil {
			return nil, err
		}
	}
	freeze := state == machine.Running && r.Quiesce != machine.NoFreeze
	if freeze && !agent {
		if r.Quiesce == machine.Required {
			return nil, fmt.Errorf("guest %s could not be frozen: no agent answers in it", r.Machine)
		}
		freeze = false
		k.warnings = append(k.warnings, "it could not be frozen: no agent answers in it")
	}
	var goOn func(context.Context) error
	if freeze && r.Rest != nil {
		if goOn, err = r.Rest(ctx); err != nil && r.Quiesce == machine.Required {
			return nil, err
		} else if err != nil {
			k.warnings = append(k.warnings, err.Error())
		}
	}
	if freeze {
		c.h.Change(r.Machine, func(g *Guest) { g.Frozen = true })
		k.consistency, k.frozen = image.FileSystem, time.Millisecond
		if err := moment(ctx, r, site.Frozen); err != nil {
			c.h.Change(r.Machine, func(g *Guest) { g.Frozen = false })
			return nil, err
		}
	}
	c.h.Change(r.Machine, func(g *Guest) { k.begin(g) })
	if err := c.h.fault("frozen", r.Machine); err != nil {
		return nil, err // as a process dies: nothing is undone
	}
	c.h.Change(r.Machine, func(g *Guest) { g.Frozen = false })
	if freeze {
		if err := moment(ctx, r, site.Thawed); err != nil {
			k.warnings = append(k.warnings, err.Error())
		}
	}
	if goOn != nil {
		if err := goOn(context.WithoutCancel(ctx)); err != nil {
			k.warnings = append(k.warnings, err.Error())
		} else {
			k.consistency = image.Application
		}
	}
	if r.Files != nil {
		return c.files(k)
	}
	return k, nil
}

// endDead clears an open capture whose maker is known to be dead.
func (c *Conn) endDead(ctx context.Context, r source.Request, job string) error {
	if r.Alive != nil {
		alive, known, err := r.Alive(ctx, job)
		if err != nil {
			return err
		}
		if known && !alive {
			_, err := c.Clear(ctx, r.Machine, job, false)
			return err
		}
	}
	return fmt.Errorf("guest %s: %w: capture %s is open", r.Machine, source.ErrBusy, job)
}

func moment(ctx context.Context, r source.Request, m site.Moment) error {
	if r.Moment == nil {
		return nil
	}
	return r.Moment(ctx, m)
}

// begin takes the moment; the host's lock is held.
func (k *capture) begin(g *Guest) {
	g.Job = k.r.ID
	k.c.h.open++
	k.c.h.MostOpen = max(k.c.h.MostOpen, k.c.h.open)
	k.earlier = slices.Clone(g.Checkpoints)
	if g.Variables != nil {
		k.firmware = append(k.firmware, image.NewFirmware(image.UEFIVariables, g.Variables))
	}
	if g.TPM != nil && k.r.Secrets {
		k.firmware = append(k.firmware, image.NewFirmware(image.TPMState, g.TPM))
	} else if g.TPM != nil {
		k.firmware = append(k.firmware, image.Firmware{Kind: image.TPMState, Left: image.NotSealed})
	}
	dirty, known := g.dirty[k.r.Since]
	for _, target := range slices.Sorted(maps.Keys(g.Disks)) {
		if len(k.r.Disks) > 0 && !slices.Contains(k.r.Disks, target) {
			continue
		}
		whole := &snapshot{h: k.c.h, guest: k.r.Machine, Memory: slices.Clone(g.Disks[target])}
		d := source.CapturedDisk{Target: target, Format: "raw", Disk: whole}
		d.Forgets = k.r.Checkpoint && g.Forgetful
		switch {
		case k.r.Since == "":
		case g.Forgetful:
			d.Why = "a disk of this kind can carry no checkpoint"
		case !known:
			d.Why = "the checkpoint of image " + k.r.Since + " is not there any more"
		default:
			changed := maps.Clone(dirty[target])
			d.Disk, d.Whole = &changes{whole, changed}, whole
		}
		k.disks = append(k.disks, d)
	}
	if k.r.Checkpoint && !g.Forgetful {
		g.Checkpoints = append(g.Checkpoints, k.r.ID)
		g.dirty[k.r.ID] = map[string]map[int64]bool{}
	}
}

// snapshot is a disk at a moment.
type snapshot struct {
	disk.Memory
	h     *Host
	guest string
}

func (s *snapshot) ReadAt(p []byte, off int64) (int, error) {
	if err := s.h.fault("read", s.guest); err != nil {
		return 0, err
	}
	return s.Memory.ReadAt(p, off)
}

func (s *snapshot) Extents(_ context.Context, offset, length int64) (out []disk.Extent, err error) {
	for at := offset; at < offset+length; {
		end := min((at/grain+1)*grain, offset+length)
		kind := disk.Data
		if disk.IsZero(s.Memory[at:end]) {
			kind = disk.Zero
		}
		out = append(out, disk.Extent{Offset: at, Length: end - at, Kind: kind})
		at = end
	}
	return out, nil
}

// changes is a disk that says what did not change.
type changes struct {
	*snapshot
	dirty map[int64]bool
}

func (c *changes) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	all, err := c.snapshot.Extents(ctx, offset, length)
	var since []disk.Extent
	for _, e := range all {
		kind := disk.Unchanged
		if c.dirty[e.Offset/grain] {
			kind = disk.Data
		}
		since = append(since, disk.Extent{Offset: e.Offset, Length: e.Length, Kind: kind})
	}
	return disk.Since(all, since), err
}

func (k *capture) Disks() []source.CapturedDisk                    { return k.disks }
func (k *capture) Definition() string                              { return "fake guest " + k.r.Machine }
func (k *capture) Consistency() (image.Consistency, time.Duration) { return k.consistency, k.frozen }
func (k *capture) Firmware() []image.Firmware                      { return k.firmware }
func (k *capture) Warnings() []string                              { return k.warnings }
func (k *capture) Checkpoints() []string                           { return k.earlier }

func (k *capture) Close(_ context.Context, kept bool, drop []string) error {
	if k.closed {
		return nil
	}
	if err := k.c.h.fault("close", k.r.Machine); err != nil {
		return err
	}
	k.closed = true
	k.c.h.Change(k.r.Machine, func(g *Guest) {
		g.Job = ""
		k.c.h.open--
		if !kept {
			drop = append(drop, k.r.ID)
		}
		g.drop(drop)
	})
	return nil
}

func (g *Guest) drop(ids []string) (removed []string) {
	for _, id := range ids {
		if i := slices.Index(g.Checkpoints, id); i >= 0 {
			g.Checkpoints = slices.Delete(g.Checkpoints, i, i+1)
			delete(g.dirty, id)
			removed = append(removed, id)
		}
	}
	return removed
}

// Clear implements [source.Capturer].
func (c *Conn) Clear(_ context.Context, name, id string, _ bool) (found []string, err error) {
	if err := c.h.fault("clear", name); err != nil {
		return nil, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, ok := c.h.guests[name]
	if !ok {
		return nil, nil // what is not there has nothing left on it
	}
	if g.Frozen {
		g.Frozen = false
		found = append(found, "a freeze")
	}
	if g.Job == id && id != "" {
		g.Job = ""
		c.h.open--
		found = append(found, "an open capture")
	}
	if len(g.drop([]string{id})) > 0 {
		found = append(found, "its checkpoint")
	}
	return found, nil
}

// Checkpoints implements [source.Capturer].
func (c *Conn) Checkpoints(_ context.Context, name string) ([]string, error) {
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, err := c.h.guest(name)
	if err != nil {
		return nil, err
	}
	return slices.Clone(g.Checkpoints), nil
}

// DropCheckpoints implements [source.Capturer].
func (c *Conn) DropCheckpoints(_ context.Context, name string, ids []string) ([]string, error) {
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, err := c.h.guest(name)
	if err != nil {
		return nil, err
	}
	return g.drop(ids), nil
}

// Thaw implements [source.Capturer].
func (c *Conn) Thaw(_ context.Context, name string) error {
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, err := c.h.guest(name)
	if err == nil {
		g.Frozen = false
	}
	return err
}

// Around implements [source.Surveyor].
func (c *Conn) Around(context.Context) ([]source.Thing, error) {
	if err := c.h.fault("around", ""); err != nil {
		return nil, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	return slices.Clone(c.h.Things), nil
}

// Ping implements [source.Insider].
func (c *Conn) Ping(_ context.Context, name string) error {
	if err := c.h.fault("ping", name); err != nil {
		return err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, err := c.h.guest(name)
	if err == nil && !g.Agent {
		err = fmt.Errorf("guest %s: no agent answers in it", name)
	}
	return err
}

// WriteTimes implements [source.WriteTimer].
func (c *Conn) WriteTimes(_ context.Context, name string) (writes int64, took time.Duration, err error) {
	if err := c.h.fault("write times", name); err != nil {
		return 0, 0, err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g, err := c.h.guest(name)
	switch {
	case err != nil:
	case g.State != machine.Running:
		err = fmt.Errorf("guest %s: %w", name, source.ErrNotRunning)
	case g.WriteTimes != nil:
		writes, took = g.WriteTimes()
	default:
		writes, took = g.writes, time.Duration(g.writes)*time.Millisecond
	}
	return writes, took, err
}

// System implements [source.SystemTeller].
func (c *Conn) System(ctx context.Context, name string) (string, error) {
	if err := c.Ping(ctx, name); err != nil {
		return "", err
	}
	return c.h.Look(name).System, nil
}

// Execute implements [source.Insider].
func (c *Conn) Execute(ctx context.Context, name string, command []string, _ time.Duration) (int, string, error) {
	if err := c.Ping(ctx, name); err != nil {
		return 0, "", err
	}
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	g := c.h.guests[name]
	g.Called = append(g.Called, strings.Join(command, " "))
	code, ok := g.Commands[strings.Join(command, " ")]
	if !ok {
		return 127, "not found", nil
	}
	return code, "as it was told", nil
}

// FileSystems implements [source.Insider].
func (c *Conn) FileSystems(ctx context.Context, name string) ([]source.FileSystem, error) {
	if err := c.Ping(ctx, name); err != nil {
		return nil, err
	}
	return []source.FileSystem{{Mounted: "/", Kind: "ext4", Used: 40, Total: 100}}, nil
}

// GuestMounts implements [source.Insider].
func (c *Conn) GuestMounts(ctx context.Context, name string) ([]string, error) {
	return []string{"/"}, c.Ping(ctx, name)
}

// ReadGuestFile implements [source.Insider].
func (c *Conn) ReadGuestFile(_ context.Context, name, path string, _ int64) ([]byte, error) {
	return nil, fmt.Errorf("guest %s: %s: no such file", name, path)
}

// name is the one under which the host is dialled.
func (h *Host) name() string {
	hostsMu.Lock()
	defer hostsMu.Unlock()
	for name, other := range hosts {
		if other == h {
			return name
		}
	}
	return ""
}
