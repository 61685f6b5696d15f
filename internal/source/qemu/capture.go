package qemu

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"keenlodge/internal/core/image"
	"keenlodge/internal/nbd"
	"keenlodge/internal/source"
)

const (
	// marked begins the name of all that we make in a QEMU process: marked, the image's ID, and what it is. A node's name has 31 characters at
	// most.
	marked   = "keenlodge-"
	idLength = 10
	// endTime is how long a job may take to end, freezeTime how long an agent may take to freeze its guest.
	endTime    = 20 * time.Second
	freezeTime = 8 * time.Second
)

// capture is a moment of a guest: for each disk a scratch file that takes what the guest writes over, by a backup job that copies nothing else,
// and is offered over NBD (QEMU, docs/interop/live-block-operations, "blockdev-backup" with sync=none).
type capture struct {
	h           *Host
	guest, mark string
	definition  string
	begun       bool
	kept        bool // its bitmaps stay
	earlier     []string
	stood       source.Stood
	warnings    []string
	parts       []part
	disks       []source.CapturedDisk
	clients     []*nbd.Client
}

// part is a disk of a capture.
type part struct {
	disk
	nth   int
	since bool   // its changes are offered, too
	why   string // they are not, though they were asked for
}

func (c *capture) Disks() []source.CapturedDisk { return c.disks }
func (c *capture) Definition() string           { return c.definition }
func (c *capture) Firmware() []image.Firmware   { return nil }
func (c *capture) Consistency() (image.Consistency, time.Duration) {
	return c.stood.Consistency, c.stood.Frozen
}
func (c *capture) Warnings() []string    { return append(slices.Clone(c.warnings), c.stood.Warnings...) }
func (c *capture) Checkpoints() []string { return c.earlier }

// name is that of something of a capture.
func name(mark, what string) string { return marked + mark + what }

func (c *capture) file(what string) string { return filepath.Join(c.h.folder, name(c.mark, what)) }
func (c *capture) sinceName() string       { return name(c.mark, "-since") }

// Capture implements [source.Capturer].
func (h *Host) Capture(ctx context.Context, r source.Request) (source.Capture, error) {
	c := &capture{h: h, guest: r.Machine, mark: r.ID}
	if err := c.begin(ctx, r); err != nil {
		return nil, errors.Join(err, c.Close(context.WithoutCancel(ctx), false, nil))
	}
	return c, nil
}

func (c *capture) begin(ctx context.Context, r source.Request) error {
	if err := c.h.with(ctx, r.Machine, func(q *conn) error { return c.describe(q, r) }); err != nil {
		return err
	}
	found, err := c.h.Captures(ctx, r.Machine)
	if err != nil {
		return err
	}
	if c.warnings, err = r.ClearDead(ctx, c.h, found); err != nil {
		return err
	}
	if len(c.file("-00")) > 107 { // unix(7)
		return fmt.Errorf("guest %s: the folder %s has too long a path for sockets; move it", r.Machine, c.h.folder)
	}
	c.stood, err = source.WhileFrozen(ctx, r, freezer{c}, func() error {
		return c.h.with(ctx, r.Machine, func(q *conn) error { return c.take(q, r.Checkpoint) })
	})
	if err != nil {
		return err
	}
	for _, p := range c.parts {
		if err := c.open(ctx, p, r.Checkpoint); err != nil {
			return err
		}
	}
	return nil
}

