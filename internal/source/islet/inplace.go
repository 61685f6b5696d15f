package islet

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"keenlodge/internal/core/plain"
	"keenlodge/internal/source"
	"keenlodge/internal/source/rest"
)

// Snap implements [source.Snapshotter]. The hypervisor keeps no memory with a snapshot.
func (h *Hypervisor) Snap(ctx context.Context, r source.Request, note string, memory bool) (out source.Snapped, err error) {
	g, err := h.asked(ctx, r)
	if err != nil {
		return out, err
	}
	var s snapshot
	if s, out.Stood, err = h.still(ctx, r, g, source.SnapshotMark+r.ID, note); err != nil {
		_, undone := h.Unsnap(context.WithoutCancel(ctx), r.Machine, r.ID, "")
		return out, errors.Join(err, undone)
	}
	if memory && g.runs() {
		out.Warnings = append(out.Warnings, "this hypervisor keeps no memory with a snapshot")
	}
	out.Snapshot = s.told(g)
	return out, nil
}

// mostWords bounds what is told of a snapshot by whoever made it, in bytes.
const mostWords = 1 << 10

// told is a snapshot as the lodge is told of it.
func (s snapshot) told(g guest) source.Snapshot {
	out := source.Snapshot{Machine: g.Name, Ref: s.ID, Name: plain.Text(s.Name, mostWords), Note: plain.Text(s.Note, mostWords), Taken: s.Made, Bytes: s.Grown}
	out.ID, _ = strings.CutPrefix(s.Name, source.SnapshotMark)
	if out.ID == s.Name {
		out.ID = ""
	}
	return out
}

// Snapshots implements [source.Snapshotter]. What captures read is no snapshot in place.
func (h *Hypervisor) Snapshots(ctx context.Context, name string) ([]source.Snapshot, error) {
	all, err := h.guests(ctx)
	if err != nil {
		return nil, err
	}
	if name != "" {
		if all = slices.DeleteFunc(all, func(g guest) bool { return g.Name != name }); len(all) == 0 {
			return nil, fmt.Errorf("guest %s: %w", name, source.ErrNoMachine)
		}
	}
	out := []source.Snapshot{}
	for _, g := range all {
		found, err := h.snapshots(ctx, g)
		if errors.Is(err, source.ErrNoMachine) {
			continue // it went meanwhile
		}
		if err != nil {
			return nil, err
		}
		for _, s := range found {
			if _, reads := checkpoint(s.Name); !reads {
				out = append(out, s.told(g))
			}
		}
	}
	return out, nil
}

// ours finds a snapshot of ours.
func (h *Hypervisor) ours(ctx context.Context, g guest, id, ref string) (s snapshot, ok bool, err error) {
	found, err := h.snapshots(ctx, g)
	for _, s := range found {
		if s.Name == source.SnapshotMark+id && (ref == "" || s.ID == ref) {
			return s, true, nil
		}
	}
	return s, false, err
}

// Unsnap implements [source.Snapshotter].
func (h *Hypervisor) Unsnap(ctx context.Context, name, id, ref string) (was bool, err error) {
	g, err := h.guest(ctx, name)
	if errors.Is(err, source.ErrNoMachine) {
		return false, nil // it went with its guest
	}
	if err != nil {
		return false, err
	}
	if ref != "" { // where it is not known, what a caller that died had asked for may come still
		if _, ok, err := h.ours(ctx, g, id, ref); err != nil || !ok {
			return false, err
		}
	}
	return h.unsnap(ctx, g, source.SnapshotMark+id)
}

// GoBack implements [source.Snapshotter]. What the hypervisor knows of changes is lost by it, so what later backups build on goes first.
func (h *Hypervisor) GoBack(ctx context.Context, name, id, ref string, off bool) (told []string, err error) {
	g, err := h.guest(ctx, name)
	if err != nil {
		return nil, err
	}
	s, ok, err := h.ours(ctx, g, id, ref)
	if err == nil && !ok {
		err = fmt.Errorf("guest %s has no snapshot %s any more", name, id)
	}
	if err != nil {
		return nil, err
	}
	ran := g.runs()
	if ran && !off {
		return nil, fmt.Errorf("guest %s: %w: it runs, and would have to be powered off", name, source.ErrBusy)
	}
	removed, err := h.DropCheckpoints(ctx, name, g.checkpoints())
	if len(removed) > 0 {
		told = append(told, "what later backups would have built on is removed, so the next one is full")
	}
	if err != nil {
		return told, err
	}
	power := func(to string) error {
		if err := h.Task(ctx, taskTime, http.MethodPost, rest.Path("guests", g.ID, "power"), to, nil); err != nil {
			return fmt.Errorf("power guest %s %s: %w", name, to, err)
		}
		return nil
	}
	if ran {
		if err := power("off"); err != nil {
			return told, err
		}
		told = append(told, "powered off")
	}
	err = h.Task(ctx, mergeTime, http.MethodPost, rest.Path("guests", g.ID, "snapshots", s.ID, "back"), nil, nil)
	if err != nil {
		err = fmt.Errorf("guest %s: go back to snapshot %s: %w", name, id, err)
	}
	if ran {
		if on := power("on"); on != nil {
			return told, errors.Join(err, on)
		}
		told = append(told, "powered on")
	}
	return told, err
}
