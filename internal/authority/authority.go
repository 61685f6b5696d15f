// Package authority is the lodge's own certificate authority. Its key lies in the vault; each process makes itself a certificate from it,
// for a week, and never writes one down. Agents get certificates for a day, which they renew; which of them are good is in the records, so
// that one is revoked at once, and whoever stole the authority's key can make none that the lodge takes. The authority that comes next is
// made together with the one that is, and whoever pinned one has pinned both (package pinned).
package authority

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"sync"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/pinned"
	"keenlodge/internal/vault"
)

const (
	// authorityTime is how long an authority is good for, serverTime a process's certificate, which is made anew when half of it is over.
	authorityTime, serverTime = 10 * 365 * 24 * time.Hour, 7 * 24 * time.Hour
	// clockSlack is how far clocks may be apart: certificates begin so much before they are made.
	clockSlack = 25 * time.Hour
	// knownFor is how long what the vault said is remembered.
	knownFor = 10 * time.Second
)

// secret is the authority's name in the vault.
const secret = "authority"

// kept is what the vault keeps.
type kept struct {
	Now, Next pair
	// Renewed counts how often it was renewed.
	Renewed int
}

// pair is an authority: PEM of its certificate, and of its key; the key of the next one may be elsewhere.
type pair struct{ Certificate, Key string }

// Authority makes certificates.
type Authority struct {
	vault *vault.Vault
	now   func() time.Time

	mu     sync.Mutex
	known  *signer
	at     time.Time
	server *tls.Certificate
	names  []string
}

// signer is an authority that can sign.
type signer struct {
	cert    *x509.Certificate
	key     *ecdsa.PrivateKey
	next    string // fingerprint
	spare   bool   // the next one's key is in the vault
	renewed int
}

// New makes an Authority whose certificates for servers bear names: host names and IP addresses.
func New(v *vault.Vault, names []string) *Authority {
	return &Authority{vault: v, names: names, now: time.Now}
}

// State is how the authority stands.
type State struct {
	// Fingerprint is the authority's, Next that of the one that comes next.
	Fingerprint, Next string
	Ends              time.Time
	// Spare says that the key of the next one is in the vault, and not elsewhere.
	Spare   bool
	Renewed int
}

// State reads how the authority stands; it is made if there is none.
func (a *Authority) State(ctx context.Context) (State, error) {
	s, err := a.signer(ctx)
	if err != nil {
		return State{}, err
	}
	return State{pinned.Fingerprint(s.cert), s.next, s.cert.NotAfter, s.spare, s.renewed}, nil
}

// signer reads the authority, or makes it. Processes that make one at the same time make one.
func (a *Authority) signer(ctx context.Context) (*signer, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.known != nil && time.Since(a.at) < knownFor {
		return a.known, nil
	}
	var k kept
	found, err := a.vault.Get(ctx, secret, &k)
	if err == nil && !found {
		if k, err = a.found(); err == nil {
			if err = a.vault.SetOnce(ctx, secret, k); err == nil {
				_, err = a.vault.Get(ctx, secret, &k) // another process may have been faster
			}
		}
	}
	var s *signer
	if err == nil {
		s, err = read(k)
	}
	if err != nil {
		if a.known != nil && !errors.Is(err, errBroken) {
			return a.known, nil // the database is away; what was, is
		}
		return nil, fmt.Errorf("the lodge's authority: %w", err)
	}
	if a.known == nil || !a.known.cert.Equal(s.cert) {
		a.server = nil
	}
	a.known, a.at = s, time.Now()
	return s, nil
}

var errBroken = errors.New("what the vault has is not to be understood; renew it: keenlodge authority renew")

// found makes an authority, and the next one.
func (a *Authority) found() (k kept, err error) {
	if k.Now, err = a.makePair(); err == nil {
		k.Next, err = a.makePair()
	}
	return k, err
}

func (a *Authority) makePair() (pair, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return pair{}, err
	}
	t := &x509.Certificate{
		SerialNumber: newSerial(), Subject: pkix.Name{CommonName: "A keen lodge's own authority"}, IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign, NotBefore: a.now().Add(-clockSlack), NotAfter: a.now().Add(authorityTime),
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return pair{}, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	return pair{encode("CERTIFICATE", der), encode("PRIVATE KEY", private)}, err
}

// newSerial is a random serial number (RFC 5280, section 4.1.2.2).
func newSerial() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)) // the system's source does not fail
	return n
}

func encode(kind string, der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}))
}

func read(k kept) (*signer, error) {
	cert, key, err := k.Now.read()
	if err != nil {
		return nil, err
	}
	next, _, err := k.Next.read()
	if err != nil && k.Next.Key != "" || next == nil {
		return nil, errBroken
	}
	return &signer{cert, key, pinned.Fingerprint(next), k.Next.Key != "", k.Renewed}, nil
}