// describe finds out what there is to capture.
func (c *capture) describe(q *conn, r source.Request) error {
	uuid, err := q.uuid()
	if err != nil {
		return err
	}
	if r.UUID != "" && uuid != r.UUID {
		return fmt.Errorf("%w here with UUID %s; the one of that name has %q", source.ErrNoMachine, r.UUID, uuid)
	}
	if c.definition, err = commandLine(q); err != nil {
		return err
	}
	disks, err := q.disks()
	if err != nil {
		return err
	}
	for _, d := range disks {
		for _, b := range d.bitmaps {
			if id, ok := checkpoint(b.Name); ok && !slices.Contains(c.earlier, id) {
				c.earlier = append(c.earlier, id)
			}
		}
		if len(r.Disks) > 0 && !slices.Contains(r.Disks, d.target) {
			continue
		}
		p := part{disk: d, nth: len(c.parts)}
		if r.Since != "" {
			i := slices.IndexFunc(d.bitmaps, func(b bitmap) bool { return b.Name == name(r.Since, "") })
			switch {
			case i < 0:
				p.why = "QEMU has no bitmap of image " + r.Since + " any more"
			case d.bitmaps[i].Inconsistent:
				p.why = "the bitmap of image " + r.Since + " is not to be trusted: the guest's QEMU ended without writing it"
			default:
				p.since = true
			}
		}
		p.bitmaps = nil
		if p.since {
			p.bitmaps = []bitmap{{Name: name(r.Since, "")}}
		}
		c.parts = append(c.parts, p)
	}
	for _, target := range r.Disks {
		if !slices.ContainsFunc(c.parts, func(p part) bool { return p.target == target }) {
			return fmt.Errorf("it has no disk %s that can be captured", target)
		}
	}
	if len(c.parts) == 0 {
		return errors.New("it has no disk that can be captured")
	}
	return nil
}

// commandLine is how the guest's QEMU was started, as JSON: all that there is of a definition. The kernel tells whose socket it is (unix(7)).
func commandLine(q *conn) (string, error) {
	raw, err := q.Conn.(*net.UnixConn).SyscallConn()
	if err != nil {
		return "", err
	}
	var peer *unix.Ucred
	failed := raw.Control(func(fd uintptr) { peer, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) })
	if err = errors.Join(failed, err); err != nil {
		return "", fmt.Errorf("find its process: %w", err)
	}
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", peer.Pid))
	if err != nil {
		return "", fmt.Errorf("read how it was started: %w", err)
	}
	words := strings.Split(strings.TrimRight(string(line), "\x00"), "\x00")
	for i, w := range words {
		words[i] = secrets.ReplaceAllString(w, "$1$2=(left out)")
	}
	body, err := json.Marshal(map[string]any{"command": words})
	return string(body), err
}

// secrets are the options of QEMU's that have one in them: those of -object secret, and of devices and drives that know no such object. They do not
// belong in an image.
var secrets = regexp.MustCompile(`(^|,)((?:[\w.-]*\.)?(?:data|password|passwd|key|cookie))=(?:[^,]|,,)*`)

// checkpoint is the ID of the capture whose bitmap has a name.
func checkpoint(name string) (id string, ok bool) {
	id, ok = strings.CutPrefix(name, marked)
	return id, ok && len(id) == idLength
}

// job is one that QEMU has, or an export.
type job struct {
	ID     string `json:"id"`
	Status string `json:"status"`
	Error  string `json:"error"`
}

// node is one of QEMU's block graph.
type node struct {
	Name string `json:"node-name"`
}

// ours lists the IDs of captures that are open in a QEMU process, by what they have there.
func (q *conn) ours() (ids []string, err error) {
	var exports, jobs []job
	var nodes []node
	err = errors.Join(q.run("query-block-exports", nil, &exports), q.run("query-jobs", nil, &jobs), q.run("query-named-block-nodes", map[string]any{"flat": true}, &nodes))
	add := func(name string) {
		if rest, ok := strings.CutPrefix(name, marked); ok && len(rest) > idLength && !slices.Contains(ids, rest[:idLength]) {
			ids = append(ids, rest[:idLength])
		}
	}
	for _, e := range slices.Concat(exports, jobs) {
		add(e.ID)
	}
	for _, n := range nodes {
		add(n.Name)
	}
	return ids, err
}

