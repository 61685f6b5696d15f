// Package vault keeps what a lodge must tell nobody: what signs in to media, what sealed stores are sealed with, the keys of webhooks.
// Secrets lie in the records, sealed by age (https://age-encryption.org/v1) to the lodge's key file, which only its hosts have.
package vault

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"filippo.io/age"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
)

// Vault seals and opens secrets.
type Vault struct {
	rec *records.Records
	key *age.X25519Identity
}

// Open reads the key file, and makes it at the first start. Processes that share a database share the file's content.
func Open(rec *records.Records, keyFile string) (*Vault, error) {
	key, err := readKeyFile(keyFile)
	if err != nil {
		return nil, err
	}
	return &Vault{rec, key}, nil
}

func readKeyFile(file string) (*age.X25519Identity, error) {
	body, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		identity, err := makeKeyFile(file)
		if errors.Is(err, fs.ErrExist) {
			return readKeyFile(file) // another process was faster
		}
		if err != nil {
			return nil, fmt.Errorf("key file: %w", err)
		}
		return identity, nil
	}
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	found, err := age.ParseIdentities(bytes.NewReader(body))
	if err == nil && len(found) == 1 {
		if identity, ok := found[0].(*age.X25519Identity); ok {
			return identity, nil
		}
	}
	return nil, fmt.Errorf("key file %s does not hold one age identity; put the lodge's own back, or remove the file and set all secrets anew", file)
}

// makeKeyFile makes a key file, whole at once: who dies before leaves none.
func makeKeyFile(file string) (*age.X25519Identity, error) {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	out, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".new-*") // of mode 0600
	if err != nil {
		return nil, err
	}
	defer os.Remove(out.Name())
	_, err = fmt.Fprintf(out, "# Opens the secrets of this lodge's database. Keep a copy where the database's backups are not.\n%s\n", identity)
	if err := errors.Join(err, out.Sync(), out.Close()); err != nil {
		return nil, err
	}
	if err := os.Link(out.Name(), file); err != nil {
		return nil, err
	}
	return identity, syncFolder(filepath.Dir(file)) // or a power cut takes the name, and with it every secret that is sealed by then
}

func syncFolder(folder string) error {
	f, err := os.Open(folder)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// Forget removes a secret; one that is not there is no error.
func (v *Vault) Forget(ctx context.Context, name string) error {
	return v.rec.ForgetSecret(ctx, name)
}

// Set keeps a secret, as JSON, in place of an older one.
func (v *Vault) Set(ctx context.Context, name string, value any) error {
	sealed, err := v.seal(value)
	if err != nil {
		return err
	}
	return v.rec.SetSecret(ctx, name, sealed)
}

// SetOnce keeps a secret unless there is one of its name.
func (v *Vault) SetOnce(ctx context.Context, name string, value any) error {
	sealed, err := v.seal(value)
	if err != nil {
		return err
	}
	return v.rec.SetSecretOnce(ctx, name, sealed)
}

func (v *Vault) seal(value any) ([]byte, error) {
	body, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, v.key.Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(body); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return sealed.Bytes(), nil
}

// Get reads a secret into value, and reports whether there is one.
func (v *Vault) Get(ctx context.Context, name string, value any) (bool, error) {
	sealed, err := v.rec.Secret(ctx, name)
	if errors.Is(err, fault.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), v.key)
	if err != nil {
		return false, fmt.Errorf("secret %s does not open with this host's key file; put the lodge's key file there, or set the secret anew: %w", name, err)
	}
	body, err := io.ReadAll(r)
	if err != nil {
		return false, fmt.Errorf("secret %s: %w", name, err)
	}
	return true, json.Unmarshal(body, value)
}
