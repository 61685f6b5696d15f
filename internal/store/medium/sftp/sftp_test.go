package sftp

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	pkgsftp "github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"keenlodge/internal/reach/reachtest"
	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

func config(h reachtest.SSHD, folder string) Config {
	return Config{Host: "127.0.0.1", Port: h.Port, User: h.Account, Folder: folder, HostKey: h.HostKey, PrivateKey: h.Private}
}

func TestConformance(t *testing.T) {
	h := reachtest.Start(t)
	line := mediumtest.NewLine(t, fmt.Sprintf("127.0.0.1:%d", h.Port))
	h.Port = line.Port()
	var root string
	open := func(t *testing.T, folder string) medium.Medium {
		f, err := Open(t.Context(), config(h, folder))
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return f
	}
	mediumtest.Run(t, mediumtest.Subject{
		Costly: true,
		Open: func(t *testing.T) medium.Medium {
			root = filepath.Join(t.TempDir(), "north pier #1 & 100% ã")
			require.NoError(t, os.Mkdir(root, 0o700))
			return open(t, root)
		},
		Plant: func(t *testing.T, names []string) { mediumtest.PlantFiles(t, root, names) },
		Full:  func(t *testing.T) medium.Medium { return open(t, mediumtest.SmallDisk(t)) },
		Line:  line,
	})
}

// What is wrong with a place is told in words.
func TestProbeSaysWhatIsWrong(t *testing.T) {
	h := reachtest.Start(t)
	other := reachtest.Start(t)
	folder := t.TempDir()
	t.Setenv("HOME", t.TempDir()) // no known hosts
	for want, spoil := range map[string]func(*Config){
		"does not exist":                  func(c *Config) { c.Folder = filepath.Join(folder, "absent") },
		"not an absolute path":            func(c *Config) { c.Folder = "images" },
		"was refused: user":               func(c *Config) { c.PrivateKey = other.Private },
		"neither a key nor a password":    func(c *Config) { c.PrivateKey = "" },
		"another key than the one that":   func(c *Config) { c.HostKey = other.HostKey },
		"key is not known here":           func(c *Config) { c.HostKey = "" },
		"the private key can't be read":   func(c *Config) { c.PrivateKey = "tide tables" },
		"is the address right, the host":  func(c *Config) { c.Host = "absent.brindle.example" },
		"can't be reached: dial tcp 127.": func(c *Config) { c.Port = 1 },
	} {
		c := config(h, folder)
		spoil(&c)
		steps := medium.Probe(t.Context(), false, func(ctx context.Context) (medium.Medium, error) { return Open(ctx, c) })
		require.Len(t, steps, 1, want)
		require.EqualValues(t, "failed", steps[0].State)
		require.Contains(t, steps[0].Text, want)
		require.NotContains(t, steps[0].Text, "tide tables")
		require.NotContains(t, steps[0].Text, "PRIVATE KEY")
	}
	// A host whose key is known by the account's own file.
	home := os.Getenv("HOME")
	require.NoError(t, os.Mkdir(filepath.Join(home, ".ssh"), 0o700))
	known := fmt.Sprintf("[127.0.0.1]:%d %s", h.Port, h.HostKey)
	require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"), []byte(known), 0o600))
	c := config(h, folder)
	c.HostKey = ""
	f, err := Open(t.Context(), c)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// A password signs in where the host takes one. Debian's sshd would need an account with a password for this, so the host is a
// library's.
func TestPassword(t *testing.T) {
	pair, err := ssh.ParsePrivateKey([]byte(reachtest.Start(t).Private))
	require.NoError(t, err)
	config := &ssh.ServerConfig{PasswordCallback: func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if string(password) == "tide tables" {
			return nil, nil
		}
		return nil, fmt.Errorf("no")
	}}
	config.AddHostKey(pair)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go serveSFTP(conn, config)
		}
	}()
	c := Config{Host: "127.0.0.1", Port: listener.Addr().(*net.TCPAddr).Port, User: "pier", Folder: t.TempDir(),
		HostKey: string(ssh.MarshalAuthorizedKey(pair.PublicKey())), Password: "tide tables"}
	f, err := Open(t.Context(), c)
	require.NoError(t, err)
	require.NoError(t, f.Put(t.Context(), "image/x", []byte("x")))
	require.NoError(t, f.Close())
	c.Password = "time tables"
	_, err = Open(t.Context(), c)
	require.ErrorIs(t, err, medium.ErrRefused)
	require.False(t, strings.Contains(err.Error(), "time tables"))
}

func serveSFTP(conn net.Conn, config *ssh.ServerConfig) {
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for offered := range channels {
		channel, requests, err := offered.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				r.Reply(r.Type == "subsystem", nil)
			}
		}()
		if server, err := pkgsftp.NewServer(channel); err == nil {
			server.Serve()
		}
	}
}

// A server that can't be told to write through is used, and said to be one; every other server is not.
func TestAServerThatDoesNotWriteThrough(t *testing.T) {
	for _, denied := range [][]string{nil, {"Subsystem sftp internal-sftp -P fsync"}} {
		h := reachtest.Start(t, denied...)
		m, err := Open(t.Context(), config(h, t.TempDir()))
		require.NoError(t, err)
		defer m.Close()
		text, err := m.Lasts(t.Context())
		require.NoError(t, err)
		if denied == nil {
			require.Empty(t, text)
		} else {
			require.Contains(t, text, "it lacks fsync@openssh.com")
		}
		require.NoError(t, m.Put(t.Context(), "pack/tide", []byte("table")))
		body, err := m.Get(t.Context(), "pack/tide", 0, -1)
		require.NoError(t, err)
		require.Equal(t, "table", string(body))
	}
}
