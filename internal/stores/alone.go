package stores

import (
	"context"
	"errors"
	"fmt"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/open"
	"keenlodge/internal/store/pooled"
	"keenlodge/internal/wire"
)

// Key is all that it takes to open a store for reading, without the records. It has secrets: it is passed on through pipes, and never kept.
type Key struct {
	Name        string           `json:"name"`
	Spec        site.Store       `json:"spec"`
	ID          string           `json:"id"`
	Credentials wire.Credentials `json:"credentials,omitempty"`
	Secret      *chunk.Secret    `json:"secret,omitempty"`
}

// Key is that of a store of the site.
func (ss *Stores) Key(ctx context.Context, name string) (k Key, err error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return k, err
	}
	k.Name = name
	if k.Spec, err = s.Store(name); err != nil {
		return k, err
	}
	if k.ID, err = ss.rec.StoreID(ctx, name); err != nil {
		return k, err
	}
	if k.Credentials, err = ss.credentials(ctx, name, k.Spec); err != nil {
		return k, err
	}
	if k.Spec.Sealed {
		k.Secret, err = ss.sealSecret(ctx, name)
	}
	return k, err
}

// Open opens the store. It writes nothing but that it is read.
func (k Key) Open(ctx context.Context) (store.Store, error) {
	st, err := k.open(ctx)
	if err != nil {
		return nil, fmt.Errorf("store %s: %w", k.Name, err)
	}
	return st, nil
}

func (k Key) open(ctx context.Context) (_ store.Store, err error) {
	m, err := medium.Open(ctx, k.Spec, k.Credentials)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, m.Close())
		}
	}()
	h, err := store.ReadHeader(ctx, m)
	if err != nil {
		return nil, err
	}
	if h.ID != k.ID || h.Sealed != (k.Secret != nil) {
		return nil, fmt.Errorf("%s holds another store (%s) than before (%s)", m, h.ID, k.ID)
	}
	return openLaid(ctx, m, h, k.Secret, k.Spec.Medium, "")
}

// openLaid opens the store on a medium by its layout. folder is where what is known of a pooled one is kept on this host, "" for nowhere.
func openLaid(ctx context.Context, m medium.Medium, h store.Header, secret *chunk.Secret, kind, folder string) (store.Store, error) {
	if h.Layout == site.Open {
		st, err := open.Open(ctx, m)
		if err != nil {
			return nil, err // not st: a nil store in an interface is not nil
		}
		return st, nil
	}
	driver, err := medium.Lookup(kind)
	if err != nil {
		return nil, err
	}
	st, err := pooled.OpenKeeping(ctx, m, secret, pooled.Here{Folder: folder, Far: driver.Far})
	if err != nil {
		return nil, err
	}
	return st, nil
}
