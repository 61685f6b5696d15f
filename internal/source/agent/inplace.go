package agent

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/line"
	"keenlodge/internal/source"
)

// mostSnaps bounds the snapshots that a server may tell of.
const mostSnaps = 10_000

// Snap implements [source.Snapshotter]: of the btrfs subvolumes that the server has mounted, each as its file system has it at one moment.
func (s *Source) Snap(ctx context.Context, r source.Request, note string, memory bool) (out source.Snapped, err error) {
	var got line.Snapped
	if err := s.ask(ctx, r.Machine, line.CallSnap, line.Snap{ID: r.ID, Note: note}, &got); err != nil {
		return out, err
	}
	out.Snapshot = source.Snapshot{Machine: r.Machine, ID: r.ID, Ref: plain.Text(got.Ref, 100), Name: source.SnapshotMark + r.ID, Note: note, Taken: got.Taken, Bytes: -1}
	out.Consistency = image.FileSystem
	if memory {
		out.Warnings = append(out.Warnings, "the memory of a server is in no snapshot")
	}
	if len(got.Left) > 0 {
		out.Warnings = append(out.Warnings, fmt.Sprintf("not in the snapshot, for they are no btrfs: %s", plain.Text(strings.Join(got.Left, ", "), 1<<10)))
	}
	if len(got.Of) > 1 && got.Apart > time.Millisecond {
		out.Warnings = append(out.Warnings, fmt.Sprintf("its %d subvolumes are of moments up to %s apart", len(got.Of), got.Apart.Round(time.Millisecond)))
	}
	return out, nil
}

// Snapshots implements [source.Snapshotter]. Of all servers it is those that are connected; where one is not, that is an error, for what it has is not known.
func (s *Source) Snapshots(ctx context.Context, name string) (out []source.Snapshot, err error) {
	names := []string{name}
	if name == "" {
		all, err := s.lines.Servers(ctx, s.name)
		if err != nil {
			return nil, err
		}
		names = nil
		for _, v := range all {
			names = append(names, v.Name)
		}
	}
	for _, server := range names {
		var kept line.Snaps
		err := s.ask(ctx, server, line.CallSnaps, nil, &kept)
		if refused := new(line.Refusal); errors.As(err, &refused) && refused.Kind == line.Unknown {
			continue // an agent of before keeps none
		}
		if err != nil {
			return nil, err
		}
		for _, k := range kept.Snaps[:min(len(kept.Snaps), mostSnaps)] {
			out = append(out, source.Snapshot{Machine: server, ID: plain.Text(k.ID, 20), Ref: plain.Text(k.Ref, 100), Name: plain.Text(k.Name, 1<<10), Note: plain.Text(k.Note, 1<<10), Taken: k.Taken, Bytes: -1})
		}
	}
	slices.SortFunc(out, func(a, b source.Snapshot) int { return a.Taken.Compare(b.Taken) })
	return out, nil
}

// Unsnap implements [source.Snapshotter].
func (s *Source) Unsnap(ctx context.Context, name, id, ref string) (bool, error) {
	var got line.Unsnapped
	err := s.ask(ctx, name, line.CallUnsnap, line.Unsnap{ID: id, Ref: ref}, &got)
	return got.Was, err
}

// GoBack implements [source.Snapshotter]. A server is not powered off for it: what is in use there is as it was from its next start on, which is told.
func (s *Source) GoBack(ctx context.Context, name, id, ref string, _ bool) ([]string, error) {
	var got line.WentBack
	err := s.ask(ctx, name, line.CallBack, line.Unsnap{ID: id, Ref: ref}, &got)
	for i, text := range got.Told {
		got.Told[i] = plain.Text(text, 1<<10)
	}
	return got.Told, err
}

var _ source.Snapshotter = (*Source)(nil)
