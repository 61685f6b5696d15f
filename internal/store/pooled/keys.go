package pooled

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/image"
	"keenlodge/internal/store"
	"keenlodge/internal/store/medium"
)

// keyFile is the payload of the object key/ID, whose envelope is not sealed: it is what a person begins with.
type keyFile struct {
	ID   string    `json:"id"`
	Kind string    `json:"kind"`
	Made time.Time `json:"made"`
	// Age is the store's secret as an armored age file.
	Age string `json:"age"`
	// Label is an object of its own, sealed with the store's secret.
	Label []byte `json:"label"`
}

func keyName(id string) string { return "key/" + id }

func putKey(ctx context.Context, m medium.Medium, seal *chunk.Seal, secret chunk.Secret, k store.NewKey, now time.Time) (store.Key, error) {
	id := image.NewID()
	f := keyFile{ID: id, Made: now.UTC().Truncate(time.Millisecond), Label: chunk.EncodeObject(seal, chunk.LabelObject, keyName(id), []byte(k.Label))}
	var err error
	switch {
	case k.Passphrase != "" && len(k.Recipients) > 0:
		return store.Key{}, errors.New("a key opens with a passphrase or with recipients; add two keys for both")
	case len(k.Recipients) > 0:
		f.Kind = "recipients"
		f.Age, err = chunk.WrapForRecipients(secret, k.Recipients...)
	default:
		f.Kind = "passphrase"
		f.Age, err = chunk.WrapForPassphrase(secret, k.Passphrase)
	}
	if err != nil {
		return store.Key{}, err
	}
	body, err := json.Marshal(f)
	if err != nil {
		return store.Key{}, err
	}
	err = m.Put(ctx, keyName(id), chunk.EncodeObject(nil, chunk.KeyObject, keyName(id), body))
	return store.Key{ID: id, Kind: f.Kind, Label: k.Label, Made: f.Made}, err
}

func readKey(ctx context.Context, m medium.Medium, name string) (f keyFile, err error) {
	object, err := m.Get(ctx, name, 0, -1)
	if err != nil {
		return f, err
	}
	body, err := chunk.DecodeObject(nil, chunk.KeyObject, name, object)
	if err != nil {
		return f, err
	}
	if err := json.Unmarshal(body, &f); err != nil || keyName(f.ID) != name {
		return f, fmt.Errorf("%s: %w: it is no key", name, chunk.ErrDamaged)
	}
	return f, nil
}

// Unlock finds a sealed store's secret with a passphrase or an identity. If no key fits it is [chunk.ErrWrongKey].
func Unlock(ctx context.Context, m medium.Medium, with chunk.Opener) (chunk.Secret, error) {
	none := chunk.Secret{}
	h, err := store.ReadHeader(ctx, m)
	if err != nil {
		return none, err
	}
	if !h.Sealed {
		return none, fmt.Errorf("%s: the store is not sealed, so it needs no key", m)
	}
	var names []string
	if err := m.List(ctx, "key/", func(o medium.Object) error { names = append(names, o.Name); return nil }); err != nil {
		return none, err
	}
	slices.Sort(names)
	var damaged error
	for _, name := range names {
		f, err := readKey(ctx, m, name)
		if err == nil {
			var secret chunk.Secret
			if secret, err = chunk.Unwrap(f.Age, with); err == nil && chunk.NewSeal(secret).Check() == h.Check {
				return secret, nil
			}
		}
		if err != nil && !errors.Is(err, chunk.ErrWrongKey) {
			damaged = err
		}
	}
	if damaged != nil {
		return none, fmt.Errorf("%s: %w", m, damaged)
	}
	return none, fmt.Errorf("%s: %w any of its %d keys", m, chunk.ErrWrongKey, len(names))
}

// Keys lists a sealed store's keys, oldest first.
func (s *Store) Keys(ctx context.Context) ([]store.Key, error) {
	if s.seal == nil {
		return nil, fmt.Errorf("%s: the store is not sealed, so it has no keys", s.medium)
	}
	objects, err := s.list(ctx, "key/")
	if err != nil {
		return nil, err
	}
	keys := []store.Key{}
	for _, o := range objects {
		f, err := readKey(ctx, s.medium, o.Name)
		if errors.Is(err, chunk.ErrDamaged) {
			keys = append(keys, store.Key{ID: strings.TrimPrefix(o.Name, "key/"), Kind: "damaged"})
			continue
		}
		if err != nil {
			return nil, err
		}
		label, err := chunk.DecodeObject(s.seal, chunk.LabelObject, o.Name, f.Label)
		if err != nil {
			return nil, fmt.Errorf("label of %w", err)
		}
		keys = append(keys, store.Key{ID: f.ID, Kind: f.Kind, Label: string(label), Made: f.Made})
	}
	slices.SortFunc(keys, func(a, b store.Key) int { return a.Made.Compare(b.Made) })
	return keys, nil
}

// AddKey gives a sealed store another key.
func (s *Store) AddKey(ctx context.Context, secret chunk.Secret, k store.NewKey, now time.Time) (store.Key, error) {
	if s.seal == nil || chunk.NewSeal(secret).Check() != s.header.Check {
		return store.Key{}, fmt.Errorf("%s: %w", s.medium, chunk.ErrWrongKey)
	}
	key, err := putKey(ctx, s.medium, s.seal, secret, k, now)
	if l, d := s.locker(); err == nil && l != nil {
		err = l.Extend(ctx, keyName(key.ID), now.Add(d+lockMargin(d)))
	}
	return key, err
}

// RemoveKey takes a key away. The last one stays: without a key a store is lost. Who has copied the key, and knows what opens
// it, can still read the store.
func (s *Store) RemoveKey(ctx context.Context, id string) error {
	keys, err := s.Keys(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(keys, func(k store.Key) bool { return k.ID == id })
	left := 0
	for j, k := range keys {
		if j != i && k.Kind != "damaged" {
			left++
		}
	}
	switch {
	case i < 0:
		return fmt.Errorf("%s: no key is called %q", s.medium, id)
	case left == 0:
		return fmt.Errorf("%s: key %s is the last one; without a key the store is lost, so add another first", s.medium, id)
	}
	err = s.medium.Delete(ctx, keyName(id))
	if errors.Is(err, medium.ErrLocked) {
		return fmt.Errorf("%w; keys of a locked store are locked with it, and anew before that is over: take the store's lock off first, and remove the key then", err)
	}
	return err
}
