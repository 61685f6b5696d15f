package ftp

import (
	"context"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// server is Debian's ProFTPD, with TLS and a certificate that nobody vouches for. Its one account is virtual, and as nobody.
type server struct {
	home, certificate string
	port              int
}

const password = "tide tables"

func start(t *testing.T, security Security) *server {
	t.Helper()
	home, err := os.MkdirTemp("", "brindle-ftp-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(home, 0o755))
	t.Cleanup(func() { os.RemoveAll(home) })
	s := &server{home: home}
	cert, key, digest := mediumtest.Certificate(t)
	s.certificate = digest
	file := func(name string, content []byte, mode os.FileMode) {
		require.NoError(t, os.WriteFile(filepath.Join(home, name), content, mode))
	}
	file("cert.pem", cert, 0o644)
	file("key.pem", key, 0o600)
	hashed, err := exec.Command("openssl", "passwd", "-1", password).Output()
	require.NoError(t, err)
	file("users", fmt.Appendf(nil, "pier:%s:65534:65534::%s:/bin/sh\n", hashed[:len(hashed)-1], home), 0o600)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	encrypted := ""
	if security != None {
		encrypted = fmt.Sprintf("LoadModule mod_tls.c\nTLSEngine on\nTLSRequired on\nTLSECCertificateFile %[1]s/cert.pem\nTLSECCertificateKeyFile %[1]s/key.pem\nTLSLog %[1]s/tls.log\n", home)
		if security == Implicit {
			encrypted += "TLSOptions UseImplicitSSL\n"
		}
	}
	file("ftp.conf", fmt.Appendf(nil, `ModulePath /usr/lib/proftpd
ServerType standalone
ServerName pier
DefaultAddress 127.0.0.1
Port %d
SocketBindTight on
UseIPv6 off
User nobody
Group nogroup
PidFile %[2]s/pid
ScoreboardFile %[2]s/scoreboard
DelayTable none
DelayEngine off
SystemLog %[2]s/system.log
WtmpLog off
TransferLog none
AuthPAM off
AuthUserFile %[2]s/users
AuthOrder mod_auth_file.c
RequireValidShell off
MaxInstances 60
UseReverseDNS off
TimesGMT on
AllowOverwrite on
AllowRetrieveRestart on
AllowStoreRestart on
HiddenStores off
%s
`, s.port, home, encrypted), 0o644)
	cmd := exec.Command("proftpd", "-n", "-c", filepath.Join(home, "ftp.conf"))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait(); exec.Command("pkill", "-f", home).Run() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, "proftpd does not start")
	return s
}

func (s *server) config(security Security, folder string) Config {
	return Config{Host: "127.0.0.1", Port: s.port, User: "pier", Password: password, Folder: folder, TLS: security, Certificate: s.certificate}
}

func (s *server) folder(t *testing.T, name string) string {
	folder := filepath.Join(s.home, name)
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, os.Chown(folder, 65534, 65534))
	return folder
}

// Explicit TLS goes through all, the others through what differs.
func TestConformance(t *testing.T) {
	s := start(t, Explicit)
	line := mediumtest.NewLine(t, fmt.Sprintf("127.0.0.1:%d", s.port))
	n, root := 0, ""
	open := func(t *testing.T, folder string) medium.Medium {
		c := s.config(Explicit, folder)
		c.Port, c.data = line.Port(), line.Dial
		f, err := Open(t.Context(), c)
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return f
	}
	mediumtest.Run(t, mediumtest.Subject{
		Costly: true,
		Open: func(t *testing.T) medium.Medium {
			n++
			root = s.folder(t, fmt.Sprintf("north pier #%d & 100%% ã", n))
			return open(t, root)
		},
		Plant: func(t *testing.T, names []string) {
			mediumtest.PlantFiles(t, root, names)
			require.NoError(t, exec.Command("chown", "-R", "nobody:nogroup", root).Run())
		},
		Full: func(t *testing.T) medium.Medium {
			small := mediumtest.SmallDisk(t)
			require.NoError(t, os.Chmod(small, 0o777))
			folder := s.folder(t, "small")
			require.NoError(t, exec.Command("mount", "--bind", small, folder).Run())
			t.Cleanup(func() { exec.Command("umount", "-l", folder).Run() })
			return open(t, folder)
		},
		Line: line,
	})
}

func TestWaysToEncrypt(t *testing.T) {
	for _, way := range []Security{Implicit, None} {
		t.Run(string(way), func(t *testing.T) {
			s := start(t, way)
			f, err := Open(t.Context(), s.config(way, s.folder(t, "images")))
			require.NoError(t, err)
			defer f.Close()
			require.NoError(t, f.Put(t.Context(), "pack/ab/abcd", []byte("0123456789")))
			got, err := f.Get(t.Context(), "pack/ab/abcd", 3, 4)
			require.NoError(t, err)
			require.Equal(t, "3456", string(got))
			text, err := f.Exposed(t.Context(), "pack/ab/abcd")
			require.NoError(t, err)
			require.Equal(t, way == None, text != "")
		})
	}
}

// What is wrong with a place is told in words, and never with a password in it.
func TestProbeSaysWhatIsWrong(t *testing.T) {
	s := start(t, Explicit)
	folder := s.folder(t, "images")
	for want, spoil := range map[string]func(*Config){
		"does not exist":       func(c *Config) { c.Folder += "/absent" },
		"not an absolute path": func(c *Config) { c.Folder = "images" },
		"was refused":          func(c *Config) { c.Password = "low tide" },
		"and not the one that": func(c *Config) { c.Certificate = "sha256:" + hex.EncodeToString(make([]byte, 32)) },
		"is the address right": func(c *Config) { c.Port = 1 },
	} {
		c := s.config(Explicit, folder)
		spoil(&c)
		steps := medium.Probe(t.Context(), false, func(ctx context.Context) (medium.Medium, error) { return Open(ctx, c) })
		require.Len(t, steps, 1, want)
		require.EqualValues(t, "failed", steps[0].State)
		require.Contains(t, steps[0].Text, want)
		require.NotContains(t, steps[0].Text, "tide")
	}
	require.ErrorContains(t, (&Settings{Host: "a", User: "b", Folder: "/c", TLS: "implict"}).Check(), `did you mean "implicit"?`)
}
