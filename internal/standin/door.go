package standin

import (
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"keenlodge/internal/selfsigned"
)

// Names of files in a stand-in's folder: what callers sign in with (NAME:SECRET), and the certificate by which they know it.
const (
	SecretFile      = "secret"
	CertificateFile = "certificate.pem"
	keyFile         = "key.pem"
)

// sessions are the callers that are signed in. They end with the process.
type sessions struct {
	secret string
	mu     sync.Mutex
	ends   map[string]time.Time
}

// Session is what signing in gives.
type Session struct {
	Token string    `json:"token"`
	Ends  time.Time `json:"ends"`
}

// Credentials are what signing in takes.
type Credentials struct {
	Name   string `json:"name"`
	Secret string `json:"secret"`
}

// open reads the secret, or makes one.
func (s *sessions) open(folder string) error {
	s.ends = map[string]time.Time{}
	path := filepath.Join(folder, SecretFile)
	body, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		body = []byte("keeper:" + rand.Text() + "\n")
		err = os.WriteFile(path, body, 0o600)
	}
	s.secret = strings.TrimSpace(string(body))
	return err
}

func (s *sessions) begin(r *http.Request, length time.Duration) (Session, error) {
	given, err := Body[Credentials](r)
	if err != nil {
		return Session{}, err
	}
	if subtle.ConstantTimeCompare([]byte(given.Name+":"+given.Secret), []byte(s.secret)) != 1 {
		return Session{}, Refuse(http.StatusForbidden, "this name and secret are not known here")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := Session{rand.Text(), time.Now().Add(length)}
	s.ends[out.Token] = out.Ends
	return out, nil
}

// check tells whether a caller is signed in.
func (s *sessions) check(r *http.Request) error {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	s.mu.Lock()
	defer s.mu.Unlock()
	ends, ok := s.ends[token]
	if ok && time.Now().After(ends) {
		delete(s.ends, token)
		ok = false
	}
	if !ok {
		return Refuse(http.StatusUnauthorized, "sign in first, by POST /session")
	}
	return nil
}

// certificate reads the certificate of a folder, or makes one: it is its own authority, and good for loopback.
func certificate(folder string) (*tls.Config, error) {
	certPath, keyPath := filepath.Join(folder, CertificateFile), filepath.Join(folder, keyFile)
	if _, err := os.Stat(certPath); errors.Is(err, fs.ErrNotExist) {
		if err := makeCertificate(certPath, keyPath); err != nil {
			return nil, fmt.Errorf("make a certificate: %w", err)
		}
	}
	pair, err := tls.LoadX509KeyPair(certPath, keyPath)
	if err != nil {
		return nil, fmt.Errorf("certificate in %s: %w; take both files away, and it is made anew", folder, err)
	}
	return &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{pair}}, nil
}

func makeCertificate(certPath, keyPath string) error {
	cert, key, err := selfsigned.Make("A stand-in", []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}, []string{"localhost"}, time.Now().AddDate(10, 0, 0))
	if err != nil {
		return err
	}
	if err := os.WriteFile(keyPath, key, 0o600); err != nil {
		return err
	}
	return os.WriteFile(certPath, cert, 0o644)
}
