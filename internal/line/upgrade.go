package line

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"time"
)

// NotUpgraded is an answer to [Upgrade] that gives no line.
type NotUpgraded struct {
	Host   string
	Status int // of HTTP
	Text   string
}

func (e *NotUpgraded) Error() string {
	return fmt.Sprintf("%s gives no line: %d: %s", e.Host, e.Status, e.Text)
}

// Upgrade has a connection go on as another protocol (RFC 9110, section 7.8), which the host is asked for at a path.
func Upgrade(ctx context.Context, conn net.Conn, host, path, protocol string) error {
	defer context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+host+path, nil)
	if err != nil {
		return err
	}
	r.Header.Set("Connection", "Upgrade")
	r.Header.Set("Upgrade", protocol)
	if err := r.Write(conn); err != nil {
		return fmt.Errorf("ask %s for a line: %w", host, err)
	}
	in := bufio.NewReader(conn)
	answer, err := http.ReadResponse(in, r)
	if err != nil {
		return fmt.Errorf("ask %s for a line: %w", host, err)
	}
	if answer.StatusCode != http.StatusSwitchingProtocols {
		why, _ := io.ReadAll(io.LimitReader(answer.Body, 1<<10))
		answer.Body.Close()
		return &NotUpgraded{host, answer.StatusCode, string(why)}
	}
	if in.Buffered() > 0 {
		return fmt.Errorf("%s spoke before it was asked", host)
	}
	return nil
}

// Upgraded is the other side of [Upgrade], for a request that asks for the protocol. Where it does not succeed the caller is answered, and conn
// is nil.
func Upgraded(w http.ResponseWriter, r *http.Request, protocol string, refuse func(w http.ResponseWriter, status int, why string)) (conn net.Conn) {
	if r.Header.Get("Upgrade") != protocol {
		w.Header().Set("Upgrade", protocol)
		refuse(w, http.StatusUpgradeRequired, "this address is for agents' lines; ask for an upgrade to "+protocol)
		return nil
	}
	conn, _, err := http.NewResponseController(w).Hijack()
	if err != nil {
		refuse(w, http.StatusHTTPVersionNotSupported, "a line begins with HTTP/1.1")
		return nil
	}
	conn.SetDeadline(time.Time{})
	if _, err := conn.Write([]byte("HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: " + protocol + "\r\n\r\n")); err != nil {
		conn.Close()
		return nil
	}
	return conn
}
