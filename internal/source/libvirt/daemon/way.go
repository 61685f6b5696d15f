package daemon

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"libvirt.org/go/libvirtxml"

	"keenlodge/internal/core/site"
	"keenlodge/internal/reach"
	"keenlodge/internal/source"
)

// Way is how a host's daemon and the disks of a capture are reached.
type Way interface {
	// Daemon connects to libvirt's daemon.
	Daemon(ctx context.Context) (net.Conn, error)
	// Offer says where QEMU is to offer the disks of a job; try counts from 0, for a place may be taken.
	Offer(mark, socket string, try int) *libvirtxml.DomainBackupPullServer
	// Export connects to such a place; where secure is not nil, TLS is to be begun over it. nth counts the streams of a disk from 0; Streams is
	// how many of them make sense where the way is long.
	Export(ctx context.Context, server *libvirtxml.DomainBackupPullServer, nth int) (conn net.Conn, secure *tls.Config, err error)
	Streams() int
	// Place says in words where the daemon is, Said how a step on the way there went.
	Place() string
	Said(step string) string
	hangUp()
}

const (
	systemSocket = "/var/run/libvirt/libvirt-sock"
	// tlsPort is libvirt's (IANA).
	tlsPort = "16514"
	// firstPort is the first of those at which disks are offered over TLS, Ports how many there are.
	firstPort, Ports = 49300, 100
	// streams is how many connections a disk is read over at most.
	streams = 4
)

// Parse reads a hypervisor's address.
func Parse(spec site.Hypervisor) (u *url.URL, w Way, err error) {
	u, err = url.Parse(spec.URI)
	bad := fmt.Errorf(`libvirt address %q: write "qemu:///system", "qemu+unix:///session?socket=/path", "qemu+ssh://user@host/system" or "qemu+tls://host/system"`, spec.URI)
	if err != nil || u.Path != "/system" && u.Path != "/session" {
		return nil, nil, bad
	}
	socket := u.Query().Get("socket")
	if socket == "" {
		socket = systemSocket
	}
	switch {
	case (u.Scheme == "qemu" || u.Scheme == "qemu+unix") && u.Host == "" && u.User == nil:
		return u, Local(socket), nil
	case u.Scheme == "qemu+ssh" && u.Hostname() != "" && u.User.Username() != "":
		if _, secret := u.User.Password(); secret {
			return nil, nil, fmt.Errorf("libvirt address of host %s: a password has no place in it; sign in with a key: key_file, or the service's SSH agent", u.Hostname())
		}
		port, err := strconv.Atoi(u.Port())
		if err != nil && u.Port() != "" {
			return nil, nil, bad
		}
		w := &SSH{socket: socket, keyFile: spec.KeyFile, to: reach.SSH{Host: u.Hostname(), Port: port, User: u.User.Username(), HostKey: spec.HostKey, Agent: spec.KeyFile == ""}}
		return u, w, nil
	case u.Scheme == "qemu+tls" && u.Hostname() != "":
		if spec.CAFile == "" || spec.CertFile == "" || spec.KeyFile == "" {
			return nil, nil, fmt.Errorf("libvirt address %q: over TLS a hypervisor needs ca_file, cert_file and key_file: the authority that its certificate is from, and the service's own certificate and key", spec.URI)
		}
		return u, &TLS{host: u.Hostname(), port: u.Port(), spec: spec}, nil
	}
	return nil, nil, bad
}

// Local reaches a daemon on this host, by its socket.
type Local string

func (w Local) Daemon(ctx context.Context) (net.Conn, error) {
	conn, err := (&net.Dialer{Timeout: AnswerTime}).DialContext(ctx, "unix", string(w))
	if err != nil {
		return nil, fmt.Errorf("%w: %w; is libvirtd running, and may this account open its socket?", source.ErrUnreachable, err)
	}
	return conn, nil
}

func (w Local) Offer(_, socket string, _ int) *libvirtxml.DomainBackupPullServer {
	return atSocket(socket)
}

func (w Local) Export(ctx context.Context, s *libvirtxml.DomainBackupPullServer, _ int) (net.Conn, *tls.Config, error) {
	conn, err := (&net.Dialer{Timeout: AnswerTime}).DialContext(ctx, "unix", s.UNIX.Socket)
	return conn, nil, err
}

func (w Local) Streams() int       { return 1 }
func (w Local) Place() string      { return string(w) }
func (w Local) Said(string) string { return "" }
func (w Local) hangUp()            {}

