package lodge

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"filippo.io/age"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/records"
)

// Access is what signs in to a store's medium. It is kept sealed and told to nobody.
type Access struct {
	AccessKey  string `json:"access_key,omitempty" doc:"s3: the key's name"`
	SecretKey  string `json:"secret_key,omitempty" doc:"s3: the key itself"`
	Password   string `json:"password,omitempty" doc:"sftp"`
	PrivateKey string `json:"private_key,omitempty" doc:"sftp: in PEM form, without a passphrase"`
}

// readKeyFile reads the age identity with which this lodge seals what it must keep secret, and makes it at the first start.
// Processes that share a database share the file's content.
func readKeyFile(file string) (*age.X25519Identity, error) {
	body, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		identity, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, fs.ErrExist) {
			return readKeyFile(file) // another process was faster
		}
		if err != nil {
			return nil, fmt.Errorf("key file: %w", err)
		}
		_, err = fmt.Fprintf(out, "# Opens the secrets of this lodge's database. Keep a copy where the database's backups are not.\n%s\n", identity)
		return identity, errors.Join(err, out.Sync(), out.Close())
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

func (l *Lodge) setSecret(ctx context.Context, name string, value any) error {
	body, err := json.Marshal(value)
	if err != nil {
		return err
	}
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, l.key.Recipient())
	if err != nil {
		return err
	}
	if _, err := w.Write(body); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return l.rec.SetSecret(ctx, name, sealed.Bytes())
}

// secret reads a secret into value, and reports whether there is one.
func (l *Lodge) secret(ctx context.Context, name string, value any) (bool, error) {
	sealed, err := l.rec.Secret(ctx, name)
	if errors.Is(err, records.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), l.key)
	if err != nil {
		return false, fmt.Errorf("secret %s does not open with this host's key file; put the lodge's key file there, or set the secret anew: %w", name, err)
	}
	body, err := io.ReadAll(r)
	if err != nil {
		return false, fmt.Errorf("secret %s: %w", name, err)
	}
	return true, json.Unmarshal(body, value)
}

func accessName(store string) string { return "store/" + store + "/access" }

func sealName(store string) string { return "store/" + store + "/seal" }

// SetAccess keeps what signs in to a store's medium. The store need not be in the site yet.
func (l *Lodge) SetAccess(ctx context.Context, store string, a Access) error {
	if a == (Access{}) {
		return fmt.Errorf("%w: neither a key nor a password was given", ErrInvalid)
	}
	if err := l.setSecret(ctx, accessName(store), a); err != nil {
		return err
	}
	s, err := l.rec.Site(ctx)
	if err == nil {
		l.forgetStore(s.Stores[store].Place()) // it is opened anew, with the new one
	}
	return err
}

func (l *Lodge) access(ctx context.Context, store string) (a Access, err error) {
	_, err = l.secret(ctx, accessName(store), &a)
	return a, err
}

// storeSecret is what a sealed store is sealed with, or nil if this lodge has no key to it.
func (l *Lodge) storeSecret(ctx context.Context, store string) (*chunk.Secret, error) {
	var secret chunk.Secret
	ok, err := l.secret(ctx, sealName(store), &secret)
	if !ok || err != nil {
		return nil, err
	}
	return &secret, nil
}
