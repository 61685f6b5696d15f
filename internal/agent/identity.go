// Package agent runs on a server. It keeps the server's identity: it joins a lodge with a word that an administrator was told, has its
// certificate renewed long before it ends, and follows when the lodge's authority is renewed.
package agent

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/big"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"keenlodge/internal/client"
	"keenlodge/internal/pinned"
	"keenlodge/internal/private"
	"keenlodge/internal/wire"
)

// Identity is who a server's agent is to a lodge. It lies in one file, of mode 0600.
type Identity struct {
	file string

	mu   sync.Mutex // of what follows: it is renewed while a line is made
	kept kept
	key  *ecdsa.PrivateKey
	cert *tls.Certificate // nil until it has joined
}

// kept is what the file has, as JSON.
type kept struct {
	Name string `json:"name"`
	URL  string `json:"url"`
	// Pins are the fingerprints of the lodge's authority, and of the one that comes next.
	Pins        []string  `json:"pins"`
	Key         string    `json:"key"` // PEM
	Certificate string    `json:"certificate"`
	Ends        time.Time `json:"ends"`
}

// Name is the agent's, Ends when its certificate ends.
func (id *Identity) Name() string    { return id.kept.Name }
func (id *Identity) Ends() time.Time { return id.kept.Ends }

// lodge is the address that it calls.
func (id *Identity) lodge() string {
	id.mu.Lock()
	defer id.mu.Unlock()
	return id.kept.URL
}

// certificate is the one that it has now.
func (id *Identity) certificate() *tls.Certificate {
	id.mu.Lock()
	defer id.mu.Unlock()
	return id.cert
}

func fileIn(folder string) string { return filepath.Join(folder, "identity.json") }

// Open reads the identity that lies in a folder.
func Open(folder string) (*Identity, error) {
	id := &Identity{file: fileIn(folder)}
	body, err := os.ReadFile(id.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("this server has not joined a lodge yet: keenlodge agent join: %w", err)
	}
	if err == nil {
		err = json.Unmarshal(body, &id.kept)
	}
	if err == nil {
		err = id.load()
	}
	if err != nil {
		return nil, fmt.Errorf("the agent's identity in %s: %w; if it is lost, have an administrator admit the agent again, and join anew", id.file, err)
	}
	return id, nil
}

// load reads the key and the certificate.
func (id *Identity) load() error {
	block, _ := pem.Decode([]byte(id.kept.Key))
	if block == nil {
		return errors.New("its key is no PEM")
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return err
	}
	own, ok := key.(*ecdsa.PrivateKey)
	if !ok {
		return errors.New("its key is of another kind")
	}
	id.key, id.cert = own, nil
	if id.kept.Certificate != "" {
		cert, err := tls.X509KeyPair([]byte(id.kept.Certificate), []byte(id.kept.Key))
		if err != nil {
			return err
		}
		id.cert = &cert
	}
	return nil
}

func (id *Identity) save(k kept) error {
	body, err := json.MarshalIndent(k, "", "  ")
	if err == nil {
		err = private.Write(id.file, string(body)+"\n")
	}
	if err != nil {
		return fmt.Errorf("keep the agent's identity: %w", err)
	}
	id.mu.Lock()
	defer id.mu.Unlock()
	id.kept = k
	return id.load()
}

// Join joins a lodge at url, whose authority has a fingerprint, under the name and with the word that an administrator was told. A call that
// was cut off can be made again, with the same word: the key was kept before it was shown.
func Join(ctx context.Context, folder, url, fingerprint, name, word string) (*Identity, error) {
	if err := pinned.Check(fingerprint); err != nil {
		return nil, err
	}
	if id, err := Open(folder); err == nil && id.cert != nil {
		return nil, fmt.Errorf("this server is agent %s of %s already; to join anew, remove %s", id.kept.Name, id.kept.URL, id.file)
	} else if err == nil && id.kept.Name == name && id.kept.URL == url && id.Renew(ctx) == nil {
		return id, nil // it had joined, and did not hear so
	}
	text, _, err := newKey()
	if err != nil {
		return nil, err
	}
	id := &Identity{file: fileIn(folder)}
	if err := id.save(kept{Name: name, URL: url, Pins: []string{fingerprint}, Key: text}); err != nil {
		return nil, err
	}
	k, err := id.client(nil)
	if err != nil {
		return nil, err
	}
	request, err := requestFor(id.key, name)
	if err != nil {
		return nil, err
	}
	c, err := k.JoinAgent(ctx, name, wire.Joining{Word: word, CertificateRequest: wire.CertificateRequest{Request: request}})
	if err != nil {
		return nil, fmt.Errorf("join %s as %s: %w", url, name, err)
	}
	return id, id.take(id.kept.Key, c)
}

