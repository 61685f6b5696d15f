// Package store is what the lodge asks of a place that keeps images, whatever their layout: [Store], the small interfaces that only
// some layouts have, and what all of them tell of themselves. Package pooled keeps deduplicated packs, package open plain disk images,
// package medium reaches the place.
package store

import (
	"context"
	"errors"
	"io"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/cut"
	"keenlodge/internal/core/disk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium"
)

// Errors of places that can't be used as they are.
var (
	// ErrNoStore marks a place that holds no store.
	ErrNoStore = errors.New("it holds no store")
	// ErrSealed marks a sealed store that is opened without its secret.
	ErrSealed = errors.New("the store is sealed")
	// ErrAway marks a store whose disk comes and goes, and is not here. It is a [fault.ErrConflict].
	ErrAway error = away{}
	// ErrImagesMissing marks a store that lists fewer images than there must be.
	ErrImagesMissing = errors.New("images are missing")
)

type away struct{}

func (away) Error() string { return "its disk is away" }

func (away) Is(target error) bool { return target == fault.ErrConflict }

// OpenedDisk is a disk of an image, open for reading. Close it.
type OpenedDisk interface {
	disk.Disk
	io.Closer
}

// Store is an open store of any layout. Its methods may be called by several goroutines at once.
type Store interface {
	// Header describes the store, Medium is where it lies.
	Header() Header
	Medium() medium.Medium
	// Present reports whether the place still holds this store. Refresh brings what is held in memory up to date.
	Present(ctx context.Context) (bool, error)
	Refresh(ctx context.Context) error
	Close() error

	// ImageIDs lists the images that exist. ReadImage reads a manifest; one that is missing is [medium.ErrNotFound].
	ImageIDs(ctx context.Context) ([]string, error)
	ReadImage(ctx context.Context, id string) (*image.Manifest, error)
	// OpenDisk opens a disk of an image; close it.
	OpenDisk(ctx context.Context, m *image.Manifest, d image.Disk) (OpenedDisk, error)
	// ListFiles opens the list of an image of files, which [files.NewListReader] reads; close it. Archive writes all of them as a pax archive that
	// common tools read.
	ListFiles(ctx context.Context, m *image.Manifest) (io.ReadCloser, error)
	Archive(ctx context.Context, m *image.Manifest, out io.Writer) error
	// OpenEntry opens a file of an image of files, from an offset on, with zeros where it has holes; close it. e is its entry in the list, and no other
	// name of one before; at is where in the content of all entries its own begins ([files.Find]).
	OpenEntry(ctx context.Context, m *image.Manifest, e *files.Entry, at, offset int64) (io.ReadCloser, error)
	// ReadEntries reads the entries that are wanted, in the order of the list, in one pass: visit gets each with what is stored of its content, and may
	// leave that.
	ReadEntries(ctx context.Context, m *image.Manifest, wanted func(path string) bool, visit func(e *files.Entry, stored io.Reader) error) error
	// ReadBack reads all of an image back and tells what it matched. Errors wrap chunk.ErrDamaged or [medium.ErrNotFound]
	// where the image is to blame.
	ReadBack(ctx context.Context, m *image.Manifest, progress func(bytes int64)) (evidence []string, err error)
	// Reading announces that images are read for long, until end is called.
	Reading(ctx context.Context, program string) (end func(context.Context) error, err error)
	// Begin announces a writer of an image, whose ID is the image's, so that what it leaves can be found if it dies.
	Begin(ctx context.Context, m *image.Manifest, o WriteOptions) (Writing, error)
	// DropImage makes an image exist no more. Settle decides what an image is whose writer died: its manifest, or nil.
	DropImage(ctx context.Context, id string) error
	Settle(ctx context.Context, id string) (*image.Manifest, error)

	AddProof(ctx context.Context, id string, p Proof) error
	// KeepExhibit keeps a file that belongs to a proof beside its image, and returns its name; it goes with the image. end is that of names of files of its
	// kind, such as ".png". Exhibit reads it; one that is missing is [medium.ErrNotFound].
	KeepExhibit(ctx context.Context, id, end string, body []byte) (name string, err error)
	Exhibit(ctx context.Context, id, name string) ([]byte, error)
	SetPin(ctx context.Context, id string, p *Pin) error
	AllNotes(ctx context.Context) (map[string]Notes, error)

	// Used lists everything and sums it up. Footprint is about the same, from what is known of the store without listing it.
	Used(ctx context.Context) (bytes int64, objects int, err error)
	Footprint(ctx context.Context) (bytes int64, err error)
	Show(ctx context.Context, zone *time.Location) (Summary, error)
	Check(ctx context.Context, read bool, progress func(int64)) (Report, error)
}

// What only some layouts can do. Ask with a type assertion.
type (
	// Sweeper gives back the space of images that were dropped.
	Sweeper interface {
		Sweep(ctx context.Context, r SweepRequest) (SweepReport, error)
		// Collect deletes what earlier sweeps condemned, as far as nobody is in the way. expected is as in [SweepRequest].
		Collect(ctx context.Context, expected func(ctx context.Context) ([]string, error)) (SweepReport, error)
	}
	// Repairer mends what a check finds, from another store of equal cuts where from is not nil.
	Repairer interface {
		Repair(ctx context.Context, from Store, progress func(bytes int64)) (Report, error)
	}
	// KeyHolder is sealed with keys.
	KeyHolder interface {
		Keys(ctx context.Context) ([]Key, error)
		AddKey(ctx context.Context, secret chunk.Secret, k NewKey, now time.Time) (Key, error)
		RemoveKey(ctx context.Context, id string) error
	}
	// Folder makes an image that leans on another stand alone.
	Folder interface {
		Fold(ctx context.Context, id string, compress bool, progress func(bytes int64)) (*image.Manifest, error)
	}
	// Cutter cuts what it keeps, as another can that is to share pieces with it.
	Cutter interface {
		Cuts() cut.Cuts
	}
	// Exchanger tells whether it and another store can exchange pieces: then a [Writing] of either is a [Taker].
	Exchanger interface {
		// Exchanges reports whether it can take pieces of another store, and whether both name equal pieces equally, so that nothing has to be read that
		// the taking store has.
		Exchanges(other Store) (can, equally bool)
		// Lacks is about how many bytes would come over, as they lie in the other store. Where equal pieces have other names in it, what is here already
		// is known of the older image only.
		Lacks(ctx context.Context, t Taking) (bytes int64, err error)
	}
	// Comparer tells what of an image is not as it was in an older one, without reading either.
	Comparer interface {
		// Since opens a disk of an image that calls unchanged what it has just so in an older image; nil where that can't be told. What it calls unchanged
		// must not be read of it. Close it.
		Since(ctx context.Context, m *image.Manifest, d image.Disk, older *image.Manifest, olderDisk image.Disk) (OpenedDisk, error)
	}
	// Locker has its place lock what images need, if that can ([medium.Locker]).
	Locker interface {
		// Lock says for how long images are locked from now on, at most: 0 for not at all. It reports whether the place itself can.
		Lock(d time.Duration) bool
		// RenewLocks renews the locks of what images share as far as that is due; since is when it was done last for as long a time, the zero time for never.
		RenewLocks(ctx context.Context, since time.Time) (RenewedLocks, error)
	}
	// Tidier removes what writers left that died.
	Tidier interface {
		Tidy(ctx context.Context) error
	}
)
