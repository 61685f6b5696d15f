package lodge

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/openlayout"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// shelf is a store of either layout, as far as they have the same to offer.
type shelf interface {
	// Header describes the store, Medium is where it lies.
	Header() store.Header
	Medium() medium.Medium
	// Present reports whether the place still holds this store. Refresh brings what is held in memory up to date.
	Present(ctx context.Context) (bool, error)
	Refresh(ctx context.Context) error
	Close() error

	// ImageIDs lists the images that exist. ReadImage reads a manifest; one that is missing is [medium.ErrNotFound].
	ImageIDs(ctx context.Context) ([]string, error)
	ReadImage(ctx context.Context, id string) (*image.Manifest, error)
	// OpenDisk opens a disk of an image; close it.
	OpenDisk(ctx context.Context, m *image.Manifest, d image.Disk) (store.OpenedDisk, error)
	// ReadBack reads all of an image back and tells what it matched. Errors wrap chunk.ErrDamaged or [medium.ErrNotFound]
	// where the image is to blame.
	ReadBack(ctx context.Context, m *image.Manifest, progress func(bytes int64)) (evidence []string, err error)
	// Reading announces that images are read for long, until end is called.
	Reading(ctx context.Context, program string) (end func(context.Context) error, err error)
	// DropImage makes an image exist no more. Settle decides what an image is whose writer died: its manifest, or nil.
	DropImage(ctx context.Context, id string) error
	Settle(ctx context.Context, id string) (*image.Manifest, error)

	AddProof(ctx context.Context, id string, p store.Proof) error
	SetPin(ctx context.Context, id string, p *store.Pin) error
	AllNotes(ctx context.Context) (map[string]store.Notes, error)

	Used(ctx context.Context) (bytes int64, objects int, err error)
	Show(ctx context.Context, zone *time.Location) (store.Summary, error)
	Check(ctx context.Context, read bool, progress func(int64)) (store.Report, error)
}

var (
	_ shelf = (*store.Store)(nil)
	_ shelf = (*openlayout.Store)(nil)
)

// pooled finds a pooled store of the site, for what only that layout has.
func (l *Lodge) pooled(ctx context.Context, name string) (*store.Store, error) {
	st, err := l.storeNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	p, ok := st.(*store.Store)
	if !ok {
		return nil, fmt.Errorf("%w: store %s has the open layout; it has no keys, and nothing in it can be mended from another store", ErrConflict, name)
	}
	return p, nil
}