// Renew has the lodge certify a new key, by the one that the agent has.
func (id *Identity) Renew(ctx context.Context) error {
	shown := id.cert
	if shown == nil { // the lodge knows the key, if not the agent that it does
		var err error
		if shown, err = selfSigned(id.key); err != nil {
			return err
		}
	}
	k, err := id.client(shown)
	if err != nil {
		return err
	}
	text, key, err := newKey()
	if err != nil {
		return err
	}
	request, err := requestFor(key, id.kept.Name)
	if err != nil {
		return err
	}
	c, err := k.RenewAgent(ctx, wire.CertificateRequest{Request: request})
	if err != nil {
		return fmt.Errorf("renew the certificate of agent %s: %w", id.kept.Name, err)
	}
	return id.take(text, c)
}

// take keeps a key with the certificate for it, and what to trust the lodge by from now on.
func (id *Identity) take(key string, c wire.Certificate) error {
	if _, err := tls.X509KeyPair([]byte(c.Certificate), []byte(key)); err != nil {
		return fmt.Errorf("the lodge certified another key: %w", err)
	}
	next := id.kept
	next.Name, next.Key, next.Certificate, next.Ends, next.Pins = c.Name, key, c.Certificate, c.Ends, []string{c.Fingerprint, c.Next}
	return id.save(next)
}

const (
	// renewAt is how long before its end a certificate is renewed, if the lodge can be reached; retryAfter is between tries.
	renewAt, retryAfter = 12 * time.Hour, time.Minute
)

// Keep has the certificate renewed whenever half of its time is over, until ctx ends. An agent that the lodge does not know any more returns.
func (id *Identity) Keep(ctx context.Context, log *slog.Logger) error {
	for {
		wait := time.Until(id.kept.Ends.Add(-renewAt))
		if wait <= 0 {
			err := id.Renew(ctx)
			var refused *client.Problem
			switch {
			case err == nil:
				log.Info("the certificate was renewed", "agent", id.kept.Name, "ends", id.kept.Ends)
				continue
			case errors.As(err, &refused) && refused.Status == 401:
				return fmt.Errorf("%w; it was revoked, or away for too long: join anew", err)
			}
			log.Warn("the certificate could not be renewed; trying again", "error", err)
			wait = retryAfter
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return nil
		case <-timer.C:
		}
	}
}

// client is one that trusts the lodge by its pins, and shows a certificate, if there is one.
func (id *Identity) client(shown *tls.Certificate) (*client.Client, error) {
	_, config, err := id.trust(shown)
	if err != nil {
		return nil, err
	}
	k := client.New(id.kept.URL, "")
	k.Trust(config)
	return k, nil
}

// trust is where the lodge is, and TLS that trusts it by its pins and shows a certificate, if there is one.
func (id *Identity) trust(shown *tls.Certificate) (*url.URL, *tls.Config, error) {
	id.mu.Lock()
	defer id.mu.Unlock()
	u, err := url.Parse(id.kept.URL)
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return nil, nil, fmt.Errorf("%q is no address that an agent joins; write for example https://lodge.brindle.example:7433", id.kept.URL)
	}
	config := pinned.Config(u.Hostname(), id.kept.Pins, nil)
	if shown != nil {
		config.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return shown, nil } // whatever authorities are asked for
	}
	return u, config, nil
}

func newKey() (text string, key *ecdsa.PrivateKey, err error) {
	if key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return "", nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})), key, err
}

func requestFor(key *ecdsa.PrivateKey, name string) (string, error) {
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: name}}, key)
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})), err
}

// selfSigned is a certificate that says nothing but that its holder has the key.
func selfSigned(key *ecdsa.PrivateKey) (*tls.Certificate, error) {
	t := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	return &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}
