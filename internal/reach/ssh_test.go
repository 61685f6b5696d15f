package reach

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"keenlodge/internal/reach/reachtest"
)

func of(h reachtest.SSHD) SSH {
	return SSH{Host: "127.0.0.1", Port: h.Port, User: h.Account, HostKey: h.HostKey, PrivateKey: h.Private}
}

// echo is a socket at which what is said comes back.
func echo(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "echo")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { io.Copy(c, c); c.Close() }()
		}
	}()
	return path
}

func TestSocketsThroughSSH(t *testing.T) {
	socket := echo(t)
	// A server that gives no session at all, and only one connection's worth of anything, is enough.
	line, err := of(reachtest.Start(t, "MaxSessions 0")).Dial(t.Context())
	require.NoError(t, err)
	defer line.Close()
	require.True(t, line.Answers(10*time.Second))
	for range 20 {
		c, err := line.Socket(t.Context(), socket)
		require.NoError(t, err)
		_, err = io.WriteString(c, "high tide")
		require.NoError(t, err)
		said := make([]byte, 9)
		_, err = io.ReadFull(c, said)
		require.NoError(t, err)
		require.Equal(t, "high tide", string(said))
		c.Close()
	}
	_, err = line.Socket(t.Context(), "/nowhere/sock")
	require.ErrorIs(t, err, ErrNoSocket)
	require.ErrorContains(t, err, "nobody listens there, the account may not open it")
	require.NoError(t, line.Close())
	require.False(t, line.Answers(time.Second))
	_, err = line.Socket(t.Context(), socket)
	require.ErrorIs(t, err, ErrUnreachable)

	closed, err := of(reachtest.Start(t, "AllowStreamLocalForwarding no")).Dial(t.Context())
	require.NoError(t, err)
	defer closed.Close()
	_, err = closed.Socket(t.Context(), socket)
	require.ErrorIs(t, err, ErrNoSocket)
	require.ErrorContains(t, err, "AllowStreamLocalForwarding")
}

// What goes wrong is told by what it is: who is there, whether it is the right one, and whether it lets us in.
func TestHowFarItCame(t *testing.T) {
	h, other := reachtest.Start(t), reachtest.Start(t)
	for want, c := range map[string]struct {
		of    error
		spoil func(*SSH)
	}{
		"connection refused":                   {ErrUnreachable, func(c *SSH) { c.Port = 1 }},
		"the host shows another key":           {ErrHostKey, func(c *SSH) { c.HostKey = other.HostKey }},
		"write it as in a known_hosts file":    {ErrHostKey, func(c *SSH) { c.HostKey = "low tide" }},
		"the host has no key of the kind":      {ErrHostKey, func(c *SSH) { c.HostKey = ecdsa(t) }},
		"user " + h.Account + " with this key": {ErrRefused, func(c *SSH) { c.PrivateKey = other.Private }},
		"must be in PEM form":                  {ErrRefused, func(c *SSH) { c.PrivateKey = "low tide" }},
		"neither a key nor a password":         {ErrRefused, func(c *SSH) { c.PrivateKey = "" }},
		"SSH_AUTH_SOCK is not set":             {ErrRefused, func(c *SSH) { c.PrivateKey, c.Agent = "", true; t.Setenv("SSH_AUTH_SOCK", "") }},
	} {
		wrong := of(h)
		c.spoil(&wrong)
		_, err := wrong.Dial(t.Context())
		require.ErrorIs(t, err, c.of, want)
		require.ErrorContains(t, err, want)
		require.NotContains(t, err.Error(), "PRIVATE KEY")
	}
	require.ErrorIs(t, ErrHostKey, ErrRefused)
}

// ecdsa is a host key of a kind that the servers do not have.
func ecdsa(t *testing.T) string {
	const line = "ecdsa-sha2-nistp256 AAAAE2VjZHNhLXNoYTItbmlzdHAyNTYAAAAIbmlzdHAyNTYAAABBBEmKSENjQEezOmxkZMy7opKgwFB9nkt5YRrYMjNuG5N87uRgg6CLrbo5wAdT/y6v0mKV0U2w0WZ2YB/++Tpockg="
	_, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	require.NoError(t, err)
	return line
}

// The keys of an agent sign in.
func TestAnAgent(t *testing.T) {
	h := reachtest.Start(t)
	key, err := ssh.ParseRawPrivateKey([]byte(h.Private))
	require.NoError(t, err)
	ring := agent.NewKeyring()
	require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: key}))
	socket := filepath.Join(t.TempDir(), "agent")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go agent.ServeAgent(ring, c)
		}
	}()
	t.Setenv("SSH_AUTH_SOCK", socket)
	c := of(h)
	c.PrivateKey, c.Agent = "", true
	line, err := c.Dial(t.Context())
	require.NoError(t, err)
	require.NoError(t, line.Close())
}

// A host that takes its time is waited for, one that takes too long is not.
func TestAHostThatIsSlowToAnswer(t *testing.T) {
	defer func(was time.Duration) { dialTime = was }(dialTime)
	dialTime = 2 * time.Second
	h := reachtest.Start(t)
	slow := func(after time.Duration) SSH {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		go func() {
			from, err := l.Accept()
			if err != nil {
				return
			}
			time.Sleep(after) // this is what is tested
			to, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", h.Port))
			if err != nil {
				return
			}
			go func() { io.Copy(to, from); to.Close() }()
			io.Copy(from, to)
			from.Close()
		}()
		c := of(h)
		c.Port = l.Addr().(*net.TCPAddr).Port
		return c
	}
	line, err := slow(dialTime / 4).Dial(t.Context())
	require.NoError(t, err)
	line.Close()
	begun := time.Now()
	_, err = slow(time.Hour).Dial(t.Context())
	require.ErrorIs(t, err, ErrUnreachable)
	require.ErrorContains(t, err, "no answer within 2s")
	require.Less(t, time.Since(begun), 30*time.Second)
}

func TestMain(m *testing.M) {
	os.Setenv("HOME", "/nonexistent") // nobody's known hosts count
	os.Exit(m.Run())
}
