package skerry

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/google/uuid"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

// space is that of the IDs of our moments (RFC 9562, section 5.5): the lodge's ID of something tells the account's of its moment, also where no answer came.
var space = uuid.MustParse("7f1f6a52-3c1b-5f0e-9b43-6f8a0d3f2e11")

// momentID is the ID of the moment that bears a tag with the lodge's ID.
func momentID(tag, id string) string { return uuid.NewSHA1(space, []byte(tag+"="+id)).String() }

// take makes a moment, and looks whether it is there: an answer alone is no moment.
func (c connection) take(ctx context.Context, t thing, tag, id, note string, more map[string]string) (m moment, err error) {
	body := map[string]any{"id": momentID(tag, id), "name": t.name + " " + id, "tags": map[string]string{tag: id, "note": note}}
	for key, value := range more {
		body["tags"].(map[string]string)[key] = value
	}
	if body["volume"] = t.id; t.instance {
		delete(body, "volume")
		body["instance"] = t.id
	}
	if err := c.Call(ctx, http.MethodPost, rest.Path("regions", t.region, "moments"), body, nil); err != nil {
		return m, fmt.Errorf("%s: make a moment of it: %w", t.name, c.missing(t, err))
	}
	if err := c.Call(ctx, http.MethodGet, rest.Path("regions", t.region, "moments", momentID(tag, id)), nil, &m); err != nil {
		return m, fmt.Errorf("%s: the account answers that a moment is made, but: %w", t.name, err)
	}
	if len(m.Snapshots) == 0 {
		return m, fmt.Errorf("%s has no volume of which there could be a snapshot", t.name)
	}
	return m, nil
}

// mayTake refuses what asks for a freeze: nobody in an account can be asked for one.
func mayTake(r source.Request) error {
	if r.Quiesce == machine.Required {
		return fmt.Errorf("%s: a cloud account freezes nothing; write quiesce: off, or preferred", r.Machine)
	}
	return nil
}

// consistency is what a moment is worth.
func consistency(t thing) image.Consistency {
	if t.machine.State == machine.Off {
		return image.Off
	}
	return image.Crash
}

// missing has an answer that something is not there be [source.ErrNoMachine]; it is looked for anew then.
func (c connection) missing(t thing, err error) error {
	if !rest.Is(err, http.StatusNotFound) {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.things, t.id)
	return fmt.Errorf("%w (%w)", source.ErrNoMachine, err)
}

// unmake removes a moment, if it bears the tag with the lodge's ID, and tells whether there was one.
func (c connection) unmake(ctx context.Context, region, tag, id string) (was bool, err error) {
	err = c.Call(ctx, http.MethodDelete, rest.Path("regions", region, "moments", momentID(tag, id))+"?if="+url.QueryEscape(tag+"="+id), nil, nil)
	if rest.Is(err, http.StatusNotFound) || rest.Is(err, http.StatusPreconditionFailed) {
		return false, nil
	}
	return err == nil, err
}

// Snap implements [source.Snapshotter]: all volumes of an instance in one moment. An account can't freeze, and keeps no memory.
func (c connection) Snap(ctx context.Context, r source.Request, note string, memory bool) (out source.Snapped, err error) {
	t, err := c.find(ctx, r.Machine, r.UUID)
	if err != nil {
		return out, err
	}
	if err := mayTake(r); err != nil {
		return out, err
	}
	out.Stood = source.Stood{Consistency: consistency(t)}
	if memory {
		out.Warnings = append(out.Warnings, "a cloud account keeps no memory with a snapshot")
	}
	m, err := c.take(ctx, t, inPlaceTag, r.ID, note, map[string]string{"policy": r.Policy, "run": r.Run})
	if err != nil {
		_, undone := c.unmake(context.WithoutCancel(ctx), t.region, inPlaceTag, r.ID)
		return out, errors.Join(err, undone)
	}
	out.Snapshot = c.told(m)
	return out, nil
}

// mostWords bounds what is told of a moment by whoever made it, in bytes.
const mostWords = 1 << 10

