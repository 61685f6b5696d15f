package source

import (
	"context"
	"time"
)

// SnapshotMark begins the names of snapshots in place that are ours; the lodge's ID of one follows.
const SnapshotMark = "keenlodge-in-place-"

// Snapshot is a moment that a source keeps of a machine, on the machine's own storage. ID is the lodge's, "" where somebody else made it; Ref is the
// source's own word for it. Bytes is what was written since, or what it takes, -1 where that is not known.
type Snapshot struct {
	Machine, ID, Ref string
	Name, Note       string
	Taken            time.Time
	Memory           bool
	Bytes            int64
}

// Snapped is a snapshot that was taken, with what the machine was in.
type Snapped struct {
	Snapshot
	Stood
}

// Snapshotter keeps snapshots in place. What others made it lists, and never touches.
type Snapshotter interface {
	// Snap takes a snapshot of a machine that runs or is off; of the request its ID is the snapshot's, Quiesce and what belongs to a freeze hold as for a
	// capture. memory asks for that of a machine that runs, too; a source that can't do without it, or with it, says so in the warnings. If it fails,
	// nothing stays, or Unsnap removes it.
	Snap(ctx context.Context, r Request, note string, memory bool) (Snapped, error)
	// Snapshots lists those of a machine, or of all where name is "", oldest first: ours, and those that others made. Of all, a source with very many may
	// list ours only.
	Snapshots(ctx context.Context, name string) ([]Snapshot, error)
	// Unsnap removes one of ours, by its ID and, where that is known, by the source's word for it; of one that has the ID, but another ref, nothing is
	// touched. It tells whether there was one, and that is gone when it returns no error.
	Unsnap(ctx context.Context, name, id, ref string) (was bool, err error)
	// GoBack has a machine be as it was at a snapshot of ours. One that runs is powered off for it where off says so, and otherwise [ErrBusy]; it is powered
	// on again where it ran. What else is lost by it, such as checkpoints, is removed before and told; later snapshots are, as the source tells.
	GoBack(ctx context.Context, name, id, ref string, off bool) (told []string, err error)
}

// Spreader is a source with regions, to which snapshots in place can be copied.
type Spreader interface {
	// Spread copies a snapshot of ours to another region, as one with an ID of its own, and returns when it is there. What is in that region already is none.
	Spread(ctx context.Context, of Snapshot, region, id string) (Snapshot, error)
	// Region is where a snapshot is.
	Region(of Snapshot) string
}

// Unused is something that a restore made with a source, and that no machine has: it takes room, or costs money. Bytes is its size.
type Unused struct {
	Name  string
	Made  time.Time
	Bytes int64
}

// UnusedTeller tells what restores made, of any lodge, and nobody uses.
type UnusedTeller interface {
	Unused(ctx context.Context) ([]Unused, error)
}
