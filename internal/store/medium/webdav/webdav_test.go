package webdav

import (
	"context"
	"encoding/hex"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// server is Debian's Apache with its module for WebDAV, over TLS with a certificate that nobody vouches for. It runs as nobody, and shows what is below a
// folder that is nobody's.
type server struct {
	root, certificate string
	port              int
}

const password = "tide tables"

func start(t *testing.T) *server {
	t.Helper()
	home, err := os.MkdirTemp("", "brindle-dav-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(home, 0o755))
	t.Cleanup(func() { os.RemoveAll(home) })
	s := &server{root: filepath.Join(home, "files")}
	for _, folder := range []string{"files", "lock", "run"} {
		require.NoError(t, os.Mkdir(filepath.Join(home, folder), 0o700))
		require.NoError(t, os.Chown(filepath.Join(home, folder), 65534, 65534))
	}
	cert, key, digest := mediumtest.Certificate(t)
	s.certificate = digest
	file := func(name string, content []byte, mode os.FileMode) {
		require.NoError(t, os.WriteFile(filepath.Join(home, name), content, mode))
	}
	file("cert.pem", cert, 0o644)
	file("key.pem", key, 0o600)
	hashed, err := exec.Command("openssl", "passwd", "-apr1", password).Output()
	require.NoError(t, err)
	file("users", append([]byte("pier:"), hashed...), 0o644)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	modules := ""
	for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "dav", "dav_fs", "ssl", "socache_shmcb"} {
		modules += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", m)
	}
	file("apache.conf", fmt.Appendf(nil, `%s
ServerRoot %s
ServerName 127.0.0.1
Listen 127.0.0.1:%d
PidFile run/pid
ErrorLog error.log
User nobody
Group nogroup
DocumentRoot files
DavLockDB lock/db
SSLEngine on
SSLCertificateFile cert.pem
SSLCertificateKeyFile key.pem
<Directory %s>
  Dav On
  DavDepthInfinity off
  AuthType Basic
  AuthName pier
  AuthUserFile %[2]s/users
  Require valid-user
</Directory>
`, modules, home, s.port, s.root), 0o644)
	cmd := exec.Command("apache2", "-d", home, "-f", filepath.Join(home, "apache.conf"), "-DFOREGROUND")
	cmd.Env = append(os.Environ(), "APACHE_RUN_DIR="+home+"/run")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); exec.Command("pkill", "-f", home+"/apache.conf").Run(); cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, "apache2 does not start")
	return s
}

func (s *server) config(port int, folder string) Config {
	return Config{Address: fmt.Sprintf("https://127.0.0.1:%d/%s", port, url.PathEscape(folder)), User: "pier", Password: password, Certificate: s.certificate}
}

func (s *server) folder(t *testing.T, name string) string {
	folder := filepath.Join(s.root, name)
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, os.Chown(folder, 65534, 65534))
	return folder
}

func TestConformance(t *testing.T) {
	s := start(t)
	line := mediumtest.NewLine(t, fmt.Sprintf("127.0.0.1:%d", s.port))
	n, root := 0, ""
	open := func(t *testing.T, folder string) medium.Medium {
		f, err := Open(t.Context(), s.config(line.Port(), folder))
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return f
	}
	mediumtest.Run(t, mediumtest.Subject{
		Costly: true,
		Open: func(t *testing.T) medium.Medium {
			n++
			name := fmt.Sprintf("north pier #%d & 100%% ã", n)
			root = s.folder(t, name)
			return open(t, name)
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
			return open(t, "small")
		},
		Line: line,
	})
}

// What is wrong with a place is told in words, and never with a password in it.
func TestProbeSaysWhatIsWrong(t *testing.T) {
	s := start(t)
	s.folder(t, "images")
	for want, spoil := range map[string]func(*Config){
		"does not exist":       func(c *Config) { c.Address += "/absent" },
		"was refused":          func(c *Config) { c.Password = "low tide" },
		"and not the one that": func(c *Config) { c.Certificate = "sha256:" + hex.EncodeToString(make([]byte, 32)) },
		"certificate":          func(c *Config) { c.Certificate = "" },
		"not one; write for":   func(c *Config) { c.Address = "files.brindle.example" },
		"is the address right": func(c *Config) { c.Address = "https://127.0.0.1:1/images" },
	} {
		c := s.config(s.port, "images")
		spoil(&c)
		steps := medium.Probe(t.Context(), false, func(ctx context.Context) (medium.Medium, error) { return Open(ctx, c) })
		require.Len(t, steps, 1, want)
		require.EqualValues(t, "failed", steps[0].State)
		require.Contains(t, steps[0].Text, want)
		require.NotContains(t, steps[0].Text, "tide")
	}
	require.ErrorContains(t, (&Settings{Address: "https://pier:x@files.brindle.example/"}).Check(), "with no password in it")
	require.ErrorContains(t, (&Settings{Address: "https://files.brindle.example/", Certificate: "sha256:12"}).Check(), "is not sha256:")
	require.NoError(t, (&Settings{Address: "https://files.brindle.example/", Certificate: s.certificate}).Check())
}
