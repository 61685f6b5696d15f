// Package reachtest has an SSH server to test against.
package reachtest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// SSHD is an sshd of Debian's, with keys of its own, on loopback.
type SSHD struct {
	Port int
	// Account may sign in with the key Private (PEM); HostKey is the server's, as a line of an authorized_keys file.
	Account, Private, HostKey string
}

// Start starts a server until the test ends; more are lines for its settings, of which the first of a kind counts.
func Start(t testing.TB, more ...string) SSHD {
	folder := t.TempDir()
	for _, name := range []string{"host", "user"} {
		out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(folder, name)).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // it insists
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := listener.Addr().(*net.TCPAddr).Port
	listener.Close()
	settings := append(more, fmt.Sprintf("Port %d", port), "ListenAddress 127.0.0.1", "HostKey "+folder+"/host", "AuthorizedKeysFile "+folder+"/user.pub", "StrictModes no", "UsePAM no",
		"PermitRootLogin yes", "PasswordAuthentication no", "PidFile none", "MaxStartups 100")
	if !slices.ContainsFunc(more, func(line string) bool { return strings.HasPrefix(line, "Subsystem") }) { // it may be there once only
		settings = append(settings, "Subsystem sftp internal-sftp")
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "config"), []byte(strings.Join(settings, "\n")+"\n"), 0o600))
	cmd := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(folder, "config"))
	log, err := os.Create(filepath.Join(folder, "log"))
	require.NoError(t, err)
	defer log.Close()
	cmd.Stderr = log
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	read := func(name string) string {
		body, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		return string(body)
	}
	me, err := user.Current()
	require.NoError(t, err)
	return SSHD{port, me.Username, read("user"), read("host.pub")}
}
