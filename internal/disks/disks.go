// Package disks follows the stores whose disks come and go: it notices when one is plugged in, has it get what is due, and lets it go so that it can
// be unplugged.
package disks

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/media"
	"keenlodge/internal/core/site"
	"keenlodge/internal/places"
	"keenlodge/internal/records"
	"keenlodge/internal/store"
	"keenlodge/internal/stores"
	"keenlodge/internal/wire"
)

const (
	// missingEvery is how often disks that are away are looked for although nothing was mounted, surelyEvery how often those that are here, which that
	// may wake.
	missingEvery = 3 * time.Second
	surelyEvery  = time.Minute
)

// Disks follows them.
type Disks struct {
	rec    *records.Records
	log    *slog.Logger
	stores *stores.Stores
	// Arrived is called when the disk of a store was plugged in.
	Arrived func(ctx context.Context, store string) error
	noting  sync.Mutex // held while it is found out, and noted, where a disk is
}

// New makes a Disks.
func New(rec *records.Records, log *slog.Logger, ss *stores.Stores) *Disks {
	return &Disks{rec: rec, log: log, stores: ss, Arrived: func(context.Context, string) error { return nil }}
}

// Serve looks for disks that came or went until ctx ends.
func (d *Disks) Serve(ctx context.Context) error {
	watch, err := places.NewWatch()
	if err != nil {
		return err
	}
	defer watch.Close()
	defer context.AfterFunc(ctx, watch.End)()
	var looked, lookedForAll time.Time
	for ctx.Err() == nil {
		changed, err := watch.Wait(missingEvery)
		if err != nil {
			return fmt.Errorf("watch what is mounted: %w", err)
		}
		all := changed || time.Since(lookedForAll) >= surelyEvery
		if !all && time.Since(looked) < missingEvery {
			continue
		}
		if err := d.look(ctx, all); err != nil && ctx.Err() == nil {
			d.log.Error("look for disks that came or went", "error", err)
		}
		if looked = time.Now(); all {
			lookedForAll = looked
		}
	}
	return ctx.Err()
}

// look notes of each removable store whether its disk is here; unless of all, of those that are not known to be.
func (d *Disks) look(ctx context.Context, all bool) error {
	s, err := d.rec.Site(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(s.Stores)) {
		if media.IsRemovable(s.Stores[name].Settings) {
			errs = append(errs, d.lookFor(ctx, s, name, all))
		}
	}
	return errors.Join(errs...)
}

func (d *Disks) lookFor(ctx context.Context, s site.Site, name string, surely bool) error {
	d.noting.Lock()
	arrived, err := d.note(ctx, s, name, surely)
	d.noting.Unlock()
	if err != nil || !arrived {
		return err
	}
	return d.Arrived(ctx, name)
}

// note finds out where a store's disk is and notes it; arrived says that it was away before.
func (d *Disks) note(ctx context.Context, s site.Site, name string, surely bool) (arrived bool, err error) {
	known, err := d.rec.Whereabouts(ctx, name)
	if err != nil || known.Here && !surely {
		return false, err
	}
	asked := known
	if known.Released { // it stays let go until it is really away
		asked.Released = false
		if err := d.rec.SetWhereabouts(ctx, name, asked); err != nil {
			return false, err
		}
	}
	folder, err := d.stores.Where(ctx, s, name)
	here := err == nil
	if err != nil && !errors.Is(err, store.ErrAway) {
		return false, fmt.Errorf("store %s: %w", name, err)
	}
	if known.Released && here {
		return false, d.rec.SetWhereabouts(ctx, name, known)
	}
	if here == known.Here && !known.Since.IsZero() {
		return false, nil
	}
	d.stores.Forget(s.Stores[name], name)
	if err := d.rec.SetWhereabouts(ctx, name, records.Whereabouts{Here: here, Since: time.Now()}); err != nil {
		return false, err
	}
	if here {
		d.log.Info("the disk of a store is here", "store", name, "folder", folder)
	} else {
		d.log.Info("the disk of a store is away", "store", name)
	}
	return here, nil
}

// Release lets a store's disk go: nothing uses it any more, all is written out, and it is unmounted. While runs use it, that is [fault.ErrConflict].
func (d *Disks) Release(ctx context.Context, name string) (wire.Released, error) {
	s, spec, err := d.removable(ctx, name)
	if err != nil {
		return wire.Released{}, err
	}
	folder, err := d.stores.Where(ctx, s, name)
	if errors.Is(err, store.ErrAway) {
		return wire.Released{Safe: true, Says: fmt.Sprintf("store %s: %v", name, err)}, nil
	}
	if err != nil {
		return wire.Released{}, err
	}
	busy := func() error {
		using, err := d.rec.Using(ctx, name)
		if err == nil && len(using) > 0 {
			err = fmt.Errorf("%w: runs use store %s: %s; wait for their end (keenlodge run watch) or cancel them, and let it go then", fault.ErrConflict, name, strings.Join(using, ", "))
		}
		return err
	}
	if err := busy(); err != nil { // those that are going are not to notice
		return wire.Released{}, err
	}
	d.noting.Lock()
	defer d.noting.Unlock()
	// Nothing new may begin; then it is looked again whether something is going.
	now := records.Whereabouts{Here: true, Since: time.Now(), Released: true}
	if err := d.rec.SetWhereabouts(ctx, name, now); err != nil {
		return wire.Released{}, err
	}
	d.stores.Forget(spec, name)
	if err := busy(); err != nil {
		now.Released = false
		return wire.Released{}, errors.Join(err, d.rec.SetWhereabouts(ctx, name, now))
	}
	on, err := places.Unmount(folder)
	if errors.Is(err, places.ErrStillMounted) {
		return wire.Released{Folder: folder, Says: fmt.Sprintf("this lodge has let store %s go, and all is written out, but unplug it only after this: %v", name, err)}, nil
	}
	if err != nil {
		now.Released = false
		return wire.Released{}, errors.Join(fmt.Errorf("store %s: %w", name, err), d.rec.SetWhereabouts(ctx, name, now))
	}
	if err := d.rec.SetWhereabouts(ctx, name, records.Whereabouts{Since: time.Now()}); err != nil {
		return wire.Released{}, err
	}
	return wire.Released{Folder: folder, Safe: true, Says: fmt.Sprintf("store %s is unmounted from %s; it is safe to unplug", name, on.Point)}, nil
}

// TakeBack undoes Release of a disk that was not unplugged.
func (d *Disks) TakeBack(ctx context.Context, name string) (wire.Released, error) {
	s, _, err := d.removable(ctx, name)
	if err != nil {
		return wire.Released{}, err
	}
	if err := d.rec.SetWhereabouts(ctx, name, records.Whereabouts{}); err != nil {
		return wire.Released{}, err
	}
	if err := d.lookFor(ctx, s, name, true); err != nil {
		return wire.Released{}, err
	}
	folder, err := d.stores.Where(ctx, s, name)
	if err != nil {
		return wire.Released{Says: fmt.Sprintf("store %s: %v", name, err)}, nil
	}
	return wire.Released{Folder: folder, Says: fmt.Sprintf("store %s is used again", name)}, nil
}

func (d *Disks) removable(ctx context.Context, name string) (site.Site, site.Store, error) {
	s, err := d.rec.Site(ctx)
	if err != nil {
		return s, site.Store{}, err
	}
	spec, err := s.Store(name)
	if err == nil && !media.IsRemovable(spec.Settings) {
		err = fmt.Errorf("%w: store %s is not removable; if its disk comes and goes, say so in its entry (removable: true)", fault.ErrConflict, name)
	}
	return s, spec, err
}