// Captures lists the IDs of captures that are open on a guest, whoever made them.
func (h *Host) Captures(ctx context.Context, guest string) (ids []string, err error) {
	err = h.with(ctx, guest, func(q *conn) (err error) {
		ids, err = q.ours()
		return err
	})
	return ids, err
}

// take takes the moment: all disks in one transaction.
func (c *capture) take(q *conn, lasting bool) error {
	c.begun = true // from here on something may be there
	var actions []map[string]any
	do := func(kind string, data map[string]any) {
		actions = append(actions, map[string]any{"type": kind, "data": data})
	}
	for _, p := range c.parts {
		scratch := name(c.mark, fmt.Sprintf("-%d", p.nth))
		if err := c.makeScratch(q, p, scratch); err != nil {
			return err
		}
		if p.since {
			do("block-dirty-bitmap-add", map[string]any{"node": p.node, "name": c.sinceName(), "disabled": true})
			do("block-dirty-bitmap-merge", map[string]any{"node": p.node, "target": c.sinceName(), "bitmaps": []string{p.bitmaps[0].Name}})
		}
		if lasting {
			do("block-dirty-bitmap-add", map[string]any{"node": p.node, "name": name(c.mark, ""), "persistent": p.format == "qcow2"})
		}
		do("blockdev-backup", map[string]any{"job-id": scratch, "device": p.node, "target": scratch, "sync": "none"})
	}
	if err := q.run("transaction", map[string]any{"actions": actions}, nil); err != nil {
		return err
	}
	socket := map[string]any{"type": "unix", "data": map[string]any{"path": c.file(".sock")}}
	if err := q.run("nbd-server-start", map[string]any{"addr": socket}, nil); err != nil {
		return fmt.Errorf("%w (does another program use this QEMU's NBD server, of which there is one?)", err)
	}
	for _, p := range c.parts {
		id := name(c.mark, fmt.Sprintf("-%d", p.nth))
		export := map[string]any{"type": "nbd", "id": id, "node-name": id, "name": p.target, "writable": false}
		if p.since {
			export["bitmaps"] = []map[string]any{{"node": p.node, "name": c.sinceName()}}
		}
		if err := q.run("block-export-add", export, nil); err != nil {
			return err
		}
	}
	return nil
}

// makeScratch makes the file that takes what is written over, and a node that shows the disk through it. QEMU makes it, so that it may use it.
func (c *capture) makeScratch(q *conn, p part, node string) error {
	file := c.file(fmt.Sprintf("-%d.scratch", p.nth))
	make := func(options map[string]any) error {
		id := node + "m"
		if err := q.run("blockdev-create", map[string]any{"job-id": id, "options": options}, nil); err != nil {
			return err
		}
		return q.finish(id)
	}
	if err := make(map[string]any{"driver": "file", "filename": file, "size": 0}); err != nil {
		return fmt.Errorf("make %s: %w; QEMU's account has to be able to make files in that folder", file, err)
	}
	if err := q.run("blockdev-add", map[string]any{"driver": "file", "node-name": node + "f", "filename": file}, nil); err != nil {
		return err
	}
	if err := make(map[string]any{"driver": "qcow2", "file": node + "f", "size": p.size}); err != nil {
		return err
	}
	return q.run("blockdev-add", map[string]any{"driver": "qcow2", "node-name": node, "file": node + "f", "backing": p.node}, nil)
}

// finish waits for a job that makes something, and puts it away.
func (q *conn) finish(id string) error {
	for end := time.Now().Add(endTime); ; time.Sleep(5 * time.Millisecond) {
		var jobs []job
		if err := q.run("query-jobs", nil, &jobs); err != nil {
			return err
		}
		i := slices.IndexFunc(jobs, func(j job) bool { return j.ID == id })
		if i < 0 {
			return nil
		}
		if jobs[i].Status == "concluded" {
			err := q.run("job-dismiss", map[string]any{"id": id}, nil)
			if jobs[i].Error != "" {
				err = errors.New(jobs[i].Error)
			}
			return err
		}
		if time.Now().After(end) {
			return fmt.Errorf("job %s is %s after %s", id, jobs[i].Status, endTime)
		}
	}
}

