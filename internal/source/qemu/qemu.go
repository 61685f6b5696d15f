// Package qemu reaches QEMU guests with no libvirt between: each is a process that answers at sockets in a folder of this host, NAME.qmp for its
// machine protocol and NAME.qga for the agent in its guest:
//
//	qemu-system-x86_64 -name timetable -uuid … -qmp unix:/run/guests/timetable.qmp,server=on,wait=off \
//	  -chardev socket,id=agent,path=/run/guests/timetable.qga,server=on,wait=off -device virtio-serial \
//	  -device virtserialport,chardev=agent,name=org.qemu.guest_agent.0 \
//	  -blockdev qcow2,node-name=disk0,file.driver=file,file.filename=timetable.qcow2 -device virtio-blk-pci,drive=disk0,id=vda
//
// A guest that is off is no process, so it is not there. It can't be restored here: there is nobody who would keep its definition.
package qemu

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/site"
	"keenlodge/internal/source"
	"keenlodge/internal/source/guestagent"
)

// Kind is the kind of sources whose address is such a folder.
const Kind = "qemu"

func init() {
	source.Register(Kind, func(_ context.Context, spec site.Hypervisor) (source.Source, error) {
		h, err := Open(spec.URI)
		if err != nil {
			return nil, err // not h: a nil host in an interface is not nil
		}
		return h, nil
	}, nil)
}

// Host is a folder of sockets.
type Host struct {
	folder string
	files  guestagent.Files
}

// Open looks whether the folder is there: an absolute path.
func Open(folder string) (*Host, error) {
	if !filepath.IsAbs(folder) {
		return nil, fmt.Errorf("folder %q: write the absolute path of the folder in which the guests' sockets are, such as /run/guests", folder)
	}
	info, err := os.Stat(folder)
	if err == nil && !info.IsDir() {
		err = errors.New("it is not a folder")
	}
	if err != nil {
		return nil, fmt.Errorf("folder %s of guests' sockets: %w", folder, err)
	}
	return &Host{folder: folder}, nil
}

// Close implements [source.Source].
func (h *Host) Close() error { return nil }

func (h *Host) socket(guest, kind string) (string, error) {
	if guest == "" || strings.ContainsAny(guest, "/\x00") || strings.HasPrefix(guest, ".") {
		return "", fmt.Errorf("guest %q: %w", guest, source.ErrNoMachine)
	}
	return filepath.Join(h.folder, guest+kind), nil
}

// with does something with a guest's QMP.
func (h *Host) with(ctx context.Context, guest string, act func(*conn) error) error {
	socket, err := h.socket(guest, ".qmp")
	if err != nil {
		return err
	}
	c, err := monitor(ctx, socket)
	if err == nil {
		err = act(c)
		c.close()
	}
	if err != nil {
		return fmt.Errorf("guest %s: %w", guest, err)
	}
	return nil
}

// System implements [source.SystemTeller].
func (h *Host) System(ctx context.Context, name string) (string, error) {
	return h.ask(name).System(ctx)
}

// ask is the way to a guest's agent.
func (h *Host) ask(guest string) guestagent.Ask {
	return func(ctx context.Context, command string, arguments, answer any) error {
		socket, err := h.socket(guest, ".qga")
		if err != nil {
			return err
		}
		c, err := agent(ctx, socket)
		if err == nil {
			err = c.run(command, arguments, answer)
			c.close()
		}
		if err != nil {
			return fmt.Errorf("guest %s: %w", guest, err)
		}
		return nil
	}
}

// Machines implements [source.Source].
func (h *Host) Machines(ctx context.Context) ([]source.Machine, error) {
	sockets, err := filepath.Glob(filepath.Join(h.folder, "*.qmp"))
	if err != nil {
		return nil, err
	}
	found := []source.Machine{}
	for _, socket := range sockets {
		m := source.Machine{Name: strings.TrimSuffix(filepath.Base(socket), ".qmp"), Tags: map[string]string{}, Disks: []source.Disk{}}
		err := h.with(ctx, m.Name, func(c *conn) error {
			disks, err := c.disks()
			if err != nil {
				return err
			}
			for _, d := range disks {
				m.Disks = append(m.Disks, source.Disk{Target: d.target, Format: d.format, Size: d.size})
			}
			if m.UUID, err = c.uuid(); err == nil {
				m.State, err = c.state()
			}
			return err
		})
		if errors.Is(err, source.ErrNoMachine) {
			continue // it ended and left its socket
		}
		if err != nil {
			return nil, err
		}
		found = append(found, m)
	}
	slices.SortFunc(found, func(a, b source.Machine) int { return strings.Compare(a.Name, b.Name) })
	return found, nil
}

// uuid is that of the machine; "" for one that was given none.
func (c *conn) uuid() (string, error) {
	var said struct {
		UUID string `json:"UUID"`
	}
	if err := c.run("query-uuid", nil, &said); err != nil {
		return "", err
	}
	id := strings.ReplaceAll(said.UUID, "-", "")
	if raw, err := hex.DecodeString(id); err != nil || len(raw) != 16 || strings.Trim(id, "0") == "" {
		return "", nil
	}
	return id, nil
}

