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
	"sync"

	"filippo.io/age"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/private"
	"keenlodge/internal/records"
)

// Vault seals and opens secrets.
type Vault struct {
	rec  *records.Records
	file string

	mu   sync.Mutex
	keys []*age.X25519Identity // the first seals, all open
	seen string                // what the file was when it was read
}

// Open reads the key file, and makes it at the first start. Processes that share a database share the file's content. A file may hold several
// keys, one below the other: the first seals, and all open, so that the key can be changed while the lodge runs ([Vault.Reseal]).
func Open(rec *records.Records, keyFile string) (*Vault, error) {
	v := &Vault{rec: rec, file: keyFile}
	_, err := v.current()
	return v, err
}

// current are the keys in the file, which is read again when it has changed.
func (v *Vault) current() ([]*age.X25519Identity, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	info, err := os.Stat(v.file)
	if errors.Is(err, fs.ErrNotExist) && v.keys == nil {
		if err = makeKeyFile(v.file); err == nil || errors.Is(err, fs.ErrExist) { // another process may have been faster
			info, err = os.Stat(v.file)
		}
	}
	if err != nil {
		if v.keys != nil {
			return v.keys, nil // it is being changed, or its disk is away: what was known opens what was sealed
		}
		return nil, fmt.Errorf("key file: %w", err)
	}
	seen := fmt.Sprint(info.ModTime().UnixNano(), info.Size())
	if v.keys != nil && seen == v.seen {
		return v.keys, nil
	}
	keys, err := readKeyFile(v.file)
	if err != nil {
		if v.keys != nil {
			return v.keys, nil
		}
		return nil, err
	}
	v.keys, v.seen = keys, seen
	return keys, nil
}

func readKeyFile(file string) ([]*age.X25519Identity, error) {
	body, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	var keys []*age.X25519Identity
	found, err := age.ParseIdentities(bytes.NewReader(body))
	for _, identity := range found {
		if key, ok := identity.(*age.X25519Identity); ok && err == nil {
			keys = append(keys, key)
		}
	}
	if err != nil || len(keys) == 0 || len(keys) != len(found) {
		return nil, fmt.Errorf("key file %s does not hold age identities; put the lodge's own back, or remove the file and set all secrets anew", file)
	}
	return keys, nil
}

// makeKeyFile makes a key file; of processes that start together one does, the others get [fs.ErrExist].
func makeKeyFile(file string) error {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	return private.Create(file, fileText(identity))
}

// fileText is what a key file has.
func fileText(keys ...*age.X25519Identity) string {
	text := "# Opens the secrets of this lodge's database. Keep a copy where the database's backups are not.\n"
	for _, k := range keys {
		text += k.String() + "\n"
	}
	return text
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

// Seal seals something that is no secret of the vault's own and lies elsewhere, by its key. Unseal opens it, while that key is one of this host's.
func (v *Vault) Seal(body []byte) ([]byte, error) {
	keys, err := v.current()
	if err != nil {
		return nil, err
	}
	return sealed(body, keys[0])
}

// Unseal opens what [Vault.Seal] sealed.
func (v *Vault) Unseal(body []byte) ([]byte, error) {
	keys, err := v.current()
	if err != nil {
		return nil, err
	}
	return open(body, keys...)
}

func (v *Vault) seal(value any) ([]byte, error) {
	body, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	keys, err := v.current()
	if err != nil {
		return nil, err
	}
	return sealed(body, keys[0])
}

func sealed(body []byte, key *age.X25519Identity) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, key.Recipient())
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(body); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
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
	keys, err := v.current()
	if err != nil {
		return false, err
	}
	body, err := open(sealed, keys...)
	if err != nil {
		return false, fmt.Errorf("secret %s: %w", name, err)
	}
	return true, json.Unmarshal(body, value)
}

func open(sealed []byte, keys ...*age.X25519Identity) ([]byte, error) {
	identities := make([]age.Identity, len(keys))
	for i, k := range keys {
		identities[i] = k
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), identities...)
	if err != nil {
		return nil, fmt.Errorf("it does not open with this host's key file; put the lodge's key file there, or set the secret anew: %w", err)
	}
	return io.ReadAll(r)
}