// open connects to a disk of the capture.
func (c *capture) open(ctx context.Context, p part, lasting bool) error {
	d := source.CapturedDisk{Target: p.target, Format: p.format, Why: p.why}
	since := ""
	if p.since {
		since = c.sinceName()
	}
	client, err := nbd.Dial(ctx, "unix", c.file(".sock"), p.target, since)
	if err != nil {
		return err
	}
	c.clients = append(c.clients, client)
	if d.Disk = client; p.since {
		d.Whole = client.Whole()
	}
	c.disks = append(c.disks, d)
	return nil
}

// Close implements [source.Capture].
func (c *capture) Close(ctx context.Context, kept bool, drop []string) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*endTime)
	defer cancel()
	for _, client := range c.clients {
		client.Close()
	}
	c.clients = nil
	c.kept = c.kept || kept
	var errs []error
	if c.begun {
		_, err := c.h.end(ctx, c.guest, c.mark)
		c.begun = err != nil
		if errs = append(errs, err); err == nil && !c.kept {
			drop = append(slices.Clone(drop), c.mark)
		}
	}
	if len(drop) > 0 {
		_, err := c.h.DropCheckpoints(ctx, c.guest, drop)
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// end ends what a capture has in the guest's QEMU, but for its bitmaps on which later ones build, and removes its files. It tells what there was.
func (h *Host) end(ctx context.Context, guest, mark string) (found []string, err error) {
	var errs []error
	err = h.with(ctx, guest, func(q *conn) error {
		var exports, jobs []job
		var nodes []node
		if err := errors.Join(q.run("query-block-exports", nil, &exports), q.run("query-jobs", nil, &jobs), q.run("query-named-block-nodes", map[string]any{"flat": true}, &nodes)); err != nil {
			return err
		}
		mine := func(id string) bool { return strings.HasPrefix(id, name(mark, "-")) }
		for _, e := range exports {
			if mine(e.ID) {
				found = append(found, "export "+e.ID)
				errs = append(errs, q.run("block-export-del", map[string]any{"id": e.ID, "mode": "hard"}, nil))
			}
		}
		if _, err := os.Lstat(filepath.Join(h.folder, name(mark, ".sock"))); err == nil {
			// The server is ours. It may have ended by itself, or not have begun.
			if err := q.run("nbd-server-stop", nil, nil); err != nil && !strings.Contains(err.Error(), "not running") {
				errs = append(errs, err)
			}
		}
		for _, j := range jobs {
			if !mine(j.ID) {
				continue
			}
			found = append(found, "job "+j.ID)
			if err := q.run("job-cancel", map[string]any{"id": j.ID}, nil); err == nil {
				errs = append(errs, q.finish(j.ID))
			} else if !strings.Contains(err.Error(), "not found") {
				errs = append(errs, err)
			}
		}
		// A node goes before the one that it stands on.
		slices.SortFunc(nodes, func(a, b node) int { return strings.Compare(a.Name, b.Name) })
		for _, n := range nodes {
			if mine(n.Name) {
				found = append(found, "node "+n.Name)
				errs = append(errs, q.run("blockdev-del", map[string]any{"node-name": n.Name}, nil))
			}
		}
		disks, err := q.disks()
		if err != nil {
			return err
		}
		for _, d := range disks {
			if slices.ContainsFunc(d.bitmaps, func(b bitmap) bool { return b.Name == name(mark, "-since") }) {
				errs = append(errs, q.run("block-dirty-bitmap-remove", map[string]any{"node": d.node, "name": name(mark, "-since")}, nil))
			}
		}
		return errors.Join(errs...)
	})
	if errors.Is(err, source.ErrNoMachine) {
		err = nil // with its process all of it went, but for the files
	}
	files, globbed := filepath.Glob(filepath.Join(h.folder, name(mark, "*")))
	errs = []error{err, globbed}
	for _, file := range files {
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		} else if err == nil {
			found = append(found, "file "+filepath.Base(file))
		}
	}
	return found, errors.Join(errs...)
}