func (c *conn) state() (machine.State, error) {
	var said struct {
		Running bool `json:"running"`
	}
	err := c.run("query-status", nil, &said)
	if said.Running {
		return machine.Running, err
	}
	return machine.Paused, err
}

// disk is one that a machine has: the top node of its chain, and the bitmaps that lie there.
type disk struct {
	target, node, format, file string
	size                       int64
	bitmaps                    []bitmap
}

type bitmap struct {
	Name         string `json:"name"`
	Persistent   bool   `json:"persistent"`
	Inconsistent bool   `json:"inconsistent"`
}

// disks lists those that a machine can have changed.
func (c *conn) disks() ([]disk, error) {
	var found []struct {
		Device   string `json:"device"`
		QDev     string `json:"qdev"`
		Inserted *struct {
			Node     string   `json:"node-name"`
			Driver   string   `json:"drv"`
			ReadOnly bool     `json:"ro"`
			Bitmaps  []bitmap `json:"dirty-bitmaps"`
			Image    struct {
				Size int64  `json:"virtual-size"`
				File string `json:"filename"`
			} `json:"image"`
		} `json:"inserted"`
	}
	if err := c.run("query-block", nil, &found); err != nil {
		return nil, err
	}
	var out []disk
	for _, f := range found {
		if f.Inserted == nil || f.Inserted.ReadOnly || f.Inserted.Node == "" {
			continue
		}
		d := disk{target: f.Device, node: f.Inserted.Node, format: f.Inserted.Driver, size: f.Inserted.Image.Size, file: f.Inserted.Image.File, bitmaps: f.Inserted.Bitmaps}
		if _, id, ok := strings.Cut(f.QDev, "/peripheral/"); ok {
			d.target, _, _ = strings.Cut(id, "/")
		}
		if d.target == "" {
			d.target = d.node
		}
		out = append(out, d)
	}
	return out, nil
}

// WriteTimes implements [source.WriteTimer].
func (h *Host) WriteTimes(ctx context.Context, guest string) (writes int64, took time.Duration, err error) {
	var found []struct {
		Stats struct {
			Writes  int64 `json:"wr_operations"`
			Flushes int64 `json:"flush_operations"`
			Write   int64 `json:"wr_total_time_ns"`
			Flush   int64 `json:"flush_total_time_ns"`
		} `json:"stats"`
	}
	err = h.with(ctx, guest, func(c *conn) error { return c.run("query-blockstats", nil, &found) })
	for _, f := range found {
		writes += f.Stats.Writes + f.Stats.Flushes
		took += time.Duration(f.Stats.Write + f.Stats.Flush)
	}
	return writes, took, err
}

// Describe implements [source.Describer].
func (h *Host) Describe(context.Context) (source.Facts, error) {
	name, err := os.Hostname()
	return source.Facts{Version: "QEMU by itself", Host: name, Free: -1, Total: -1}, err
}

// Ping implements [source.Insider].
func (h *Host) Ping(ctx context.Context, guest string) error {
	return h.ask(guest)(ctx, "guest-ping", nil, nil)
}

// FileSystems implements [source.Insider].
func (h *Host) FileSystems(ctx context.Context, guest string) ([]source.FileSystem, error) {
	return h.ask(guest).FileSystems(ctx)
}

// GuestMounts implements [source.Insider].
func (h *Host) GuestMounts(ctx context.Context, guest string) ([]string, error) {
	found, err := h.FileSystems(ctx, guest)
	return guestagent.Places(found), err
}

// Execute implements [source.Insider].
func (h *Host) Execute(ctx context.Context, guest string, command []string, limit time.Duration) (int, string, error) {
	return h.ask(guest).Execute(ctx, guest, command, limit)
}

// ReadGuestFile implements [source.Insider].
func (h *Host) ReadGuestFile(ctx context.Context, guest, path string, limit int64) ([]byte, error) {
	return h.ask(guest).ReadFile(ctx, guest, path, limit)
}

// PlanFiles implements [source.Unpacker].
func (h *Host) PlanFiles(ctx context.Context, guest string, o back.Order, list io.Reader, visit func(back.Step) error) (source.PlanSum, error) {
	return h.files.Plan(ctx, h.ask(guest), guest, o, list, visit)
}

// PutFiles implements [source.Unpacker].
func (h *Host) PutFiles(ctx context.Context, guest, id, digest string, archive io.Reader, progress func(back.Progress)) (back.Done, error) {
	return h.files.Put(ctx, h.ask(guest), guest, id, digest, archive, progress)
}

// UndoFiles implements [source.Unpacker].
func (h *Host) UndoFiles(_ context.Context, guest, id string, _ func(back.Progress)) (back.Done, error) {
	return guestagent.Undo(guest, id)
}

// Frozen reports whether the agent holds a guest frozen.
func (h *Host) Frozen(ctx context.Context, guest string) (bool, error) {
	return h.ask(guest).Frozen(ctx)
}

// Thaw implements [source.Capturer].
func (h *Host) Thaw(ctx context.Context, guest string) error {
	_, err := h.thaw(ctx, guest)
	return err
}

func (h *Host) thaw(ctx context.Context, guest string) (n int, err error) {
	return n, h.ask(guest)(ctx, "guest-fsfreeze-thaw", nil, &n)
}
