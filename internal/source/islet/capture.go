package islet

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/nbd"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

const (
	// marked begins the names of snapshots and notes that are a capture's; its image's ID follows. A note holds the tides of that moment by disk, as JSON:
	// what later captures build on.
	marked   = "keenlodge-"
	idLength = 10
	// patience is how long a capture waits for a line that was cut, or a guest that moves.
	patience = 10 * time.Minute
	// holdTime is how long it may take until a guest's writes are held, lateTime how long a list may lack what was just made.
	holdTime = 8 * time.Second
	lateTime = 20 * time.Second
)

// capture is a snapshot that is read.
type capture struct {
	h          *Hypervisor
	guest      guest
	id         string
	definition string
	began      bool // from here on something may be there
	kept       bool
	earlier    []string
	stood      source.Stood
	warnings   []string
	disks      []source.CapturedDisk
	open       []*nbd.Steady
}

func (c *capture) Disks() []source.CapturedDisk { return c.disks }
func (c *capture) Definition() string           { return c.definition }
func (c *capture) Firmware() []image.Firmware   { return nil }
func (c *capture) Checkpoints() []string        { return c.earlier }
func (c *capture) Warnings() []string           { return append(slices.Clone(c.warnings), c.stood.Warnings...) }
func (c *capture) Consistency() (image.Consistency, time.Duration) {
	return c.stood.Consistency, c.stood.Frozen
}

// checkpoint is the ID of the capture whose snapshot or note has a name.
func checkpoint(name string) (id string, ok bool) {
	id, ok = strings.CutPrefix(name, marked)
	return id, ok && len(id) == idLength
}

