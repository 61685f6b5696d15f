package stores

import (
	"context"
	"encoding/json"
	"errors"
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

// kept is what the vault keeps of what signs in to a store's medium.
type kept struct {
	// For is the account that it was given for ([site.Store.Account]); "" until the store is in the site.
	For     string           `json:"for"`
	Secrets wire.Credentials `json:"secrets"`
}

// UnmarshalJSON also reads the secrets alone, as earlier versions kept them.
func (k *kept) UnmarshalJSON(text []byte) error {
	type plain kept
	if err := json.Unmarshal(text, (*plain)(k)); err == nil && k.Secrets != nil {
		return nil
	}
	*k = kept{}
	return json.Unmarshal(text, &k.Secrets)
}

// SetCredentials keeps what signs in to a store's medium. The store need not be in the site yet.
func (ss *Stores) SetCredentials(ctx context.Context, store string, c wire.Credentials) error {
	s, err := ss.rec.Site(ctx)
	if err != nil {
		return err
	}
	account := ""
	if spec, ok := s.Stores[store]; ok {
		account = spec.Account()
	}
	if err := ss.keep(ctx, store, account, c); err != nil {
		return err
	}
	ss.forget(s.Stores[store].Spot(store)) // it is opened anew, with the new ones
	return nil
}

// keep keeps what signs in to an account for a store.
func (ss *Stores) keep(ctx context.Context, store, account string, c wire.Credentials) error {
	if len(c) == 0 {
		return fmt.Errorf("%w: neither a key nor a password was given", fault.ErrInvalid)
	}
	known := medium.SecretNames()
	for name := range c {
		if !slices.Contains(known, name) {
			return fmt.Errorf("%w: no medium takes a secret called %q%s", fault.ErrInvalid, name, suggest.Hint(name, known))
		}
	}
	return ss.vault.Set(ctx, credentialsName(store), kept{account, c})
}

// credentials are what signs in to a store's medium. They go to the account that they were given for and to no other: whoever changes a
// store's entry must not have them sent to a host of his own. Those that were kept before the store was known are bound to it now.
func (ss *Stores) credentials(ctx context.Context, store string, spec site.Store) (wire.Credentials, error) {
	var k kept
	if ok, err := ss.vault.Get(ctx, credentialsName(store), &k); !ok || err != nil {
		return nil, err
	}
	switch k.For {
	case spec.Account():
		return k.Secrets, nil
	case "":
		return k.Secrets, ss.vault.Set(ctx, credentialsName(store), kept{spec.Account(), k.Secrets})
	}
	if c, err := ss.ForPlace(ctx, store, spec); err != nil || c != nil {
		return c, err // it was moved there
	}
	return nil, fmt.Errorf("%w: what is kept for store %s signs in to %s, and its entry says %s now; give what signs in there: keenlodge store secret %s", fault.ErrConflict, store, k.For, spec.Account(), store)
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

// keptFor are the secrets that are kept for a store, for a place that is to be tried: they go to the account that they were given for.
func (ss *Stores) keptFor(ctx context.Context, name string, spec site.Store) (wire.Credentials, error) {
	var k kept
	if ok, err := ss.vault.Get(ctx, credentialsName(name), &k); !ok || err != nil {
		return nil, err
	}
	if k.For == "" { // those of before, or for a store that is to come
		s, err := ss.rec.Site(ctx)
		if err != nil {
			return nil, err
		}
		if has, ok := s.Stores[name]; ok {
			k.For = has.Account()
		}
	}
	if k.For != "" && k.For != spec.Account() {
		return nil, nil
	}
	return k.Secrets, nil
}

// ForgetCredentials removes what signed in to a store that is not the site's any more. The secret of a sealed store is kept: without it, and
// with its passphrase lost, its images would be lost too.
func (ss *Stores) ForgetCredentials(ctx context.Context, name string) error {
	return ss.vault.Forget(ctx, credentialsName(name))
}

// placeName is under which is kept what signs in to the place to which a store is being moved.
func placeName(store string) string { return "place of store " + store }

// KeepForPlace keeps what signs in to the place to which a store is to be moved. With nothing given, what is kept already will do.
func (ss *Stores) KeepForPlace(ctx context.Context, store string, spec site.Store, c wire.Credentials) error {
	if len(c) == 0 {
		return nil
	}
	return ss.vault.Set(ctx, placeName(store), kept{spec.Account(), c})
}

// ForPlace is what signs in to the place to which a store is being moved, nil for nothing.
func (ss *Stores) ForPlace(ctx context.Context, store string, spec site.Store) (wire.Credentials, error) {
	var k kept
	if ok, err := ss.vault.Get(ctx, placeName(store), &k); !ok || err != nil || k.For != spec.Account() {
		return nil, err
	}
	return k.Secrets, nil
}

// Reach opens the place to which a store is being moved. Close it.
func (ss *Stores) Reach(ctx context.Context, store string, spec site.Store) (medium.Medium, error) {
	c, err := ss.ForPlace(ctx, store, spec)
	if err == nil && c == nil {
		c, err = ss.keptFor(ctx, store, spec) // it may be another folder of the same account
	}
	if err != nil {
		return nil, err
	}
	return medium.Open(ctx, spec, c)
}

// Moved has a store signed in to at its new place from now on.
func (ss *Stores) Moved(ctx context.Context, store string, was, spec site.Store) error {
	ss.forget(was.Spot(store))
	c, err := ss.ForPlace(ctx, store, spec)
	if err != nil || c == nil {
		return err
	}
	return errors.Join(ss.vault.Set(ctx, credentialsName(store), kept{spec.Account(), c}), ss.vault.Forget(ctx, placeName(store)))
}
