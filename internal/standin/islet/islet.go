// Package islet is a stand-in of a hypervisor with an interface of its own: several hosts at one address, guests with layered disks, snapshots, lists of
// what changed since a moment, a call that holds a guest's writes, and disks offered over NBD with TLS. Its guests run no system: they write what they are
// told to, and where they are told to keep a log, they keep that. docs/stand-ins.md describes what it says.
package islet

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/standin"
)

// Kind is what it is called.
const Kind = "islet"

func init() {
	standin.Register(Kind, standin.Kind{Doc: "a hypervisor with an interface of its own", Make: func(ctx context.Context, f *standin.Frame) (io.Closer, error) { return newIslet(ctx, f) }})
}

// Host is one that runs guests. NBD is the address at which it offers disks.
type Host struct {
	Name string `json:"name"`
	NBD  string `json:"nbd"`
}

// Power says whether a guest runs.
type Power string

// What a guest's power may be.
const (
	On  Power = "on"
	Off Power = "off"
)

// Guest is a machine. Notes are for whoever has something to remember with it, by a name of theirs.
type Guest struct {
	ID     string            `json:"id"`
	Name   string            `json:"name"`
	Host   string            `json:"host"`
	Power  Power             `json:"power"`
	Tags   map[string]string `json:"tags"`
	Build  Build             `json:"build"`
	Disks  []Disk            `json:"disks"`
	Notes  map[string]string `json:"notes"`
	Logs   bool              `json:"logs,omitempty"` // it keeps a log on its last disk
	Writes int64             `json:"writes"`
}

// Build is what a guest is beside its disks. Memory is in bytes; Shares are folders of the host that it sees.
type Build struct {
	Memory   int64    `json:"memory"`
	CPUs     int      `json:"cpus"`
	Firmware string   `json:"firmware"`
	Cards    []string `json:"cards,omitempty"`
	Shares   []string `json:"shares,omitempty"`
}

// Disk is a guest's. Size is in bytes.
type Disk struct {
	Target string `json:"target"`
	Volume string `json:"volume"`
	Size   int64  `json:"size"`
}

// Volume is what a disk lies on. Layers are its files, bottom first. Guest is whose it is, "" for nobody's.
type Volume struct {
	ID     string   `json:"id"`
	Name   string   `json:"name"`
	Size   int64    `json:"size"`
	Layers []string `json:"layers"`
	Guest  string   `json:"guest,omitempty"`
}

// Snapshot is a moment of a guest. Held says that its writes were held for it. Grown is how many bytes were written on top of it since.
type Snapshot struct {
	ID    string       `json:"id"`
	Guest string       `json:"guest"`
	Name  string       `json:"name"`
	Note  string       `json:"note,omitempty"`
	Made  time.Time    `json:"made"`
	Held  bool         `json:"held"`
	Power Power        `json:"power"`
	Disks []MomentDisk `json:"disks"`
	Grown int64        `json:"grown,omitempty"`
}

// MomentDisk is a disk at the moment of a snapshot. Layer is the topmost one that it has of its volume, Tide its change identity.
type MomentDisk struct {
	Target string `json:"target"`
	Volume string `json:"volume"`
	Layer  string `json:"layer"`
	Tide   string `json:"tide"`
	Size   int64  `json:"size"`
}

// islet is the hypervisor.
type islet struct {
	*standin.Frame
	ctx       context.Context
	guests    *standin.Table[Guest]
	volumes   *standin.Table[Volume]
	snapshots *standin.Table[Snapshot]

	// mu guards what follows. Whoever holds the frame's lock may take it; not the other way round.
	mu      sync.Mutex
	hosts   []Host
	opened  map[string]*volume // by ID
	held    map[string]*hold   // by guest
	tickets map[string]*ticket // by export name
	listen  []net.Listener
	ending  sync.WaitGroup
}

// hosts is how many it has.
const hosts = 2

func newEpoch() string { return strings.ToLower(rand.Text()[:8]) }

func newIslet(ctx context.Context, f *standin.Frame) (*islet, error) {
	v := &islet{Frame: f, ctx: ctx, opened: map[string]*volume{}, held: map[string]*hold{}, tickets: map[string]*ticket{}}
	var errs [3]error
	v.guests, errs[0] = standin.NewTable[Guest](f.Journal, "guest")
	v.volumes, errs[1] = standin.NewTable[Volume](f.Journal, "volume")
	v.snapshots, errs[2] = standin.NewTable[Snapshot](f.Journal, "snapshot")
	if err := errors.Join(errs[:]...); err != nil {
		return nil, err
	}
	for _, row := range v.volumes.All() {
		opened, err := openVolume(v.folder(row.ID), row.Size, row.Layers)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("volume %s: %w", row.ID, err), v.Close())
		}
		v.opened[row.ID] = opened
	}
	for i := range hosts {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, errors.Join(err, v.Close())
		}
		host := Host{Name: fmt.Sprintf("rock-%d", i+1), NBD: l.Addr().String()}
		v.hosts = append(v.hosts, host)
		v.listen = append(v.listen, l)
		v.ending.Go(func() { v.offer(l, host.Name) })
	}
	v.calls()
	v.ending.Go(v.keepLogs)
	return v, nil
}

// Close ends it well: what was counted of changes is kept.
func (v *islet) Close() error {
	var errs []error
	for _, l := range v.listen {
		errs = append(errs, l.Close())
	}
	v.mu.Lock()
	for _, t := range v.tickets {
		t.end()
	}
	v.mu.Unlock()
	v.ending.Wait()
	for _, o := range v.opened {
		errs = append(errs, o.close())
	}
	return errors.Join(errs...)
}

func (v *islet) folder(volume string) string { return filepath.Join(v.Folder, "volumes", volume) }

func (v *islet) volume(id string) (*volume, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	o, ok := v.opened[id]
	if !ok {
		return nil, standin.Refuse(404, "there is no volume %s", id)
	}
	return o, nil
}
