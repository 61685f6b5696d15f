package lodge

import (
	"context"
	"fmt"

	"keenlodge/internal/store"
	"keenlodge/internal/store/open"
	"keenlodge/internal/store/pooled"
)

var (
	_ store.Store = (*pooled.Store)(nil)
	_ store.Store = (*open.Store)(nil)
)

// pooled finds a pooled store of the site, for what only that layout has.
func (l *Lodge) pooled(ctx context.Context, name string) (*pooled.Store, error) {
	st, err := l.storeNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	p, ok := st.(*pooled.Store)
	if !ok {
		return nil, fmt.Errorf("%w: store %s has the open layout; it has no keys, and nothing in it can be mended from another store", ErrConflict, name)
	}
	return p, nil
}
