package skerry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"time"

	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

// mostRead is how many bytes are read at once.
const mostRead = 4 << 20

// capture is a moment whose snapshots are read. What later captures build on is the moment itself: it stays, and bears its image's ID.
type capture struct {
	c          connection
	t          thing
	id         string
	definition string
	began      bool
	kept       bool
	earlier    []string
	disks      []source.CapturedDisk
}

func (k *capture) Disks() []source.CapturedDisk { return k.disks }
func (k *capture) Definition() string           { return k.definition }
func (k *capture) Firmware() []image.Firmware   { return nil }
func (k *capture) Checkpoints() []string        { return k.earlier }
func (k *capture) Warnings() []string           { return nil }
func (k *capture) Consistency() (image.Consistency, time.Duration) {
	return consistency(k.t), 0
}

// Capture implements [source.Capturer].
func (c connection) Capture(ctx context.Context, r source.Request) (source.Capture, error) {
	k := &capture{c: c, id: r.ID}
	if err := k.begin(ctx, r); err != nil {
		return nil, errors.Join(err, k.Close(context.WithoutCancel(ctx), false, nil))
	}
	return k, nil
}

func (k *capture) begin(ctx context.Context, r source.Request) (err error) {
	if k.t, err = k.c.find(ctx, r.Machine, r.UUID); err == nil {
		err = mayTake(r)
	}
	if err != nil {
		return err
	}
	if k.definition, err = k.c.describe(ctx, k.t); err != nil {
		return err
	}
	if k.earlier, err = k.c.bases(ctx, k.t); err != nil {
		return err
	}
	k.began = true
	m, err := k.c.take(ctx, k.t, captureTag, r.ID, "read into a store; what later backups build on", map[string]string{"policy": r.Policy, "run": r.Run})
	if err != nil {
		return err
	}
	since, why := moment{}, ""
	if r.Since != "" {
		err := k.c.Call(ctx, http.MethodGet, rest.Path("regions", k.t.region, "moments", momentID(captureTag, r.Since)), nil, &since)
		if rest.Is(err, http.StatusNotFound) {
			why = "the account does not have the snapshots of image " + r.Since + " any more"
		} else if err != nil {
			return err
		}
	}
	for _, x := range m.Snapshots {
		if len(r.Disks) > 0 && !slices.Contains(r.Disks, x.Device) {
			continue
		}
		d := source.CapturedDisk{Target: x.Device, Format: Kind, Why: why}
		s := &stored{ctx: ctx, c: k.c, at: rest.Path("regions", k.t.region, "moments", m.ID, "snapshots", x.ID), size: x.Size}
		if s.held, err = s.ranges(""); err != nil {
			return fmt.Errorf("%s, volume at %s: %w", k.t.name, x.Device, err)
		}
		d.Disk = s
		for _, old := range since.Snapshots {
			if old.Volume != x.Volume || old.Size != x.Size {
				continue
			}
			changed, err := s.ranges(old.ID)
			if rest.Is(err, http.StatusGone) {
				d.Why = err.Error()
				break
			} else if err != nil {
				return err
			}
			d.Disk, d.Whole = sinceThen{s, changed}, s
		}
		if d.Whole == nil && r.Since != "" && d.Why == "" {
			d.Why = "it is another volume than that of image " + r.Since
		}
		k.disks = append(k.disks, d)
	}
	for _, target := range r.Disks {
		if !slices.ContainsFunc(k.disks, func(d source.CapturedDisk) bool { return d.Target == target }) {
			return fmt.Errorf("%s has no volume at %s", k.t.name, target)
		}
	}
	return nil
}

// describe is what is kept of an instance beside its volumes: its type, network and tags. One of a volume alone describes an instance without a type.
func (c connection) describe(ctx context.Context, t thing) (string, error) {
	i := instance{Name: t.name, Tags: map[string]string{}, Volumes: []attached{{Device: alone, Volume: t.id}}}
	if t.instance {
		if err := c.Call(ctx, http.MethodGet, rest.Path("regions", t.region, "instances", t.id), nil, &i); err != nil {
			return "", c.missing(t, err)
		}
	}
	body, err := json.Marshal(i)
	return string(body), err
}

