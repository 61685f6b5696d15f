package demo

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// sshd is a host's SSH server, Debian's, on loopback.
type sshd struct {
	port             int
	hostKey, keyFile string
}

// OpenSSH starts an SSH server through which the daemon can be reached by the account that it runs under. more are lines for its settings.
func (h *Hypervisor) OpenSSH(ctx context.Context, more ...string) error {
	folder := h.p.Path(h.folder + "-ssh")
	if err := os.MkdirAll(folder, 0o711); err != nil {
		return err
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // it insists
		return err
	}
	for _, name := range []string{"host", "user"} {
		if _, err := as(ctx, nil, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", name+" of "+h.Name, "-f", filepath.Join(folder, name)); err != nil {
			return err
		}
	}
	port, err := freePort()
	if err != nil {
		return err
	}
	settings := append([]string{fmt.Sprintf("Port %d", port), "ListenAddress 127.0.0.1", "HostKey " + folder + "/host", "AuthorizedKeysFile " + folder + "/user.pub", "StrictModes no", "UsePAM no",
		"PasswordAuthentication no", "PidFile none", "MaxStartups 100", "StreamLocalBindUnlink yes"}, more...)
	config := filepath.Join(folder, "config")
	if err := os.WriteFile(config, []byte(strings.Join(settings, "\n")+"\n"), 0o600); err != nil {
		return err
	}
	if _, err := h.p.start("sshd-"+h.Name, exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", config), syscall.SIGTERM); err != nil {
		return err
	}
	key, err := os.ReadFile(filepath.Join(folder, "host.pub"))
	if err != nil {
		return err
	}
	h.ssh = &sshd{port, strings.Join(strings.Fields(string(key))[:2], " "), filepath.Join(folder, "user")}
	return Until(ctx, 10*time.Second, "sshd of "+h.Name, func() error {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
		}
		return err
	})
}

// certificates are those with which a daemon is reached over TLS.
type certificates struct {
	folder string
	port   int
}

// OpenTLS has the daemon listen for TLS, too, once it starts.
func (h *Hypervisor) OpenTLS() error {
	port, err := freePort()
	if err != nil {
		return err
	}
	h.tls = &certificates{h.p.Path(h.folder, "tls"), port}
	return h.tls.make()
}

// make makes an authority, and a certificate of it for each side.
func (c *certificates) make() error {
	if err := os.MkdirAll(c.folder, 0o711); err != nil {
		return err
	}
	authority, key, err := c.issue("ca", nil, nil)
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(c.folder, "dh-params.pem"), []byte(ffdhe2048), 0o644); err != nil {
		return err
	}
	for _, name := range []string{"server", "client"} {
		if _, _, err := c.issue(name, authority, key); err != nil {
			return err
		}
	}
	return nil
}

// ffdhe2048 is a group for key exchanges (RFC 7919, appendix A.1). Without one QEMU looks for another for a second or more, each time that it offers
// disks over TLS.
const ffdhe2048 = `-----BEGIN DH PARAMETERS-----
MIIBCAKCAQEA//////////+t+FRYortKmq/cViAnPTzx2LnFg84tNpWp4TZBFGQz
+8yTnc4kmz75fS/jY2MMddj2gbICrsRhetPfHtXV/WVhJDP1H18GbtCFY2VVPe0a
87VXE15/V8k1mE8McODmi3fipona8+/och3xWKE2rec1MKzKT0g6eXq8CrGCsyT7
YdEIqUuyyOP7uWrat2DX9GgdT0Kj3jlN9K5W7edjcrsZCwenyO4KbXCeAvzhzffi
7MA0BM0oNC9hkXL+nOmFg/+OTxIy7vKBg8P+OxtMb61zO7X8vC7CIAXFjvGDfRaD
ssbzSibBsu/6iGtCOGEoXJf//////////wIBAg==
-----END DH PARAMETERS-----
`

// issue makes a certificate and its key, NAME-cert.pem and NAME-key.pem as QEMU and libvirt look for them.
func (c *certificates) issue(name string, authority *x509.Certificate, signer *ecdsa.PrivateKey) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	cert := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name + ".brindle.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(30 * 24 * time.Hour), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	if authority == nil {
		cert.IsCA, cert.KeyUsage, cert.ExtKeyUsage, cert.IPAddresses = true, x509.KeyUsageCertSign, nil, nil
		authority, signer = cert, key
	}
	body, err := x509.CreateCertificate(rand.Reader, cert, authority, &key.PublicKey, signer)
	if err != nil {
		return nil, nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, nil, err
	}
	for kind, block := range map[string]*pem.Block{"cert": {Type: "CERTIFICATE", Bytes: body}, "key": {Type: "PRIVATE KEY", Bytes: private}} {
		if err := os.WriteFile(filepath.Join(c.folder, name+"-"+kind+".pem"), pem.EncodeToMemory(block), 0o600); err != nil {
			return nil, nil, err
		}
	}
	return cert, key, nil
}

// settings are the lines for QEMU's and the daemon's configuration.
func (c *certificates) settings() (qemu, daemon string) {
	file := func(name string) string { return filepath.Join(c.folder, name+".pem") }
	qemu = fmt.Sprintf("backup_tls_x509_cert_dir = %q\nbackup_tls_x509_verify = 1\n", c.folder)
	daemon = fmt.Sprintf("listen_tls = 1\nlisten_tcp = 0\nlisten_addr = \"127.0.0.1\"\ntls_port = \"%d\"\nkey_file = %q\ncert_file = %q\nca_file = %q\ntls_no_sanity_certificate = 1\n",
		c.port, file("server-key"), file("server-cert"), file("ca-cert"))
	return qemu, daemon
}
