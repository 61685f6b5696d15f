package stores

import (
	"context"
	"fmt"
	"slices"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/wire"
)

func credentialsName(store string) string { return "store/" + store + "/access" }

func sealName(store string) string { return "store/" + store + "/seal" }

// SetCredentials keeps what signs in to a store's medium. The store need not be in the site yet.
func (ss *Stores) SetCredentials(ctx context.Context, store string, c wire.Credentials) error {
	if len(c) == 0 {
		return fmt.Errorf("%w: neither a key nor a password was given", fault.ErrInvalid)
	}
	known := medium.SecretNames()
	for name := range c {
		if !slices.Contains(known, name) {
			return fmt.Errorf("%w: no medium takes a secret called %q%s", fault.ErrInvalid, name, suggest.Hint(name, known))
		}
	}
	if err := ss.vault.Set(ctx, credentialsName(store), c); err != nil {
		return err
	}
	s, err := ss.rec.Site(ctx)
	if err == nil {
		ss.forget(s.Stores[store].Location()) // it is opened anew, with the new ones
	}
	return err
}

func (ss *Stores) credentials(ctx context.Context, store string) (c wire.Credentials, err error) {
	_, err = ss.vault.Get(ctx, credentialsName(store), &c)
	return c, err
}

// sealSecret is what a sealed store is sealed with, or nil if this lodge has no key to it.
func (ss *Stores) sealSecret(ctx context.Context, store string) (*chunk.Secret, error) {
	var secret chunk.Secret
	ok, err := ss.vault.Get(ctx, sealName(store), &secret)
	if !ok || err != nil {
		return nil, err
	}
	return &secret, nil
}

// keptFor are the secrets that are kept for a store, for a place that is to be tried: those of a store of the site go to its own place only.
// Otherwise whoever may try places could have them sent to a host of his own.
func (ss *Stores) keptFor(ctx context.Context, name string, spec site.Store) (wire.Credentials, error) {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	if has, ok := s.Stores[name]; ok && (has.Medium != spec.Medium || has.Location() != spec.Location()) {
		return nil, nil
	}
	return ss.credentials(ctx, name)
}

// ForgetCredentials removes what signed in to a store that is not the site's any more. The secret of a sealed store is kept: without it, and
// with its passphrase lost, its images would be lost too.
func (ss *Stores) ForgetCredentials(ctx context.Context, name string) error {
	return ss.vault.Forget(ctx, credentialsName(name))
}