func atSocket(socket string) *libvirtxml.DomainBackupPullServer {
	return &libvirtxml.DomainBackupPullServer{UNIX: &libvirtxml.DomainBackupPullServerUNIX{Socket: socket}}
}

// SSH reaches the sockets of another host through SSH. What is said to the daemon and what is read of disks go over lines of their
// own, so that a thaw does not wait behind data.
type SSH struct {
	to              reach.SSH
	socket, keyFile string

	talking lane
	data    [streams]lane
}

// lane is one of the lines to a host, which is made when it is needed, and anew when it does not answer.
type lane struct {
	mu     sync.Mutex
	line   *reach.Line
	closed bool
}

// get gives the line.
func (n *lane) get(ctx context.Context, w *SSH) (*reach.Line, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.closed {
		return nil, fmt.Errorf("%w: the connection was closed here", net.ErrClosed)
	}
	if n.line != nil && !n.line.Answers(AnswerTime) {
		n.line.Close()
		n.line = nil
	}
	if n.line != nil {
		return n.line, nil
	}
	c := w.to
	if w.keyFile != "" {
		key, err := readKey(w.keyFile)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", reach.ErrRefused, err)
		}
		c.PrivateKey = string(key)
	}
	line, err := c.Dial(ctx)
	if errors.Is(err, reach.ErrUnreachable) {
		err = fmt.Errorf("%w: %w", source.ErrUnreachable, err)
	}
	n.line = line
	return line, err
}

// readKey reads a private key's file, which nobody else may read.
func readKey(file string) ([]byte, error) {
	info, err := os.Stat(file)
	if err == nil && info.Mode()&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s can be read by others (mode %o); take that right away: chmod 600 %[1]s", file, info.Mode().Perm())
	}
	if err != nil {
		return nil, fmt.Errorf("the key file can't be read: %w", err)
	}
	key, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the key file can't be read: %w", err)
	}
	return key, nil
}

func (n *lane) close() {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.closed = true; n.line != nil {
		n.line.Close()
	}
}

// through connects to a socket through one of the lines.
func (w *SSH) through(ctx context.Context, n *lane, socket string) (net.Conn, error) {
	line, err := n.get(ctx, w)
	if err != nil {
		return nil, err
	}
	return line.Socket(ctx, socket)
}

func (w *SSH) Daemon(ctx context.Context) (net.Conn, error) {
	conn, err := w.through(ctx, &w.talking, w.socket)
	switch {
	case errors.Is(err, reach.ErrNoSocket):
		err = fmt.Errorf("%w: %w", source.ErrUnreachable, err)
		if !strings.Contains(err.Error(), "; ") {
			err = fmt.Errorf("%w; is libvirtd running there, and is user %s in the group that may open its socket (libvirt)?", err, w.to.User)
		}
	case errors.Is(err, reach.ErrUnreachable) && !errors.Is(err, source.ErrUnreachable):
		err = fmt.Errorf("%w: %w", source.ErrUnreachable, err)
	}
	return conn, err
}

func (w *SSH) Offer(_, socket string, _ int) *libvirtxml.DomainBackupPullServer {
	return atSocket(socket)
}

func (w *SSH) Export(ctx context.Context, s *libvirtxml.DomainBackupPullServer, nth int) (net.Conn, *tls.Config, error) {
	conn, err := w.through(ctx, &w.data[nth], s.UNIX.Socket)
	return conn, nil, err
}

func (w *SSH) Streams() int { return streams }

func (w *SSH) Place() string {
	return fmt.Sprintf("%s, %s@%s", w.socket, w.to.User, w.address())
}

func (w *SSH) address() string {
	return net.JoinHostPort(w.to.Host, strconv.Itoa(cmp.Or(w.to.Port, 22)))
}

func (w *SSH) Said(step string) string {
	switch step {
	case "reach":
		return "an SSH server answers at " + w.address()
	case "host key":
		return "it shows the key that is known"
	}
	by := "by key file " + w.keyFile
	if w.keyFile == "" {
		by = "by a key of the service's agent"
	}
	return fmt.Sprintf("user %s, %s", w.to.User, by)
}

func (w *SSH) hangUp() {
	w.talking.close()
	for i := range w.data {
		w.data[i].close()
	}
}

// TLS reaches a daemon and QEMU's NBD server over TLS, both with the same certificates.
type TLS struct {
	host, port string
	spec       site.Hypervisor
}