func (g guest) checkpoints() (ids []string) {
	for name := range g.Notes {
		if id, ok := checkpoint(name); ok {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

// tides are those of an earlier capture, by disk; nil where they are not noted.
func (g guest) tides(id string) (out map[string]string) {
	if json.Unmarshal([]byte(g.Notes[marked+id]), &out) != nil {
		return nil // no note, or not one of ours
	}
	return out
}

// Capture implements [source.Capturer].
func (h *Hypervisor) Capture(ctx context.Context, r source.Request) (source.Capture, error) {
	c := &capture{h: h, id: r.ID}
	if err := c.begin(ctx, r); err != nil {
		return nil, errors.Join(err, c.Close(context.WithoutCancel(ctx), false, nil))
	}
	return c, nil
}

func (c *capture) begin(ctx context.Context, r source.Request) (err error) {
	if c.guest, err = c.h.asked(ctx, r); err != nil {
		return err
	}
	for _, target := range r.Disks {
		if !slices.ContainsFunc(c.guest.Disks, func(d guestDisk) bool { return d.Target == target }) {
			return fmt.Errorf("guest %s has no disk %s", r.Machine, target)
		}
	}
	if c.definition, err = c.guest.definition(); err != nil {
		return err
	}
	dead, err := c.h.captures(ctx, c.guest)
	if err == nil {
		c.warnings, err = r.ClearDead(ctx, c.h, dead)
	}
	if err != nil {
		return err
	}
	c.earlier, c.began = c.guest.checkpoints(), true
	var s snapshot
	if s, c.stood, err = c.h.still(ctx, r, c.guest, marked+r.ID, "a backup is being made of it; removed when that is done"); err != nil {
		return err
	}
	if r.Checkpoint {
		if err := c.note(ctx, s); err != nil {
			return err
		}
	}
	since := c.guest.tides(r.Since)
	for _, d := range s.Disks {
		if len(r.Disks) > 0 && !slices.Contains(r.Disks, d.Target) {
			continue
		}
		out := source.CapturedDisk{Target: d.Target, Format: format}
		steady, err := c.read(ctx, s.ID, d.Target, r.Tell)
		if err != nil {
			return err
		}
		out.Disk = steady
		if r.Since != "" {
			changed, why, err := c.changed(ctx, s.ID, d.Target, d.Size, since[d.Target], r.Since)
			if err != nil {
				return err
			}
			if out.Why = why; why == "" {
				out.Whole, out.Disk = steady, sinceThen{steady, changed}
			}
		}
		c.disks = append(c.disks, out)
	}
	if len(c.disks) == 0 {
		return fmt.Errorf("guest %s has no disk that can be captured", r.Machine)
	}
	return nil
}

// captures lists the IDs of captures whose snapshots a guest has.
func (h *Hypervisor) captures(ctx context.Context, g guest) (ids []string, err error) {
	found, err := h.snapshots(ctx, g)
	for _, s := range found {
		if id, ok := checkpoint(s.Name); ok {
			ids = append(ids, id)
		}
	}
	return ids, err
}

func (h *Hypervisor) snapshots(ctx context.Context, g guest) (out []snapshot, err error) {
	return out, gone(g.Name, h.Call(ctx, http.MethodGet, rest.Path("guests", g.ID, "snapshots"), nil, &out))
}

// asked finds the guest that is asked for, and makes sure that it is that one.
func (h *Hypervisor) asked(ctx context.Context, r source.Request) (guest, error) {
	g, err := h.guest(ctx, r.Machine)
	if err == nil && r.UUID != "" && g.identity() != r.UUID {
		err = fmt.Errorf("guest %s: %w here with UUID %s; the one of that name has %s", r.Machine, source.ErrNoMachine, r.UUID, g.identity())
	}
	return g, err
}

// still takes a snapshot of a guest, while its writes are held where it runs, as far as the request asks for that.
func (h *Hypervisor) still(ctx context.Context, r source.Request, g guest, name, note string) (s snapshot, stood source.Stood, err error) {
	take := func() (err error) {
		s, err = h.take(ctx, g, name, note)
		return err
	}
	if g.runs() {
		stood, err = source.WhileFrozen(ctx, r, holder{h, g}, take)
	} else if err = take(); s.Power == "on" { // it was powered on just then
		stood.Consistency = image.Crash
	} else {
		stood.Consistency = image.Off
	}
	if err == nil && stood.Consistency == image.FileSystem && !s.Held {
		err = errors.New("its writes were not held any more when the snapshot was taken")
	}
	if err != nil {
		err = fmt.Errorf("guest %s: %w", g.Name, err)
	}
	return s, stood, err
}

// take takes a snapshot, and looks whether it is there: an answer alone is no snapshot.
func (h *Hypervisor) take(ctx context.Context, g guest, name, note string) (s snapshot, err error) {
	if err := h.Task(ctx, taskTime, http.MethodPost, rest.Path("guests", g.ID, "snapshots"), map[string]any{"name": name, "note": note}, &s); err != nil {
		return s, fmt.Errorf("take snapshot %s: %w", name, gone(g.Name, err))
	}
	if s.ID == "" || len(s.Disks) == 0 {
		return s, fmt.Errorf("take snapshot %s: the hypervisor answers that it is done, and tells of no snapshot", name)
	}
	return s, nil
}

// note keeps the tides of this moment with the guest.
func (c *capture) note(ctx context.Context, s snapshot) error {
	tides := map[string]string{}
	for _, d := range s.Disks {
		tides[d.Target] = d.Tide
	}
	text, err := json.Marshal(tides)
	if err == nil {
		err = c.h.Call(ctx, http.MethodPut, rest.Path("guests", c.guest.ID, "notes", marked+c.id), string(text), nil)
	}
	if err != nil {
		return fmt.Errorf("guest %s: note what later backups build on: %w", c.guest.Name, err)
	}
	return nil
}

// changed asks what was written to a disk since a tide. why is why that is not known.
func (c *capture) changed(ctx context.Context, snapshot, target string, size int64, tide, since string) (out []disk.Extent, why string, err error) {
	if tide == "" {
		return nil, "the hypervisor has no change identity of image " + since + " any more", nil
	}
	var said rest.Ranges
	err = c.h.Call(ctx, http.MethodGet, rest.Path("guests", c.guest.ID, "snapshots", snapshot, "disks", target, "changes")+"?since="+url.QueryEscape(tide), nil, &said)
	if rest.Is(err, http.StatusGone) {
		return nil, "the hypervisor has lost what changed since image " + since + ": " + err.Error(), nil
	}
	if err != nil {
		return nil, "", fmt.Errorf("guest %s, disk %s: ask what changed since image %s: %w", c.guest.Name, target, since, err)
	}
	if out, err = said.Extents(size); err != nil {
		return nil, err.Error(), nil // then all of it is read
	}
	return out, "", nil
}

// read opens a disk of the snapshot. Where the line is cut, or the guest moves to another host, it is asked for anew.
func (c *capture) read(ctx context.Context, snapshot, target string, tell func(format string, args ...any)) (*nbd.Steady, error) {
	at := rest.Path("guests", c.guest.ID, "snapshots", snapshot, "disks", target, "lend")
	steady, err := nbd.Steadily(ctx, nbd.Redial{What: "disk " + target, Whose: "the hypervisor", Tell: tell, Patience: patience,
		Dial: func(ctx context.Context) (*nbd.Client, error) {
			var lent struct {
				Address string `json:"address"`
				Export  string `json:"export"`
			}
			if err := c.h.Call(ctx, http.MethodPost, at, nil, &lent); err != nil {
				return nil, fmt.Errorf("disk %s: %w", target, err)
			}
			host, _, err := net.SplitHostPort(lent.Address)
			if err != nil {
				return nil, fmt.Errorf("disk %s: it is lent at %q, which is no address", target, lent.Address)
			}
			conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", lent.Address)
			if err != nil {
				return nil, fmt.Errorf("disk %s at %s: %w", target, lent.Address, err)
			}
			return nbd.Over(ctx, conn, c.secure(host), lent.Export, "")
		},
		Over: func(ctx context.Context, failed error) error {
			if rest.Is(failed, http.StatusNotFound) {
				return fmt.Errorf("the snapshot that is read is there no more: %w", failed)
			}
			return nil
		}})
	if err != nil {
		return nil, fmt.Errorf("guest %s: %w", c.guest.Name, err)
	}
	c.open = append(c.open, steady)
	return steady, nil
}

// secure is how a host of the hypervisor is known: by the same authority.
func (c *capture) secure(host string) *tls.Config {
	s := c.h.Secure()
	s.ServerName = host
	return s
}

// sinceThen is a disk that tells as unchanged what is not among the changed ranges.
type sinceThen struct {
	*nbd.Steady
	changed []disk.Extent
}

// Extents implements [disk.Disk].
func (s sinceThen) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	all, err := s.Steady.Extents(ctx, offset, length)
	return disk.Since(all, disk.Between(s.changed, offset, length, disk.Unchanged)), err
}

// Close implements [source.Capture].
func (c *capture) Close(ctx context.Context, kept bool, drop []string) error {
	ctx = context.WithoutCancel(ctx)
	for _, s := range c.open {
		s.Close()
	}
	c.open = nil
	c.kept = c.kept || kept
	var errs []error
	if c.began {
		_, err := c.h.unsnap(ctx, c.guest, marked+c.id)
		c.began = err != nil
		errs = append(errs, err)
		if !c.kept {
			drop = append(slices.Clone(drop), c.id)
		}
	}
	if len(drop) > 0 {
		_, err := c.h.DropCheckpoints(ctx, c.guest.Name, drop)
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// unsnap removes a snapshot by its name, once what was begun for this guest is over, and looks whether it is gone.
func (h *Hypervisor) unsnap(ctx context.Context, g guest, name string) (was bool, err error) {
	if err := h.quiet(ctx, g); err != nil {
		return false, err
	}
	for tried := false; ; tried = true {
		found, err := h.snapshots(ctx, g)
		if errors.Is(err, source.ErrNoMachine) {
			return was, nil // it went with its guest
		}
		i := slices.IndexFunc(found, func(s snapshot) bool { return s.Name == name })
		switch {
		case err != nil:
			return was, err
		case i < 0:
			return was, nil
		case tried:
			return was, fmt.Errorf("guest %s: the hypervisor answers that snapshot %s is removed, and it is there still", g.Name, name)
		}
		was = true
		err = h.Task(ctx, mergeTime, http.MethodDelete, rest.Path("guests", g.ID, "snapshots", found[i].ID), nil, nil)
		if err != nil && !rest.Is(err, http.StatusNotFound) {
			return was, fmt.Errorf("guest %s: remove snapshot %s: %w", g.Name, name, err)
		}
	}
}

// quiet waits until no task of a guest is going: what a caller that died had asked for may come yet.
func (h *Hypervisor) quiet(ctx context.Context, g guest) error {
	for end := time.Now().Add(lateTime); ; {
		var going []struct {
			Call string `json:"call"`
		}
		if err := h.Call(ctx, http.MethodGet, "/tasks?about="+url.QueryEscape(g.ID), nil, &going); err != nil {
			return err
		}
		if len(going) == 0 {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("guest %s: %w: its hypervisor is at %s", g.Name, source.ErrBusy, going[0].Call)
		}
		if err := rest.Wait(ctx, 50*time.Millisecond); err != nil {
			return err
		}
	}
}

// Clear implements [source.Capturer].
func (h *Hypervisor) Clear(ctx context.Context, name, id string, _ bool) (found []string, err error) {
	g, err := h.guest(ctx, name)
	if errors.Is(err, source.ErrNoMachine) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	held, err := h.release(ctx, g)
	if held {
		found = append(found, "let guest "+name+" write again")
	}
	errs := []error{err}
	was, err := h.unsnap(ctx, g, marked+id)
	if was && err == nil {
		found = append(found, "removed snapshot "+marked+id+" of guest "+name)
	}
	errs = append(errs, err)
	removed, err := h.DropCheckpoints(ctx, name, []string{id})
	if len(removed) > 0 {
		found = append(found, "removed note "+marked+id+" of guest "+name)
	}
	return found, errors.Join(append(errs, err)...)
}

// Checkpoints implements [source.Capturer].
func (h *Hypervisor) Checkpoints(ctx context.Context, name string) ([]string, error) {
	g, err := h.guest(ctx, name)
	return g.checkpoints(), err
}

// DropCheckpoints implements [source.Capturer].
func (h *Hypervisor) DropCheckpoints(ctx context.Context, name string, ids []string) (removed []string, err error) {
	g, err := h.guest(ctx, name)
	if errors.Is(err, source.ErrNoMachine) {
		return nil, nil
	}
	errs := []error{err}
	for _, id := range g.checkpoints() {
		if !slices.Contains(ids, id) {
			continue
		}
		err := h.Call(ctx, http.MethodDelete, rest.Path("guests", g.ID, "notes", marked+id), nil, nil)
		if errs = append(errs, err); err == nil {
			removed = append(removed, id)
		}
	}
	return removed, errors.Join(errs...)
}

// Thaw implements [source.Capturer].
func (h *Hypervisor) Thaw(ctx context.Context, name string) error {
	g, err := h.guest(ctx, name)
	if err == nil {
		_, err = h.release(ctx, g)
	}
	return err
}

// release lets a guest write again, and tells whether it was held.
func (h *Hypervisor) release(ctx context.Context, g guest) (bool, error) {
	var said struct {
		Was bool `json:"was"`
	}
	err := h.Call(ctx, http.MethodDelete, rest.Path("guests", g.ID, "hold"), nil, &said)
	return said.Was, gone(g.Name, err)
}

// holder holds a guest's writes. The hypervisor lets go by itself after a while, whatever becomes of us.
type holder struct {
	h *Hypervisor
	g guest
}

func (f holder) Guard(context.Context) (func(), error) { return func() {}, nil }

func (f holder) Freeze(ctx context.Context) error {
	ctx, cancel := context.WithTimeoutCause(ctx, holdTime, fmt.Errorf("%w within %s", source.ErrBusy, holdTime))
	defer cancel()
	if err := f.h.Call(ctx, http.MethodPost, rest.Path("guests", f.g.ID, "hold"), nil, nil); err != nil {
		return fmt.Errorf("hold the writes of guest %s: %w", f.g.Name, err)
	}
	return nil
}

func (f holder) Thaw(ctx context.Context) (int, error) {
	was, err := f.h.release(ctx, f.g)
	if was {
		return 1, err
	}
	return 0, err
}
