package stores

import (
	"context"
	"fmt"

	"keenlodge/internal/core/chunk"
	"keenlodge/internal/core/fault"
)

// Credentials are what signs in to a store's medium. They are kept sealed and told to nobody.
type Credentials struct {
	AccessKey  string `json:"access_key,omitempty" doc:"s3: the key's name"`
	SecretKey  string `json:"secret_key,omitempty" doc:"s3: the key itself"`
	Password   string `json:"password,omitempty" doc:"sftp"`
	PrivateKey string `json:"private_key,omitempty" doc:"sftp: in PEM form, without a passphrase"`
}

func credentialsName(store string) string { return "store/" + store + "/access" }

func sealName(store string) string { return "store/" + store + "/seal" }

// SetCredentials keeps what signs in to a store's medium. The store need not be in the site yet.
func (ss *Stores) SetCredentials(ctx context.Context, store string, c Credentials) error {
	if c == (Credentials{}) {
		return fmt.Errorf("%w: neither a key nor a password was given", fault.ErrInvalid)
	}
	if err := ss.vault.Set(ctx, credentialsName(store), c); err != nil {
		return err
	}
	s, err := ss.rec.Site(ctx)
	if err == nil {
		ss.forget(s.Stores[store].Place()) // it is opened anew, with the new ones
	}
	return err
}

func (ss *Stores) credentials(ctx context.Context, store string) (c Credentials, err error) {
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
