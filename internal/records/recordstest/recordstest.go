// Package recordstest gives tests a real PostgreSQL: one server for a test binary, or for several that [Share] runs, reached by a socket in
// a folder of its own, and a fresh database for each test. It needs no root; under root it starts the server as the account that Debian's
// package makes.
package recordstest

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/records"
)

// server is the one of this test binary.
var server struct {
	once   sync.Once
	err    error
	folder string // of its socket
	mine   bool   // this process made the folder
	cmd    *exec.Cmd
	made   atomic.Int64
}

// sharedServer is the environment variable that names the folder of a server which several test binaries share.
const sharedServer = "KEENLODGE_TEST_DATABASE"

// Main runs a package's tests and stops the server that they may have started. Call it in TestMain.
func Main(m *testing.M) {
	code := m.Run()
	stop()
	os.Exit(code)
}

// Share runs a command, such as go test, whose test binaries share one server: starting one takes each of them two seconds of a
// processor. It returns the command's exit code.
func Share(command ...string) (code int, err error) {
	defer stop()
	if err := start(); err != nil {
		return 1, err
	}
	ctx, end := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer end()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Cancel, cmd.WaitDelay = func() error { return cmd.Process.Signal(os.Interrupt) }, 10*time.Second
	cmd.Env = append(os.Environ(), sharedServer+"="+server.folder)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	err = cmd.Run()
	var failed *exec.ExitError
	if errors.As(err, &failed) {
		return failed.ExitCode(), nil
	}
	return 0, err
}

// stop stops the server that this process started, if any, and removes what is there of it.
func stop() {
	if server.cmd != nil && server.cmd.Process != nil {
		server.cmd.Process.Signal(syscall.SIGQUIT) // at once: nothing in it is needed any more
		server.cmd.Wait()
	}
	if server.mine {
		os.RemoveAll(server.folder)
	}
}

// Open opens a fresh database, which is closed at the test's end.
func Open(t testing.TB) *records.Records { return OpenAll(t, 1)[0] }

// OpenAll opens a fresh database as so many processes.
func OpenAll(t testing.TB, processes int) []*records.Records {
	t.Helper()
	url := URL(t)
	var out []*records.Records
	for i := range processes {
		r, err := records.Open(context.Background(), url)
		require.NoError(t, err)
		t.Cleanup(r.Close)
		if i == 0 { // the template's is that of all
			_, err := r.Pool().Exec(context.Background(), "update settings set lodge = gen_random_uuid()::text")
			require.NoError(t, err)
		}
		out = append(out, r)
	}
	return out
}

// RunLog is a run's log as text, a line of it "kind machine: text".
func RunLog(t testing.TB, r *records.Records, id string) string {
	t.Helper()
	lines, err := r.RunLog(context.Background(), id)
	require.NoError(t, err)
	var out strings.Builder
	for _, l := range lines {
		out.WriteString(string(l.Kind) + " " + l.Machine + ": " + l.Text + "\n")
	}
	return out.String()
}

// URL is the address of a fresh database whose tables are there.
func URL(t testing.TB) string {
	t.Helper()
	name := newDatabase(t)
	// A copy of files is twice as fast here as one through the log.
	require.NoError(t, admin("create database "+name+" template brindle strategy file_copy"))
	return address(name)
}

// Restored is the address of a fresh database that holds what a dump in plain SQL has.
func Restored(t testing.TB, dump string) string {
	t.Helper()
	name := newDatabase(t)
	require.NoError(t, admin("create database "+name+" template template0"))
	conn, err := pgx.Connect(context.Background(), address(name))
	require.NoError(t, err)
	defer conn.Close(context.Background())
	_, err = conn.PgConn().Exec(context.Background(), dump).ReadAll()
	require.NoError(t, err)
	return address(name)
}

// newDatabase has a server run, and names a database that no test of any process has.
func newDatabase(t testing.TB) string {
	t.Helper()
	server.once.Do(func() {
		if server.folder = os.Getenv(sharedServer); server.folder == "" {
			server.err = start()
		}
	})
	require.NoError(t, server.err)
	name := fmt.Sprintf("lodge_%d_%d", os.Getpid(), server.made.Add(1))
	t.Cleanup(func() { require.NoError(t, admin("drop database if exists "+name+" with (force)")) }) // each takes 8 MiB
	return name
}

func address(database string) string {
	return fmt.Sprintf("postgres://lodge@/%s?host=%s", database, server.folder)
}

// Over is the address of a database of [URL] by way of a line on loopback: make is given the server's socket and returns the line's port.
func Over(t testing.TB, url string, make func(socket string) (port int)) string {
	t.Helper()
	name := strings.TrimPrefix(strings.Split(url, "?")[0], "postgres://lodge@/")
	return fmt.Sprintf("postgres://lodge@127.0.0.1:%d/%s?sslmode=disable", make(filepath.Join(server.folder, ".s.PGSQL.5432")), name)
}

func admin(sql string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, address("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, sql)
	return err
}

// start makes and starts the server, and a template that has the tables.
func start() error {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil || len(found) == 0 {
		return errors.New("PostgreSQL is not installed; run: make setup")
	}
	bin := found[len(found)-1]
	if server.folder, err = os.MkdirTemp("", "brindle"); err != nil {
		return err
	}
	server.mine = true
	who, err := account()
	if err != nil {
		return err
	}
	if who != nil {
		if err := os.Chown(server.folder, int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	run := func(name string, args ...string) *exec.Cmd {
		cmd := exec.Command(filepath.Join(bin, name), args...)
		cmd.Dir = server.folder
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: who}
		return cmd
	}
	data := filepath.Join(server.folder, "data")
	if out, err := run("initdb", "-D", data, "-U", "lodge", "--auth=trust", "--no-sync", "--encoding=UTF8", "--locale=C.UTF-8").CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w: %s", err, out)
	}
	// Nothing in it outlives the tests, so it need not survive a power cut.
	server.cmd = run("postgres", "-D", data, "-c", "listen_addresses=", "-c", "unix_socket_directories="+server.folder, "-c", "fsync=off", "-c", "synchronous_commit=off",
		"-c", "full_page_writes=off", "-c", "shared_preload_libraries=pg_stat_statements", "-c", "max_connections=800", "-c", "autovacuum=off")
	if err := server.cmd.Start(); err != nil {
		return err
	}
	end := time.Now().Add(30 * time.Second)
	for {
		err := admin("create database brindle")
		if err == nil {
			break
		}
		if time.Now().After(end) {
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		}
		time.Sleep(20 * time.Millisecond)
	}
	r, err := records.Open(context.Background(), address("brindle"))
	if err != nil {
		return err
	}
	r.Close()
	return nil
}

// account is whom the server runs as: nil for whoever runs the tests.
func account() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, err
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, err
}
