package medium

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

// CertificateForm is how a certificate is written that no authority vouches for.
const CertificateForm = "sha256:, and the digest of the server's certificate in hexadecimal"

// CheckCertificate refuses what can't be a certificate's digest; "" is none.
func CheckCertificate(text string) error {
	sum, ok := strings.CutPrefix(text, "sha256:")
	if body, err := hex.DecodeString(sum); text != "" && (!ok || err != nil || len(body) != sha256.Size) {
		return fmt.Errorf("certificate %q is not %s", text, CertificateForm)
	}
	return nil
}

// TLS is how a server is trusted: by the host's authorities, or by the digest of its own certificate (sha256:…), where one is given. What it shows
// otherwise is [ErrRefused].
func TLS(host, certificate string) *tls.Config {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if certificate == "" {
		return c
	}
	c.InsecureSkipVerify = true // the digest says more than a name that an authority vouches for
	c.VerifyPeerCertificate = func(raw [][]byte, _ [][]*x509.Certificate) error {
		if len(raw) == 0 {
			return errors.New("the server shows no certificate")
		}
		if sum := sha256.Sum256(raw[0]); !strings.EqualFold(certificate, "sha256:"+hex.EncodeToString(sum[:])) {
			return fmt.Errorf("%w: the server's certificate is sha256:%x, and not the one that was named", ErrRefused, sum)
		}
		return nil
	}
	return c
}
