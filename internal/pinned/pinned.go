// Package pinned trusts a lodge by the fingerprint of its authority: what a client or an agent saw when it first came, as with SSH. A pin
// has the fingerprint of the authority that comes next, too, so that whoever pinned one follows when the lodge renews it, even because its
// key was stolen.
package pinned

import (
	"bytes"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Fingerprint is that of a certificate's public key: SHA-256 over its SubjectPublicKeyInfo (RFC 5280, section 4.1.2.7), in Base64 without
// padding, with "SHA256:" before it.
func Fingerprint(c *x509.Certificate) string { return KeyFingerprint(c.RawSubjectPublicKeyInfo) }

// KeyFingerprint is that of a SubjectPublicKeyInfo.
func KeyFingerprint(spki []byte) string {
	sum := sha256.Sum256(spki)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// Check reads a fingerprint as people write it.
func Check(text string) error {
	sum, ok := strings.CutPrefix(text, "SHA256:")
	if b, err := base64.RawStdEncoding.DecodeString(sum); !ok || err != nil || len(b) != sha256.Size {
		return fmt.Errorf("%q is no fingerprint; one begins with SHA256: and has 43 letters and digits after it", text)
	}
	return nil
}

// Unknown is the error for a lodge whose authority is not known: neither to this computer nor by a pin.
type Unknown struct {
	// Host is where it was met, Fingerprint what it showed; "" where it showed no authority of its own.
	Host, Fingerprint string
	// Pinned is what was expected, nil where nothing was.
	Pinned []string
	why    error
}

func (u *Unknown) Error() string {
	switch {
	case u.Fingerprint == "":
		return fmt.Sprintf("the certificate of %s is from no authority that this computer knows (%v)", u.Host, u.why)
	case u.Pinned == nil:
		return fmt.Sprintf("the authority of %s is not known here: its fingerprint is %s; compare it with what the service's log says, and sign in: keenlodge sign-in", u.Host, u.Fingerprint)
	}
	return fmt.Sprintf("%s shows another authority than before: %s, and not %s. Somebody may be in between. If the lodge was made anew, sign in anew: keenlodge sign-in", u.Host, u.Fingerprint, strings.Join(u.Pinned, " or "))
}

func (u *Unknown) Unwrap() error { return u.why }

// Wrong is the error for a certificate that is not good: it has ended, or is of another name.
type Wrong struct{ text string }

func (w *Wrong) Error() string { return w.text }

func wrong(format string, args ...any) error { return &Wrong{fmt.Sprintf(format, args...)} }

// Config trusts a host by pins, or, where there are none, by the authorities that this computer knows. met, if it is not nil, hears by which
// pin a host was trusted. Errors of handshakes are of type [*Unknown] or [*Wrong].
func Config(host string, pins []string, met func(fingerprint string)) *tls.Config {
	c := &tls.Config{MinVersion: tls.VersionTLS13, ServerName: host, InsecureSkipVerify: true} // VerifyConnection does it
	c.VerifyConnection = func(s tls.ConnectionState) error {
		err := verify(host, pins, time.Now(), s.PeerCertificates)
		if shown := ownAuthority(s.PeerCertificates); err == nil && met != nil && shown != nil {
			met(Fingerprint(shown))
		}
		return err
	}
	return c
}

func verify(host string, pins []string, now time.Time, chain []*x509.Certificate) error {
	if len(chain) == 0 {
		return wrong("%s shows no certificate", host)
	}
	leaf, between := chain[0], x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	options := x509.VerifyOptions{Intermediates: between, CurrentTime: now, DNSName: host}
	shown := ownAuthority(chain)
	if shown == nil || pins == nil {
		if _, err := leaf.Verify(options); err != nil {
			return explain(host, now, leaf, &Unknown{host, printOf(shown), pins, err}, err)
		}
		return nil
	}
	if !slices.Contains(pins, Fingerprint(shown)) {
		return &Unknown{host, Fingerprint(shown), pins, errors.New("another authority")}
	}
	options.Roots = x509.NewCertPool()
	options.Roots.AddCert(shown)
	_, err := leaf.Verify(options)
	return explain(host, now, leaf, err, err)
}

// ownAuthority is the authority that a chain ends with, or nil where it is left out, as public ones are.
func ownAuthority(chain []*x509.Certificate) *x509.Certificate {
	if len(chain) < 2 {
		return nil
	}
	last := chain[len(chain)-1]
	if !last.IsCA || !bytes.Equal(last.RawIssuer, last.RawSubject) || last.CheckSignatureFrom(last) != nil {
		return nil
	}
	return last
}

func printOf(c *x509.Certificate) string {
	if c == nil {
		return ""
	}
	return Fingerprint(c)
}

// explain says what a person can do about a certificate that is not good; for what it does not know, it returns otherwise.
func explain(host string, now time.Time, leaf *x509.Certificate, otherwise, err error) error {
	var invalid x509.CertificateInvalidError
	var name x509.HostnameError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && now.Before(leaf.NotBefore):
		return wrong("the certificate of %s begins only on %s, and here it is %s: one of the two clocks is wrong", host, stamp(leaf.NotBefore), stamp(now))
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return wrong("the certificate of %s ended on %s, and here it is %s: renew it, or set the clock that is wrong", host, stamp(leaf.NotAfter), stamp(now))
	case errors.As(err, &name):
		return wrong("the certificate of %s is for %s: use one of these names in the address, or have the service named so too (serve --tls-name)", host, names(leaf))
	}
	return otherwise
}

func names(c *x509.Certificate) string {
	all := slices.Clone(c.DNSNames)
	for _, ip := range c.IPAddresses {
		all = append(all, ip.String())
	}
	if len(all) == 0 {
		return "no name at all"
	}
	return strings.Join(all, ", ")
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }
