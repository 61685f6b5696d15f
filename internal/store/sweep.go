package store

import (
	"context"
	"time"
)

// SweepRequest says how a sweep is to go.
type SweepRequest struct {
	// DryRun only tells what would be done.
	DryRun bool
	// Without names images that a dry run takes for dropped.
	Without []string
	// Expected lists the images that must be there; nil if nobody knows. Where the store lists fewer, nothing is condemned: a medium's list that
	// lags, or manifests that something else removed, would look as if nobody needed their pieces.
	Expected func(ctx context.Context) ([]string, error)
	// Until is when it must have ended; the zero time is never. It ends between two packs, and the next goes on.
	Until time.Time
	// Pace is called before so many bytes are read or written, and waits as long as the bandwidth asks; nil is no limit.
	Pace func(ctx context.Context, bytes int) error
	// Progress is called with bytes moved or deleted.
	Progress func(bytes int64)
}

// SweepReport are a sweep's figures. Lengths are in bytes.
type SweepReport struct {
	DryRun bool `json:"dry_run"`
	Images int  `json:"images"`
	Blocks int  `json:"blocks"`
	Packs  int  `json:"packs"`
	// Stored is what packs take, Dead how much of that no image needs.
	Stored int64 `json:"stored"`
	Dead   int64 `json:"dead"`
	// Condemned packs go: those of no use at all, and those rewritten because much of them is dead or they are small. In a
	// dry run they would.
	Useless   int   `json:"useless"`
	Rewritten int   `json:"rewritten"`
	Move      int64 `json:"move"`  // bytes of rewritten packs that are needed and move
	Gives     int64 `json:"gives"` // bytes that all of it gives back in the end
	// What was done.
	Deleted int   `json:"deleted"` // packs
	Freed   int64 `json:"freed"`   // bytes that the deleted packs took
	Moved   int64 `json:"moved"`   // bytes written for them anew
	// Locked packs are condemned and needed by no image, but their place does not let them go yet.
	Locked int `json:"locked"`
	// Waiting packs are condemned but can't go yet, for the reasons told.
	Waiting int      `json:"waiting"`
	Why     []string `json:"why"`
}

// RenewedLocks tells of locks that were renewed.
type RenewedLocks struct {
	// Objects are what images share, Renewed those whose lock was renewed, until Until.
	Objects, Renewed int
	Until            time.Time
	// Hidden are objects that somebody had deleted, overwritten or unlocked as far as the place let him, and that are as before.
	Hidden []string
}
