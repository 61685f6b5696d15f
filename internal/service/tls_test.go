package service

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Beyond loopback a service speaks TLS, or was told in words that it need not.
func TestDoors(t *testing.T) {
	for _, c := range []struct {
		d         door
		encrypted bool
		says      string
	}{
		{door{listen: "127.0.0.1:7433"}, false, ""},
		{door{listen: "[::1]:7433"}, false, ""},
		{door{listen: "localhost:7433"}, false, ""},
		{door{listen: "127.0.0.1:7433", own: true}, true, ""},
		{door{listen: "0.0.0.0:7433", own: true}, true, ""},
		{door{listen: ":7433", certificate: "c", key: "k"}, true, ""},
		{door{listen: "192.0.2.7:7433", plain: plainWords}, false, ""},
		{door{listen: "0.0.0.0:7433"}, false, "can be reached from elsewhere"},
		{door{listen: ":7433"}, false, "can be reached from elsewhere"},
		{door{listen: "lodge.brindle.example:7433"}, false, "can be reached from elsewhere"},
		{door{listen: "192.0.2.7:7433", plain: "yes"}, false, "takes the words " + plainWords},
		{door{listen: "127.0.0.1:7433", certificate: "c"}, false, "a certificate needs its key"},
		{door{listen: "127.0.0.1:7433", certificate: "c", key: "k", own: true}, false, "leave it out"},
	} {
		encrypted, err := c.d.encrypted()
		if c.says != "" {
			require.ErrorContains(t, err, c.says, "%+v", c.d)
			continue
		}
		require.NoError(t, err, "%+v", c.d)
		require.Equal(t, c.encrypted, encrypted, "%+v", c.d)
	}
}

// makeCertificate makes a certificate and its key that end at a time, as PEM.
func makeCertificate(t *testing.T, ends time.Time) (certificate, key []byte) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "lodge.brindle.example"}, NotBefore: ends.Add(-time.Hour), NotAfter: ends, DNSNames: []string{"lodge.brindle.example"}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, private.Public(), private)
	require.NoError(t, err)
	body, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: body})
}

// A certificate from files is read again when they change; while they are half written, ended, or of two kinds, the one before stays.
func TestFiles(t *testing.T) {
	folder := t.TempDir()
	f := &files{certificate: filepath.Join(folder, "lodge.pem"), key: filepath.Join(folder, "lodge.key")}
	var log bytes.Buffer
	f.log = slog.New(slog.NewTextHandler(&log, nil))
	later := time.Now().Add(time.Minute)
	write := func(name string, body []byte) {
		later = later.Add(time.Second) // a clock that is coarse must not hide a change
		require.NoError(t, os.WriteFile(name, body, 0o600))
		require.NoError(t, os.Chtimes(name, later, later))
	}
	serial := func() time.Time {
		f.looked = time.Time{}
		return f.current().Leaf.NotAfter
	}
	require.ErrorContains(t, f.load(), "lodge.pem")
	overCert, overKey := makeCertificate(t, time.Now().Add(-time.Minute))
	write(f.certificate, overCert)
	write(f.key, overKey)
	require.ErrorContains(t, f.load(), "--tls", "one that has ended does not begin")

	firstCert, firstKey := makeCertificate(t, time.Now().Add(time.Hour))
	write(f.certificate, firstCert)
	write(f.key, firstKey)
	require.NoError(t, f.load())
	first := serial()
	nextCert, nextKey := makeCertificate(t, time.Now().Add(2*time.Hour))
	write(f.certificate, nextCert[:len(nextCert)/2])
	require.Equal(t, first, serial(), "half written")
	write(f.certificate, nextCert)
	require.Equal(t, first, serial(), "the key is not there yet")
	write(f.key, nextKey)
	require.True(t, serial().After(first))
	next := serial()
	write(f.certificate, overCert)
	write(f.key, overKey)
	require.Equal(t, next, serial())
	require.Contains(t, log.String(), "has ended already")
	require.NoError(t, os.Remove(f.key))
	require.Equal(t, next, serial())
}
