package smb

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/store/medium"
	"keenlodge/internal/store/medium/mediumtest"
)

// server is Debian's Samba, which insists on encryption. Its one account is nobody's.
type server struct {
	root string
	port int
}

const password = "tide tables"

func start(t *testing.T) *server {
	t.Helper()
	home, err := os.MkdirTemp("", "brindle-smb-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(home, 0o755))
	t.Cleanup(func() { os.RemoveAll(home) })
	s := &server{root: filepath.Join(home, "files")}
	for _, folder := range []string{"files", "private", "lock", "state", "cache", "pid", "ncalrpc", "log"} {
		require.NoError(t, os.Mkdir(filepath.Join(home, folder), 0o755))
	}
	require.NoError(t, os.Chown(s.root, 65534, 65534))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	conf := filepath.Join(home, "smb.conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, `[global]
server role = standalone server
smb ports = %d
interfaces = lo
bind interfaces only = yes
disable netbios = yes
private dir = %[2]s/private
lock directory = %[2]s/lock
state directory = %[2]s/state
cache directory = %[2]s/cache
pid directory = %[2]s/pid
ncalrpc dir = %[2]s/ncalrpc
log file = %[2]s/log/smbd.log
passdb backend = tdbsam:%[2]s/private/passdb.tdb
server signing = mandatory
smb encrypt = required
server min protocol = SMB3
load printers = no
[images]
path = %[2]s/files
read only = no
guest ok = no
`, s.port, home), 0o644))
	set := exec.Command("smbpasswd", "-c", conf, "-s", "-a", "nobody")
	set.Stdin = strings.NewReader(password + "\n" + password + "\n")
	out, err := set.CombinedOutput()
	require.NoError(t, err, string(out))
	cmd := exec.Command("smbd", "--foreground", "--no-process-group", "-s", conf)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait(); exec.Command("pkill", "-f", conf).Run() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond, "smbd does not start")
	return s
}

func (s *server) config(folder string) Config {
	return Config{Host: "127.0.0.1", Port: s.port, User: "nobody", Password: password, Share: "images", Folder: folder}
}

func (s *server) folder(t *testing.T, name string) {
	folder := filepath.Join(s.root, name)
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, os.Chown(folder, 65534, 65534))
}

func TestConformance(t *testing.T) {
	s := start(t)
	line := mediumtest.NewLine(t, fmt.Sprintf("127.0.0.1:%d", s.port))
	n, root := 0, ""
	open := func(t *testing.T, folder string) medium.Medium {
		c := s.config(folder)
		c.Port = line.Port()
		f, err := Open(t.Context(), c)
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return f
	}
	mediumtest.Run(t, mediumtest.Subject{
		Costly: true,
		Open: func(t *testing.T) medium.Medium {
			n++
			name := fmt.Sprintf("north pier #%d & 100%% ã", n)
			s.folder(t, name)
			root = filepath.Join(s.root, name)
			return open(t, name)
		},
		Plant: func(t *testing.T, names []string) {
			mediumtest.PlantFiles(t, root, names)
			require.NoError(t, exec.Command("chown", "-R", "nobody:nogroup", root).Run())
		},
		Full: func(t *testing.T) medium.Medium {
			small := mediumtest.SmallDisk(t)
			require.NoError(t, os.Chmod(small, 0o777))
			s.folder(t, "small")
			require.NoError(t, exec.Command("mount", "--bind", small, filepath.Join(s.root, "small")).Run())
			t.Cleanup(func() { exec.Command("umount", "-l", filepath.Join(s.root, "small")).Run() })
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
		"does not exist":          func(c *Config) { c.Folder = "absent" },
		"share pictures does not": func(c *Config) { c.Share = "pictures" },
		"was refused":             func(c *Config) { c.Password = "low tide" },
		"is the address right":    func(c *Config) { c.Port = 1 },
	} {
		c := s.config("images")
		spoil(&c)
		steps := medium.Probe(t.Context(), false, func(ctx context.Context) (medium.Medium, error) { return Open(ctx, c) })
		require.Len(t, steps, 1, want)
		require.EqualValues(t, "failed", steps[0].State)
		require.Contains(t, steps[0].Text, want)
		require.NotContains(t, steps[0].Text, "tide")
	}
	require.ErrorContains(t, (&Settings{Host: "a", User: "b", Share: "c/d"}).Check(), "is a name, with no path")
	require.ErrorContains(t, (&Settings{Host: "a", User: "b", Share: "c", Folder: "../d"}).Check(), "is no path below")
	require.Equal(t, "smb://b@a/images/pier", (&Settings{Host: "a", User: "b", Share: "Images", Folder: "/Pier/"}).Location())
}
