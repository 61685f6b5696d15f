package chunk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"filippo.io/age"
	"filippo.io/age/armor"
)

// A key of a sealed store is an age file (age-encryption.org/v1), armored, whose content is the store's secret. It opens
// with a passphrase, or with the identity that belongs to a recipient.

// ErrWrongKey marks a passphrase or identity that does not open a key.
var ErrWrongKey = errors.New("the key does not fit")

// PassphraseWork is the logarithm of scrypt's cost: each guess at a passphrase costs about a second and 256 MiB. Tests, which make many keys,
// lower it before they begin.
var PassphraseWork = 18

// maxWork is the most that a reader accepts, for a hostile store could ask for hours.
const maxWork = 20

// WrapForPassphrase makes a key that opens with a passphrase.
func WrapForPassphrase(secret Secret, passphrase string) (string, error) {
	if strings.TrimSpace(passphrase) == "" {
		return "", errors.New("an empty passphrase protects nothing; choose one of several words")
	}
	r, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return "", err
	}
	r.SetWorkFactor(PassphraseWork)
	return wrap(secret, r)
}

// WrapForRecipients makes a key that opens with the identity of any of the recipients ("age1…").
func WrapForRecipients(secret Secret, recipients ...string) (string, error) {
	var to []age.Recipient
	for _, text := range recipients {
		r, err := age.ParseX25519Recipient(strings.TrimSpace(text))
		if err != nil {
			return "", fmt.Errorf("recipient %q: %w; it begins with age1", text, err)
		}
		to = append(to, r)
	}
	if len(to) == 0 {
		return "", errors.New("no recipient is named")
	}
	return wrap(secret, to...)
}

func wrap(secret Secret, to ...age.Recipient) (string, error) {
	var out bytes.Buffer
	a := armor.NewWriter(&out)
	w, err := age.Encrypt(a, to...)
	if err != nil {
		return "", err
	}
	if _, err := w.Write(secret[:]); err != nil {
		return "", err
	}
	if err := errors.Join(w.Close(), a.Close()); err != nil {
		return "", err
	}
	return out.String(), nil
}

// Opener is what a person holds to open a key: a passphrase, or an age identity ("AGE-SECRET-KEY-1…").
type Opener struct {
	Passphrase string `json:"passphrase,omitempty" doc:"what a key by passphrase opens with"`
	Identity   string `json:"identity,omitempty" doc:"an age identity, AGE-SECRET-KEY-1…"`
}

// Unwrap opens a key. A key that the opener does not fit is [ErrWrongKey].
func Unwrap(key string, with Opener) (Secret, error) {
	var secret Secret
	var identities []age.Identity
	if with.Passphrase != "" {
		i, err := age.NewScryptIdentity(with.Passphrase)
		if err != nil {
			return secret, err
		}
		i.SetMaxWorkFactor(maxWork)
		identities = append(identities, i)
	}
	if with.Identity != "" {
		// Identity files carry comments beside the identity itself.
		parsed, err := age.ParseIdentities(strings.NewReader(with.Identity))
		if err != nil {
			return secret, fmt.Errorf("the identity can't be read; it begins with AGE-SECRET-KEY-1: %w", ErrWrongKey)
		}
		identities = append(identities, parsed...)
	}
	if len(identities) == 0 {
		return secret, fmt.Errorf("neither a passphrase nor an identity was given: %w", ErrWrongKey)
	}
	r, err := age.Decrypt(armor.NewReader(strings.NewReader(key)), identities...)
	var mismatch *age.NoIdentityMatchError
	if errors.As(err, &mismatch) {
		return secret, ErrWrongKey
	}
	if err != nil {
		return secret, fmt.Errorf("key: %w: %v", ErrDamaged, err)
	}
	body, err := io.ReadAll(io.LimitReader(r, int64(len(secret))+1))
	if err != nil || len(body) != len(secret) {
		return secret, fmt.Errorf("key: %w: it does not hold a secret", ErrDamaged)
	}
	return Secret(body), nil
}
