// Package reach makes connections to other hosts: by SSH (RFC 4251 to 4254), with a host key that is known, and through it to sockets there.
package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"
)

// dialTime is how long a host may take to answer and to take us in. Tests shorten it.
var dialTime = 20 * time.Second

const (
	// A line on which no answer to a sign of life came within lifeTime is taken for cut.
	lifeEvery = 15 * time.Second
	lifeTime  = 45 * time.Second
)

var (
	// ErrUnreachable marks a host that is not known, does not answer, or whose line was cut. It may pass.
	ErrUnreachable = errors.New("can't be reached")
	// ErrRefused marks a key, password or host key that was not accepted, or something that the host does not allow; ErrHostKey is the one of
	// them that is ours: the host is not the one that is known.
	ErrRefused = errors.New("was refused")
	ErrHostKey = fmt.Errorf("%w", ErrRefused)
	// ErrNoSocket marks a socket that can't be opened.
	ErrNoSocket = errors.New("can't be opened")
)

// SSH says which host is meant, how it is known, and who signs in there.
type SSH struct {
	Host string
	Port int // 0 is 22
	User string
	// HostKey is the host's public key as in an authorized_keys file ("ssh-ed25519 AAAA…"). Empty: the known_hosts files of the account that
	// runs the lodge, and of the system.
	HostKey string
	// Password or PrivateKey (PEM, without a passphrase) signs in; Agent says that the keys of the account's SSH agent do, as SSH_AUTH_SOCK
	// names it.
	Password, PrivateKey string
	Agent                bool
}

// Line is a connection to a host. Close it.
type Line struct {
	*ssh.Client
	once sync.Once
	gone chan struct{}
}

// Dial signs in. Errors wrap [ErrUnreachable], [ErrHostKey] or [ErrRefused], and bear no secret.
func (c SSH) Dial(ctx context.Context) (*Line, error) {
	check, algorithms, err := c.hostKeys()
	if err != nil {
		return nil, err
	}
	auth, done, err := c.auth()
	if err != nil {
		return nil, err
	}
	defer done()
	port := c.Port
	if port == 0 {
		port = 22
	}
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	address := net.JoinHostPort(c.Host, strconv.Itoa(port))
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrUnreachable, err)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() }) // the handshake knows no context
	sc, channels, requests, err := ssh.NewClientConn(conn, address, &ssh.ClientConfig{User: c.User, Auth: auth, HostKeyCallback: check, HostKeyAlgorithms: algorithms})
	if late := !stop(); late || err != nil {
		conn.Close()
		if late {
			err = nil
		}
		return nil, c.explain(err)
	}
	l := &Line{Client: ssh.NewClient(sc, channels, requests), gone: make(chan struct{})}
	go func() { l.Wait(); l.Close() }()
	go l.keepAlive()
	return l, nil
}

// auth is how to sign in, and what to call when that is over.
func (c SSH) auth() (methods []ssh.AuthMethod, done func(), err error) {
	done = func() {}
	switch {
	case c.PrivateKey != "":
		key, err := ssh.ParsePrivateKey([]byte(c.PrivateKey))
		if err != nil {
			return nil, nil, fmt.Errorf("%w: the private key can't be read; it must be in PEM form and without a passphrase", ErrRefused)
		}
		return []ssh.AuthMethod{ssh.PublicKeys(key)}, done, nil
	case c.Password != "":
		return []ssh.AuthMethod{ssh.Password(c.Password)}, done, nil
	case c.Agent:
		socket := os.Getenv("SSH_AUTH_SOCK")
		if socket == "" {
			return nil, nil, fmt.Errorf("%w: no key file is named, and the service has no SSH agent (SSH_AUTH_SOCK is not set)", ErrRefused)
		}
		conn, err := net.DialTimeout("unix", socket, dialTime)
		if err != nil {
			return nil, nil, fmt.Errorf("%w: the SSH agent at %s does not answer: %v", ErrRefused, socket, err)
		}
		return []ssh.AuthMethod{ssh.PublicKeysCallback(agent.NewClient(conn).Signers)}, func() { conn.Close() }, nil
	}
	return nil, nil, fmt.Errorf("%w: this lodge has neither a key nor a password for it", ErrRefused)
}