// read takes a pair apart. Of one whose key is elsewhere the certificate is returned with an error.
func (p pair) read() (*x509.Certificate, *ecdsa.PrivateKey, error) {
	block, _ := pem.Decode([]byte(p.Certificate))
	if block == nil {
		return nil, nil, errBroken
	}
	cert, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, nil, errBroken
	}
	if block, _ = pem.Decode([]byte(p.Key)); block == nil {
		return cert, nil, errBroken
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	own, ok := key.(*ecdsa.PrivateKey)
	if err != nil || !ok || !own.PublicKey.Equal(cert.PublicKey) {
		return cert, nil, errBroken
	}
	return cert, own, nil
}

// Renew has the next authority take the place of the one that is, here at once and in other processes when they look at the vault again, and
// makes another to come after it. spare is the key of the next one where that is not in the vault ([Authority.TakeSpare]), as PEM.
func (a *Authority) Renew(ctx context.Context, spare string) (State, error) {
	var k kept
	if found, err := a.vault.Get(ctx, secret, &k); err != nil || !found {
		if spare == "" {
			return State{}, fmt.Errorf("the authority can't be read from the vault, and without the spare key nobody would follow another: %w", errors.Join(err, errBroken))
		}
		k = kept{} // its key is lost; who has the spare goes on with it
	}
	if spare != "" {
		next, err := withKey(k.Next, spare, a.now())
		if err != nil {
			return State{}, err
		}
		k.Next = next
	}
	if k.Next.Key == "" {
		return State{}, fmt.Errorf("%w: the key of the next authority was taken out of the vault; give it back: keenlodge authority renew --spare FILE", fault.ErrConflict)
	}
	after, err := a.makePair()
	if err != nil {
		return State{}, err
	}
	if err := a.vault.Set(ctx, secret, kept{k.Next, after, k.Renewed + 1}); err != nil {
		return State{}, err
	}
	a.forget()
	return a.State(ctx)
}

// withKey is the next authority with the key that was kept elsewhere. Where the vault's is lost, so is the certificate: then it is the one
// that stands behind the key.
func withKey(next pair, text string, now time.Time) (pair, error) {
	none := pair{}
	block, rest := pem.Decode([]byte(text))
	if block == nil {
		return none, fmt.Errorf("%w: the spare key is no PEM", fault.ErrInvalid)
	}
	own := pair{next.Certificate, encode("PRIVATE KEY", block.Bytes)}
	if cert, _, err := own.read(); cert != nil {
		if err != nil {
			return none, fmt.Errorf("%w: this is not the key of the next authority; there may have been another renewal since it was taken out", fault.ErrInvalid)
		}
		return own, nil
	}
	if block, _ = pem.Decode(rest); block == nil { // the certificate stands behind the key
		return none, fmt.Errorf("%w: the spare key's file is cut off: its certificate is missing", fault.ErrInvalid)
	}
	own.Certificate = encode("CERTIFICATE", block.Bytes)
	if cert, _, err := own.read(); err != nil || now.After(cert.NotAfter) {
		return none, fmt.Errorf("%w: the spare key and its certificate do not belong together, or have ended", fault.ErrInvalid)
	}
	return own, nil
}

// TakeSpare takes the key of the next authority out of the vault, so that whoever steals the vault can't follow; it is returned once, as PEM.
func (a *Authority) TakeSpare(ctx context.Context) (string, error) {
	if _, err := a.signer(ctx); err != nil { // there may be none yet
		return "", err
	}
	var k kept
	if _, err := a.vault.Get(ctx, secret, &k); err != nil {
		return "", err
	}
	if k.Next.Key == "" {
		return "", fmt.Errorf("%w: the key of the next authority was taken out already; if it is lost, renewing makes whoever pinned this one sign in anew", fault.ErrConflict)
	}
	out := k.Next.Key + k.Next.Certificate
	k.Next.Key = ""
	if err := a.vault.Set(ctx, secret, k); err != nil {
		return "", err
	}
	a.forget()
	return out, nil
}

// Pool has the authority's name. All authorities of lodges have the same.
func (a *Authority) Pool(ctx context.Context) (*x509.CertPool, error) {
	s, err := a.signer(ctx)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AddCert(s.cert)
	return pool, nil
}

// forget has the vault be asked again.
func (a *Authority) forget() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.known, a.server = nil, nil
}

// Server is this process's certificate, with the authority's behind it. It is for [tls.Config.GetCertificate].
func (a *Authority) Server(ctx context.Context) (*tls.Certificate, error) {
	s, err := a.signer(ctx)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.server != nil && a.now().Before(a.server.Leaf.NotAfter.Add(-serverTime/2)) {
		return a.server, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{
		SerialNumber: newSerial(), Subject: pkix.Name{CommonName: "A keen lodge"}, KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		NotBefore: a.now().Add(-clockSlack), NotAfter: a.now().Add(serverTime),
	}
	for _, name := range a.names {
		if ip := net.ParseIP(name); ip != nil {
			t.IPAddresses = append(t.IPAddresses, ip)
		} else {
			t.DNSNames = append(t.DNSNames, name)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, s.cert, key.Public(), s.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	a.server = &tls.Certificate{Certificate: [][]byte{der, s.cert.Raw}, PrivateKey: key, Leaf: leaf}
	return a.server, nil
}