// Clear implements [source.Capturer].
func (h *Host) Clear(ctx context.Context, guest, id string, _ bool) (found []string, err error) {
	if _, err := h.Checkpoints(ctx, guest); errors.Is(err, source.ErrNoMachine) {
		_, err := h.end(ctx, guest, id)
		return nil, err
	} else if err != nil {
		return nil, err
	}
	var errs []error
	// A guest without an agent can't have been frozen by us.
	if frozen, err := h.Frozen(ctx, guest); err == nil && frozen {
		_, err := h.thaw(ctx, guest)
		errs = append(errs, err)
		found = append(found, "thawed guest "+guest)
	} else if err != nil && !errors.Is(err, source.ErrNoMachine) {
		_, _ = h.thaw(ctx, guest) // where it does not tell, a thaw does no harm
	}
	ended, err := h.end(ctx, guest, id)
	for _, what := range ended {
		found = append(found, "removed "+what+" of guest "+guest)
	}
	errs = append(errs, err)
	removed, err := h.DropCheckpoints(ctx, guest, []string{id})
	for range removed {
		found = append(found, "removed bitmap "+name(id, "")+" of guest "+guest)
	}
	return found, errors.Join(append(errs, err)...)
}

// Checkpoints implements [source.Capturer].
func (h *Host) Checkpoints(ctx context.Context, guest string) (ids []string, err error) {
	err = h.with(ctx, guest, func(q *conn) error {
		disks, err := q.disks()
		for _, d := range disks {
			for _, b := range d.bitmaps {
				if id, ok := checkpoint(b.Name); ok && !slices.Contains(ids, id) {
					ids = append(ids, id)
				}
			}
		}
		return err
	})
	return ids, err
}

// DropCheckpoints implements [source.Capturer].
func (h *Host) DropCheckpoints(ctx context.Context, guest string, ids []string) (removed []string, err error) {
	err = h.with(ctx, guest, func(q *conn) error {
		disks, err := q.disks()
		errs := []error{err}
		for _, d := range disks {
			for _, b := range d.bitmaps {
				id, ok := checkpoint(b.Name)
				if !ok || !slices.Contains(ids, id) {
					continue
				}
				err := q.run("block-dirty-bitmap-remove", map[string]any{"node": d.node, "name": b.Name}, nil)
				if errs = append(errs, err); err == nil && !slices.Contains(removed, id) {
					removed = append(removed, id)
				}
			}
		}
		return errors.Join(errs...)
	})
	if errors.Is(err, source.ErrNoMachine) {
		return nil, nil // its bitmaps can't be removed now
	}
	return removed, err
}

// freezer freezes a capture's guest, which is on this host: the watchdog is enough.
type freezer struct{ c *capture }

func (f freezer) Guard(context.Context) (func(), error) { return func() {}, nil }

func (f freezer) Freeze(ctx context.Context) error {
	ctx, cancel := context.WithTimeoutCause(ctx, freezeTime, fmt.Errorf("%w within %s", source.ErrBusy, freezeTime))
	defer cancel()
	var n int
	err := f.c.h.ask(f.c.guest)(ctx, "guest-fsfreeze-freeze", nil, &n)
	if err != nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err == nil && n == 0 {
		err = errors.New("no file system was frozen")
	}
	if err != nil {
		return fmt.Errorf("freeze: %w", err)
	}
	return nil
}

func (f freezer) Thaw(ctx context.Context) (int, error) { return f.c.h.thaw(ctx, f.c.guest) }
