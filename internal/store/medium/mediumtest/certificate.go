package mediumtest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Certificate makes one that nobody vouches for, with its key, both as PEM, and its digest as a store's entry has it.
func Certificate(t *testing.T) (cert, key []byte, digest string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "files.brindle.example"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	body, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	sum := sha256.Sum256(body)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: body}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), "sha256:" + hex.EncodeToString(sum[:])
}