// explain words why a handshake failed.
func (c SSH) explain(err error) error {
	var unknown *knownhosts.KeyError
	switch {
	case err == nil:
		return fmt.Errorf("%w: no answer within %s", ErrUnreachable, dialTime)
	case errors.As(err, &unknown) && len(unknown.Want) == 0:
		return fmt.Errorf("%w: the host's key is not known here (%v); compare it with the host's own and set it as the host key", ErrHostKey, err)
	case errors.As(err, &unknown), errors.Is(err, errOtherKey):
		return fmt.Errorf("%w: the host shows another key than the one that is known (%v); somebody may be in between, or it was set up anew", ErrHostKey, err)
	case strings.Contains(err.Error(), "no common algorithm for host key"):
		return fmt.Errorf("%w: the host has no key of the kind that is known (%v); somebody may be in between, or it was set up anew", ErrHostKey, err)
	case strings.Contains(err.Error(), "unable to authenticate"):
		return fmt.Errorf("%w: user %s with this key or password", ErrRefused, c.User)
	}
	return fmt.Errorf("%w: %v", ErrUnreachable, err)
}

var errOtherKey = errors.New("host key mismatch")

// hostKeys tells how the host's key is checked, and which kinds to ask for.
func (c SSH) hostKeys() (ssh.HostKeyCallback, []string, error) {
	if c.HostKey != "" {
		want, _, _, _, err := ssh.ParseAuthorizedKey([]byte(c.HostKey))
		if err != nil {
			return nil, nil, fmt.Errorf("%w: host key %q: %w; write it as in a known_hosts file, without the host's name", ErrHostKey, c.HostKey, err)
		}
		check := func(_ string, _ net.Addr, got ssh.PublicKey) error {
			if string(got.Marshal()) != string(want.Marshal()) {
				return fmt.Errorf("%w: it has %s", errOtherKey, ssh.FingerprintSHA256(got))
			}
			return nil
		}
		algorithms := []string{want.Type()}
		if want.Type() == ssh.KeyAlgoRSA {
			algorithms = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
		}
		return check, algorithms, nil
	}
	var files []string
	home, _ := os.UserHomeDir() // without one the system's file is left
	for _, file := range []string{filepath.Join(home, ".ssh", "known_hosts"), "/etc/ssh/ssh_known_hosts"} {
		if _, err := os.Stat(file); err == nil {
			files = append(files, file)
		}
	}
	known, err := knownhosts.New(files...)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: the known hosts can't be read: %w; mend the file, or set the host key", ErrHostKey, err)
	}
	return func(host string, address net.Addr, got ssh.PublicKey) error {
		err := known(host, address, got)
		var unknown *knownhosts.KeyError
		if errors.As(err, &unknown) && len(unknown.Want) == 0 {
			return fmt.Errorf("%w: it shows %s", err, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(got))))
		}
		return err
	}, nil, nil
}

// keepAlive closes a line on which nobody answers any more: whoever waits on it then fails, and tries another.
func (l *Line) keepAlive() {
	tick := time.NewTicker(lifeEvery)
	defer tick.Stop()
	for {
		select {
		case <-l.gone:
			return
		case <-tick.C:
			if !l.Answers(lifeTime) {
				l.Close()
				return
			}
		}
	}
}

// Answers reports whether the host gives a sign of life within a time.
func (l *Line) Answers(within time.Duration) bool {
	answer := make(chan error, 1)
	go func() { _, _, err := l.SendRequest("keepalive@openssh.com", true, nil); answer <- err }()
	late := time.NewTimer(within)
	defer late.Stop()
	select {
	case err := <-answer:
		return err == nil
	case <-l.gone:
	case <-late.C:
	}
	return false
}

// Close ends the line, and all that goes through it.
func (l *Line) Close() error {
	l.once.Do(func() { close(l.gone); l.Client.Close() })
	return nil
}

// Socket connects to a Unix socket on the host (OpenSSH's PROTOCOL, section 2.4). It needs neither a shell there nor one of the sessions that a
// host may limit. Errors wrap [ErrNoSocket] or [ErrUnreachable].
func (l *Line) Socket(ctx context.Context, path string) (net.Conn, error) {
	type opened struct {
		conn net.Conn
		err  error
	}
	done := make(chan opened, 1)
	go func() {
		conn, err := l.Client.Dial("unix", path)
		done <- opened{conn, err}
	}()
	ctx, cancel := context.WithTimeoutCause(ctx, dialTime, fmt.Errorf("no answer within %s", dialTime))
	defer cancel()
	select {
	case o := <-done:
		var told *ssh.OpenChannelError
		switch {
		case o.err == nil:
			return o.conn, nil
		case errors.As(o.err, &told):
			return nil, fmt.Errorf("socket %s: %w: nobody listens there, the account may not open it, or the host's SSH server lets nobody through to sockets (AllowStreamLocalForwarding): %s", path, ErrNoSocket, told.Message)
		}
		return nil, fmt.Errorf("socket %s: %w: %w", path, ErrUnreachable, o.err)
	case <-ctx.Done():
		go func() { // one that opens late is nobody's
			if o := <-done; o.conn != nil {
				o.conn.Close()
			}
		}()
		return nil, fmt.Errorf("socket %s: %w: %w", path, ErrUnreachable, context.Cause(ctx))
	}
}
