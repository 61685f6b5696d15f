package vault

import (
	"context"
	"errors"
	"fmt"

	"filippo.io/age"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/private"
)

// NewKey puts a new key before those in the key file: it seals from now on, in this process and in every other that reads the file. Of a file
// that can't be written, as a credential of systemd can't, it is an error.
func (v *Vault) NewKey() error {
	keys, err := v.current()
	if err != nil {
		return err
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	if err := private.Write(v.file, fileText(append([]*age.X25519Identity{identity}, keys...)...)); err != nil {
		return fmt.Errorf("write a new key into %s: %w; a credential of systemd is changed where it comes from", v.file, err)
	}
	return nil
}

// DropOldKeys leaves only the first key in the key file, if all secrets open with it.
func (v *Vault) DropOldKeys(ctx context.Context) (dropped int, err error) {
	keys, err := v.current()
	if err != nil {
		return 0, err
	}
	names, err := v.rec.SecretNames(ctx)
	if err != nil {
		return 0, err
	}
	for _, name := range names {
		sealed, err := v.rec.Secret(ctx, name)
		if errors.Is(err, fault.ErrNotFound) {
			continue
		}
		if err == nil {
			_, err = open(sealed, keys[0])
		}
		if err != nil {
			return 0, fmt.Errorf("%w: secret %s is not sealed with the newest key yet; seal all anew first: keenlodge vault reseal", fault.ErrConflict, name)
		}
	}
	if len(keys) == 1 {
		return 0, nil
	}
	if err := private.Write(v.file, fileText(keys[0])); err != nil {
		return 0, fmt.Errorf("drop old keys from %s: %w; they are there still", v.file, err)
	}
	return len(keys) - 1, nil
}

// Reseal seals every secret with the first key of the file, and returns how many were sealed with another. One that no key opens is an error,
// and stays as it is; so does one that is set anew meanwhile.
func (v *Vault) Reseal(ctx context.Context) (resealed int, err error) {
	keys, err := v.current()
	if err != nil {
		return 0, err
	}
	names, err := v.rec.SecretNames(ctx)
	if err != nil {
		return 0, err
	}
	var errs []error
	for _, name := range names {
		was, err := v.rec.Secret(ctx, name)
		if errors.Is(err, fault.ErrNotFound) {
			continue
		}
		if err != nil {
			return resealed, err
		}
		if _, err := open(was, keys[0]); err == nil {
			continue
		}
		body, err := open(was, keys...)
		if err != nil {
			errs = append(errs, fmt.Errorf("secret %s: %w", name, err))
			continue
		}
		now, err := sealed(body, keys[0])
		if err != nil {
			return resealed, err
		}
		done, err := v.rec.ReplaceSecret(ctx, name, was, now)
		if err != nil {
			return resealed, err
		}
		if done {
			resealed++
		}
	}
	return resealed, errors.Join(errs...)
}