// config reads the files anew each time: certificates are renewed.
func (w *TLS) config() (*tls.Config, error) {
	authority, err := os.ReadFile(w.spec.CAFile)
	if err != nil {
		return nil, fmt.Errorf("the authority's certificate can't be read: %w", err)
	}
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM(authority) {
		return nil, fmt.Errorf("%s has no certificate (PEM) in it", w.spec.CAFile)
	}
	cert, err := os.ReadFile(w.spec.CertFile)
	if err != nil {
		return nil, fmt.Errorf("the service's own certificate can't be read: %w", err)
	}
	key, err := readKey(w.spec.KeyFile)
	if err != nil {
		return nil, err
	}
	own, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("the service's own certificate %s with key %s: %w", w.spec.CertFile, w.spec.KeyFile, err)
	}
	return &tls.Config{RootCAs: roots, Certificates: []tls.Certificate{own}, ServerName: w.host, MinVersion: tls.VersionTLS12}, nil
}

func (w *TLS) Daemon(ctx context.Context) (net.Conn, error) {
	config, err := w.config()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", reach.ErrRefused, err)
	}
	ctx, cancel := context.WithTimeout(ctx, AnswerTime)
	defer cancel()
	raw, err := (&net.Dialer{}).DialContext(ctx, "tcp", w.address())
	if err != nil {
		return nil, fmt.Errorf("%w: %w: %w; is the host up, and does its libvirt listen for TLS?", source.ErrUnreachable, reach.ErrUnreachable, err)
	}
	conn := tls.Client(raw, config)
	err = conn.HandshakeContext(ctx)
	if err == nil {
		// The server says by one byte whether it takes the client's certificate (libvirt, src/rpc/virnettlscontext.c).
		var said [1]byte
		conn.SetReadDeadline(time.Now().Add(AnswerTime))
		if _, err = io.ReadFull(conn, said[:]); err == nil && said[0] != 1 {
			err = errors.New("it does not take the service's certificate")
		}
		conn.SetReadDeadline(time.Time{})
	}
	if err != nil {
		raw.Close()
		return nil, w.explain(err)
	}
	return conn, nil
}

func (w *TLS) address() string {
	port := w.port
	if port == "" {
		port = tlsPort
	}
	return net.JoinHostPort(w.host, port)
}

// explain words why a handshake failed.
func (w *TLS) explain(err error) error {
	var unknown x509.UnknownAuthorityError
	var other x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &unknown), errors.As(err, &other), errors.As(err, &invalid):
		return fmt.Errorf("%w: %w; compare ca_file and the host's name with the certificate that the host shows", reach.ErrHostKey, err)
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, new(net.Error)):
		if !strings.Contains(err.Error(), "tls:") {
			return fmt.Errorf("%w: %w: %w", source.ErrUnreachable, reach.ErrUnreachable, err)
		}
	}
	return fmt.Errorf("%w: %w; does the host take the service's certificate (from the authority that it trusts, for key encipherment too, and in its tls_allowed_dn_list)?", reach.ErrRefused, err)
}

// Offer has QEMU listen at the address that the host is reached by, at one of the ports for it.
func (w *TLS) Offer(mark, _ string, try int) *libvirtxml.DomainBackupPullServer {
	spread := fnv.New32a()
	io.WriteString(spread, mark)
	port := firstPort + (spread.Sum32()+uint32(try))%Ports
	return &libvirtxml.DomainBackupPullServer{TLS: "yes", TCP: &libvirtxml.DomainBackupPullServerTCP{Name: w.host, Port: uint(port)}}
}

func (w *TLS) Export(ctx context.Context, s *libvirtxml.DomainBackupPullServer, _ int) (net.Conn, *tls.Config, error) {
	config, err := w.config()
	if err != nil {
		return nil, nil, err
	}
	conn, err := (&net.Dialer{Timeout: AnswerTime}).DialContext(ctx, "tcp", net.JoinHostPort(w.host, strconv.Itoa(int(s.TCP.Port))))
	if err != nil {
		err = fmt.Errorf("%w: %w", reach.ErrUnreachable, err)
	}
	return conn, config, err
}

func (w *TLS) Streams() int  { return streams }
func (w *TLS) Place() string { return w.address() }

func (w *TLS) Said(step string) string {
	switch step {
	case "reach":
		return "a TLS server answers at " + w.address()
	case "certificate":
		return "its certificate is from the authority of " + w.spec.CAFile
	}
	return "it takes certificate " + w.spec.CertFile
}

func (w *TLS) hangUp() {}