// bases lists the IDs of images whose moments are there to build on.
func (c connection) bases(ctx context.Context, t thing) (ids []string, err error) {
	found, err := list[moment](ctx, c.Account, rest.Path("regions", t.region, "moments"), url.Values{"tag": {captureTag}, "about": {t.id}})
	for _, m := range found {
		if id := m.Tags[captureTag]; m.ID == momentID(captureTag, id) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids, err
}

// stored is a snapshot that is read. It implements [disk.Disk].
type stored struct {
	ctx  context.Context
	c    connection
	at   string
	size int64
	held []disk.Extent // where it has something
}

// ranges asks where it has something, or something else than an earlier snapshot.
func (s *stored) ranges(since string) ([]disk.Extent, error) {
	at := s.at + "/ranges"
	if since != "" {
		at += "?since=" + url.QueryEscape(since)
	}
	var said rest.Ranges
	if err := s.c.Call(s.ctx, http.MethodGet, at, nil, &said); err != nil {
		return nil, err
	}
	return said.Extents(s.size)
}

// Size implements [disk.Disk].
func (s *stored) Size() int64 { return s.size }

// ReadAt implements [io.ReaderAt].
func (s *stored) ReadAt(p []byte, off int64) (n int, err error) {
	for n < len(p) && off < s.size {
		part := p[n:min(len(p), n+mostRead)]
		part = part[:min(int64(len(part)), s.size-off)]
		got, err := s.c.Read(s.ctx, fmt.Sprintf("%s/content?at=%d&length=%d", s.at, off, len(part)), part)
		if err != nil {
			return n, err
		}
		if got < len(part) {
			return n + got, fmt.Errorf("the account told %d of %d bytes at %d", got, len(part), off)
		}
		n, off = n+got, off+int64(got)
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// Extents implements [disk.Disk].
func (s *stored) Extents(_ context.Context, offset, length int64) ([]disk.Extent, error) {
	return disk.Between(s.held, offset, length, disk.Zero), nil
}

// sinceThen is a snapshot that tells as unchanged what is as in an earlier one.
type sinceThen struct {
	*stored
	changed []disk.Extent
}

// Extents implements [disk.Disk].
func (s sinceThen) Extents(ctx context.Context, offset, length int64) ([]disk.Extent, error) {
	all, err := s.stored.Extents(ctx, offset, length)
	return disk.Since(all, disk.Between(s.changed, offset, length, disk.Unchanged)), err
}

// Close implements [source.Capture].
func (k *capture) Close(ctx context.Context, kept bool, drop []string) error {
	k.kept = k.kept || kept
	if drop = slices.Clone(drop); k.began && !k.kept {
		drop = append(drop, k.id)
	}
	_, err := k.c.drop(context.WithoutCancel(ctx), k.t, drop)
	if err == nil {
		k.began = false
	}
	return err
}

// drop removes the moments of captures.
func (c connection) drop(ctx context.Context, t thing, ids []string) (removed []string, err error) {
	for _, id := range ids {
		was, failed := c.unmake(ctx, t.region, captureTag, id)
		if err = errors.Join(err, failed); was {
			removed = append(removed, id)
		}
	}
	return removed, err
}

// Clear implements [source.Capturer].
func (c connection) Clear(ctx context.Context, name, id string, _ bool) (found []string, err error) {
	t, err := c.find(ctx, name, "")
	if errors.Is(err, source.ErrNoMachine) {
		was, err := c.everywhere(ctx, captureTag, id)
		if was {
			found = append(found, "removed snapshots of "+name)
		}
		return found, err
	}
	if err != nil {
		return nil, err
	}
	removed, err := c.drop(ctx, t, []string{id})
	if len(removed) > 0 {
		found = append(found, "removed snapshots of "+name+" for image "+id)
	}
	return found, err
}

// Checkpoints implements [source.Capturer].
func (c connection) Checkpoints(ctx context.Context, name string) ([]string, error) {
	t, err := c.find(ctx, name, "")
	if err != nil {
		return nil, err
	}
	return c.bases(ctx, t)
}

// DropCheckpoints implements [source.Capturer].
func (c connection) DropCheckpoints(ctx context.Context, name string, ids []string) ([]string, error) {
	t, err := c.find(ctx, name, "")
	if errors.Is(err, source.ErrNoMachine) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return c.drop(ctx, t, ids)
}

// Thaw implements [source.Capturer]: nothing is ever frozen.
func (c connection) Thaw(ctx context.Context, name string) error {
	_, err := c.find(ctx, name, "")
	return err
}
