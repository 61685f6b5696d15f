package switchboard

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"time"

	"keenlodge/internal/line"
)

// Protocol is what another process of the lodge asks to upgrade to, at an agent's own path below [line.Path], to use the agent's line.
const Protocol = "keenlodge-passing"

const (
	// passingTime is how long another process may take to pass a line on.
	passingTime = 10 * time.Second
	// idleTime is how long a passed line that nobody uses is kept.
	idleTime = 5 * time.Minute
	// proofSize is the bytes of a proof.
	proofSize = sha256.Size
)

// passed is a line that another process has.
type passed struct {
	*line.Line
	used time.Time
}

// secret is the name in the vault of what all processes of the lodge have in common and nobody else: by it they know each other.
const secret = "passing"

// key reads that, or makes it. Processes that make one at the same time make one.
func (b *Board) key(ctx context.Context) (key []byte, err error) {
	found, err := b.vault.Get(ctx, secret, &key)
	if err == nil && !found {
		key = make([]byte, sha256.Size)
		rand.Read(key)
		if err = b.vault.SetOnce(ctx, secret, key); err == nil {
			_, err = b.vault.Get(ctx, secret, &key)
		}
	}
	if err == nil && len(key) != sha256.Size {
		err = errors.New("it is not to be understood")
	}
	if err != nil {
		return nil, fmt.Errorf("the key by which processes of the lodge know each other: %w", err)
	}
	return key, nil
}

// prove proves, on this connection and no other, that whoever has the processes' common key says so. What the TLS of both ends exports (RFC 8446,
// section 7.5) is different where somebody stands between them, so it does not matter what certificate the other process shows.
func prove(conn net.Conn, key []byte, says, agent string) ([]byte, error) {
	secure, ok := conn.(*tls.Conn)
	if !ok {
		return nil, errors.New("lines are passed on over TLS")
	}
	state := secure.ConnectionState()
	exported, err := state.ExportKeyingMaterial("EXPORTER-keenlodge-passing", nil, sha256.Size)
	if err != nil {
		return nil, err
	}
	h := hmac.New(sha256.New, key)
	fmt.Fprintf(h, "%s\x00%s\x00", says, agent)
	h.Write(exported)
	return h.Sum(nil), nil
}

// What the two ends say.
const asks, passes = "asks", "passes"

// heed reads a proof, and checks it.
func heed(conn net.Conn, key []byte, says, agent string) error {
	want, err := prove(conn, key, says, agent)
	if err != nil {
		return err
	}
	got := make([]byte, proofSize)
	if _, err := io.ReadFull(conn, got); err != nil {
		return err
	}
	if !hmac.Equal(got, want) {
		return errors.New("it is no process of this lodge, or has another vault")
	}
	return nil
}

// tellProof sends a proof.
func tellProof(conn net.Conn, key []byte, says, agent string) error {
	proof, err := prove(conn, key, says, agent)
	if err == nil {
		_, err = conn.Write(proof)
	}
	return err
}

// Pass passes an agent's line on to another process of the lodge, on a connection that it made, until either of the two ends. The connection
// is closed then.
func (b *Board) Pass(ctx context.Context, name string, conn net.Conn) error {
	defer conn.Close()
	key, err := b.key(ctx)
	if err != nil {
		return err
	}
	conn.SetDeadline(time.Now().Add(passingTime))
	if err := heed(conn, key, asks, name); err != nil {
		return err
	}
	b.mu.Lock()
	h := b.lines[name]
	b.mu.Unlock()
	if h == nil {
		return nil // it has ended; the other process looks again
	}
	if err := tellProof(conn, key, passes, name); err != nil {
		return err
	}
	conn.SetDeadline(time.Time{})
	return h.Pass(ctx, conn)
}

// passedOn is an agent's line that another process, which is reached at an address, has.
func (b *Board) passedOn(ctx context.Context, name, at string) (*line.Line, error) {
	key, err := b.key(ctx)
	if err != nil {
		return nil, err
	}
	ctx, end := context.WithTimeout(ctx, passingTime)
	defer end()
	// The proofs say whom this is. HTTP/2 has no upgrade.
	conn, err := (&tls.Dialer{Config: &tls.Config{MinVersion: tls.VersionTLS13, InsecureSkipVerify: true, NextProtos: []string{"http/1.1"}}}).DialContext(ctx, "tcp", at)
	if err != nil {
		return nil, err
	}
	defer context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })()
	l, err := func() (*line.Line, error) {
		if err := line.Upgrade(ctx, conn, at, line.Path+"/"+url.PathEscape(name), Protocol); err != nil {
			return nil, err
		}
		if err := tellProof(conn, key, asks, name); err != nil {
			return nil, err
		}
		if err := heed(conn, key, passes, name); err != nil {
			return nil, err
		}
		return line.Over(conn)
	}()
	if err != nil {
		conn.Close()
		return nil, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if other := b.passed[name]; other != nil && !ended(other.Line) { // somebody else here was faster
		l.Close()
		return other.Line, nil
	}
	b.passed[name] = &passed{l, time.Now()}
	return l, nil
}

// dropPassed lets go of lines of other processes that have ended, or that nobody has used for long.
func (b *Board) dropPassed() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for name, p := range b.passed {
		if !p.Idle() {
			p.used = time.Now()
		}
		if ended(p.Line) || time.Since(p.used) > idleTime {
			p.Close()
			delete(b.passed, name)
		}
	}
}

// ended reports whether a line is there no more.
func ended(l *line.Line) bool {
	select {
	case <-l.Closed():
		return true
	default:
		return false
	}
}
