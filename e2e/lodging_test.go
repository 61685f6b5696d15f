package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// lodging is a lodge of a test's own, with as many processes as it likes.
type lodging struct {
	t                      *testing.T
	database, state, token string
	logs                   []string
}

func newLodging(t *testing.T) *lodging {
	url, err := place.NewDatabase(t.Context(), fmt.Sprint("door", time.Now().UnixNano()))
	require.NoError(t, err)
	l := &lodging{t: t, database: url, state: t.TempDir()}
	l.token = filepath.Join(l.state, "token")
	require.NoError(t, place.NewToken(t.Context(), url, "first", l.token))
	return l
}

// run makes a command of the program, in the lodge's environment.
func (l *lodging) run(args ...string) *exec.Cmd {
	cmd := exec.Command(place.Program, args...)
	cmd.Env = append(os.Environ(), "KEENLODGE_DATABASE="+l.database, "KEENLODGE_STATE="+l.state, "PGPASSFILE="+filepath.Join(place.Folder, "pgpass"))
	cmd.Dir = l.state // where a core dump would be
	return cmd
}

// serve starts a process, and returns it with its address and its log.
func (l *lodging) serve(args ...string) (process *exec.Cmd, address string, log func() string) {
	l.t.Helper()
	port, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(l.t, err)
	address = port.Addr().String()
	port.Close()
	return l.serveAt(address, args...)
}

// serveAt starts a process at an address.
func (l *lodging) serveAt(address string, args ...string) (process *exec.Cmd, same string, log func() string) {
	l.t.Helper()
	file, err := os.Create(filepath.Join(l.state, fmt.Sprint("log-", len(l.logs))))
	require.NoError(l.t, err)
	l.logs = append(l.logs, file.Name())
	cmd := l.run(append([]string{"serve", "--listen", address}, args...)...)
	cmd.Stderr = file
	require.NoError(l.t, cmd.Start())
	l.t.Cleanup(func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() })
	log = func() string {
		body, err := os.ReadFile(file.Name())
		require.NoError(l.t, err)
		return string(body)
	}
	require.Eventually(l.t, func() bool { return strings.Contains(log(), "msg=ready") }, 30*time.Second, 50*time.Millisecond, "%s", log)
	return cmd, address, log
}