// told is a moment as the lodge is told of it. How much a snapshot takes is not told.
func (c connection) told(m moment) source.Snapshot {
	out := source.Snapshot{ID: m.Tags[inPlaceTag], Ref: place(m.Region, m.ID), Name: plain.Text(m.Name, mostWords), Note: plain.Text(m.Tags["note"], mostWords), Taken: m.Made, Bytes: -1}
	if m.ID != momentID(inPlaceTag, out.ID) {
		out.ID = "" // whoever made it copied our tag
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	out.Machine = c.things[m.Instance+m.Volume].machine.Name
	return out
}

// Snapshots implements [source.Snapshotter].
func (c connection) Snapshots(ctx context.Context, name string) (out []source.Snapshot, err error) {
	regions, err := c.in(ctx)
	if err != nil {
		return nil, err
	}
	query := url.Values{"tag": {inPlaceTag}}
	if name != "" {
		t, err := c.find(ctx, name, "")
		if err != nil {
			return nil, err
		}
		regions, query = []string{t.region}, url.Values{"about": {t.id}}
	}
	out = []source.Snapshot{}
	for _, region := range regions {
		query.Del("after")
		found, err := list[moment](ctx, c.Account, rest.Path("regions", region, "moments"), query)
		if err != nil {
			return nil, err
		}
		for _, m := range found {
			if _, captures := m.Tags[captureTag]; !captures {
				out = append(out, c.told(m))
			}
		}
	}
	slices.SortFunc(out, func(a, b source.Snapshot) int { return a.Taken.Compare(b.Taken) })
	return out, nil
}

// Unsnap implements [source.Snapshotter].
func (c connection) Unsnap(ctx context.Context, _, id, ref string) (bool, error) {
	region, of, _ := strings.Cut(ref, "/")
	switch {
	case ref == "": // in whatever region it was to be
		return c.everywhere(ctx, inPlaceTag, id)
	case of != momentID(inPlaceTag, id):
		return false, nil
	}
	return c.unmake(ctx, region, inPlaceTag, id)
}

// everywhere removes a moment of something that is there no more.
func (c connection) everywhere(ctx context.Context, tag, id string) (was bool, err error) {
	regions, err := c.in(ctx)
	for _, region := range regions {
		if one, failed := c.unmake(ctx, region, tag, id); failed != nil {
			err = errors.Join(err, failed)
		} else {
			was = was || one
		}
	}
	return was, err
}

// GoBack implements [source.Snapshotter]: an instance gets new volumes of what the snapshots hold, in place of those that it has, which go.
func (c connection) GoBack(ctx context.Context, name, id, ref string, off bool) (told []string, err error) {
	t, err := c.find(ctx, name, "")
	if err != nil {
		return nil, err
	}
	if !t.instance {
		return nil, fmt.Errorf("%s is a volume, and no instance that could go back; restore it beside", name)
	}
	region, moid, _ := strings.Cut(ref, "/")
	var m moment
	if err := c.Call(ctx, http.MethodGet, rest.Path("regions", region, "moments", moid), nil, &m); err != nil {
		return nil, fmt.Errorf("%s: its snapshot %s: %w", name, id, err)
	}
	if m.Tags[inPlaceTag] != id || m.Instance != t.id {
		return nil, fmt.Errorf("%s has no snapshot %s", name, id)
	}
	var now instance
	if err := c.Call(ctx, http.MethodGet, rest.Path("regions", t.region, "instances", t.id), nil, &now); err != nil {
		return nil, c.missing(t, err)
	}
	if now.Runs && !off {
		return nil, fmt.Errorf("instance %s: %w: it runs, and would have to be powered off", name, source.ErrBusy)
	}
	var swaps []attached
	drop := func() (errs error) {
		for _, s := range swaps {
			errs = errors.Join(errs, c.Call(context.WithoutCancel(ctx), http.MethodDelete, rest.Path("regions", t.region, "volumes", s.Volume), nil, nil))
		}
		return errs
	}
	for _, x := range m.Snapshots {
		var v volume
		err := c.Call(ctx, http.MethodPost, rest.Path("regions", t.region, "volumes"), map[string]any{"name": t.name + "-" + x.Device + "-" + id, "snapshot": x.ID, "tags": map[string]string{restoredTag: id}}, &v)
		if err != nil {
			return nil, errors.Join(fmt.Errorf("%s: make a volume of its snapshot: %w", name, err), drop())
		}
		swaps = append(swaps, attached{Device: x.Device, Volume: v.ID})
	}
	if now.Runs {
		if err := c.power(ctx, t, false); err != nil {
			return nil, errors.Join(err, drop())
		}
		told = append(told, "powered off")
	}
	var next instance
	if err := c.Call(ctx, http.MethodPut, rest.Path("regions", t.region, "instances", t.id, "volumes"), swaps, &next); err != nil {
		err = errors.Join(fmt.Errorf("%s: give it the volumes of its snapshot: %w", name, err), drop())
		if now.Runs {
			err = errors.Join(err, c.power(ctx, t, true))
		}
		return told, err
	}
	for _, was := range now.Volumes {
		gone := !containsVolume(next.Volumes, was.Volume)
		if gone {
			err = errors.Join(err, c.Call(ctx, http.MethodDelete, rest.Path("regions", t.region, "volumes", was.Volume), nil, nil))
		}
	}
	told = append(told, "it has new volumes, of what its snapshot holds")
	if now.Runs {
		err = errors.Join(err, c.power(ctx, t, true))
		told = append(told, "powered on")
	}
	return told, err
}

func containsVolume(of []attached, id string) bool {
	for _, a := range of {
		if a.Volume == id {
			return true
		}
	}
	return false
}

// Region implements [source.Spreader].
func (c connection) Region(of source.Snapshot) string {
	region, _, _ := strings.Cut(of.Ref, "/")
	return region
}

// Spread implements [source.Spreader].
func (c connection) Spread(ctx context.Context, of source.Snapshot, region, id string) (out source.Snapshot, err error) {
	regions, err := c.in(ctx)
	if err != nil {
		return out, err
	}
	if !slices.Contains(regions, region) {
		return out, fmt.Errorf("the account has no region %q; it has %s", region, strings.Join(regions, ", "))
	}
	from, moid, _ := strings.Cut(of.Ref, "/")
	body := map[string]any{"to": region, "id": momentID(inPlaceTag, id), "tags": map[string]string{inPlaceTag: id, "note": of.Note, "copy-of": of.ID}}
	if err := c.Task(ctx, taskTime, http.MethodPost, rest.Path("regions", from, "moments", moid, "copies"), body, nil); err != nil {
		return out, fmt.Errorf("copy snapshot %s to %s: %w", of.ID, region, err)
	}
	var m moment
	if err := c.Call(ctx, http.MethodGet, rest.Path("regions", region, "moments", momentID(inPlaceTag, id)), nil, &m); err != nil {
		return out, fmt.Errorf("the account answers that snapshot %s is copied to %s, but: %w", of.ID, region, err)
	}
	return c.told(m), nil
}
