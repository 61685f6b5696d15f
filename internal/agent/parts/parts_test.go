package parts

import (
	"bytes"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// The parts that come with the program can be read, and what an administrator changed stays as he left it.
func TestPartsThatComeWithTheProgram(t *testing.T) {
	folder := t.TempDir()
	made, err := Install(folder)
	require.NoError(t, err)
	require.Len(t, made, 13)
	all, err := Load(folder)
	require.NoError(t, err)
	var names []string
	for _, p := range all {
		names = append(names, p.Name)
		require.NotEmpty(t, p.About)
	}
	require.Equal(t, []string{"accounts", "boot", "configuration", "databases", "jobs", "kernel", "local", "network", "package-sources", "packages", "services"}, names)
	mine := filepath.Join(folder, "parts", "local.yaml")
	require.NoError(t, os.WriteFile(mine, []byte("about: ours\npaths: [/opt/turnstile]\n"), 0o644))
	made, err = Install(folder)
	require.NoError(t, err)
	require.Empty(t, made)
	body, err := os.ReadFile(mine)
	require.NoError(t, err)
	require.Contains(t, string(body), "turnstile")
	var out bytes.Buffer
	require.NoError(t, Run(t.Context(), folder, "package-versions", time.Minute, &out))
	require.Regexp(t, `(?m)^bash\t\S+\t\S+$`, out.String())
}

// Files that others could have written say nothing, and run nothing.
func TestWhatIsNotTrusted(t *testing.T) {
	folder := t.TempDir()
	part, command := filepath.Join(folder, "parts", "gate.yaml"), filepath.Join(folder, "commands", "gate")
	lay := func() {
		for place, text := range map[string]string{part: "about: gate\npaths: [/srv/gate]\noutput: {state: gate}\n", command: "#!/bin/sh\necho open\n"} {
			require.NoError(t, os.MkdirAll(filepath.Dir(place), 0o755))
			require.NoError(t, os.Chmod(filepath.Dir(place), 0o755))
			os.Remove(place)
			require.NoError(t, os.WriteFile(place, []byte(text), 0o755))
		}
	}
	lay()
	_, err := Load(folder)
	require.NoError(t, err)
	for what, spoil := range map[string]func() error{
		"written to by others":         func() error { return os.Chmod(part, 0o666) },
		"belongs to user":              func() error { return os.Chown(command, 65534, 65534) },
		"can be written to":            func() error { return os.Chmod(filepath.Dir(command), 0o777) },
		"no regular file":              func() error { os.Remove(command); return os.Symlink("/bin/true", command) },
		"can't be executed":            func() error { return os.Chmod(command, 0o644) },
		"unknown field":                func() error { return os.WriteFile(part, []byte("paths: [/a]\nrun: rm\n"), 0o644) },
		"no absolute path":             func() error { return os.WriteFile(part, []byte("paths: [a/b]\n"), 0o644) },
		"can't be a file's name":       func() error { return os.WriteFile(part, []byte("output: {../x: gate}\n"), 0o644) },
		"is no command's name":         func() error { return os.WriteFile(part, []byte("output: {x: ../../bin/sh}\n"), 0o644) },
		`neither "paths" nor "output"`: func() error { return os.WriteFile(part, []byte("about: nothing\n"), 0o644) },
	} {
		lay()
		require.NoError(t, spoil())
		_, err := Load(folder)
		require.ErrorContains(t, err, strings.TrimPrefix(what, "written to by others"), what)
	}
	lay()
	require.ErrorIs(t, Run(t.Context(), folder, "not-there", time.Second, &bytes.Buffer{}), fs.ErrNotExist)
	require.ErrorContains(t, Run(t.Context(), folder, "../gate", time.Second, &bytes.Buffer{}), "no command's name")
}

// example calls a command that ships as an example.
func example(t *testing.T, name, word string, env ...string) (string, error) {
	t.Helper()
	cmd := exec.Command(filepath.Join("..", "..", "..", "packaging", "commands", name), word)
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// PostgreSQL comes to rest with a checkpoint, and what does not answer is told.
func TestPostgreSQLComesToRest(t *testing.T) {
	address := recordstest.URL(t)
	u, err := url.Parse(address)
	require.NoError(t, err)
	env := []string{"PGHOST=" + u.Query().Get("host"), "PGUSER=lodge"}
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	written := func() (n string) {
		require.NoError(t, conn.QueryRow(t.Context(), "select checkpoint_lsn from pg_control_checkpoint()").Scan(&n))
		return n
	}
	_, err = conn.Exec(t.Context(), "create table turnstile (n int)")
	require.NoError(t, err)
	before := written()
	out, err := example(t, "postgresql", "before", env...)
	require.NoError(t, err, out)
	require.NotEqual(t, before, written())
	out, err = example(t, "postgresql", "after", env...)
	require.NoError(t, err, out)
	out, err = example(t, "postgresql", "before", "PGHOST="+t.TempDir(), "PGUSER=lodge")
	require.Error(t, err)
	require.Contains(t, out, "No such file or directory")
	_, err = example(t, "postgresql", "meanwhile", env...)
	require.Error(t, err)
}

// MariaDB commits nothing while it is at rest, goes on after, and by itself if nobody tells it to.
func TestMariaDBComesToRest(t *testing.T) {
	folder, err := os.MkdirTemp("/var/tmp", "m") // a socket's path is short
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(t, exec.Command("chown", "mysql", folder).Run())
	out, err := exec.Command("mariadb-install-db", "--no-defaults", "--datadir="+folder+"/data", "--user=mysql", "--skip-test-db").CombinedOutput()
	require.NoError(t, err, "%s", out)
	socket := folder + "/s"
	server := exec.Command("mariadbd", "--no-defaults", "--datadir="+folder+"/data", "--socket="+socket, "--skip-networking", "--user=mysql", "--innodb-flush-log-at-trx-commit=0")
	require.NoError(t, server.Start())
	t.Cleanup(func() { server.Process.Kill(); server.Wait() })
	env := "MARIADB_SOCKET=" + socket
	ask := func(statement string) error {
		cmd := exec.Command("mariadb", "--socket="+socket, "-N", "-B", "-e", statement)
		cmd.Env = append(os.Environ(), env)
		return cmd.Run()
	}
	require.Eventually(t, func() bool {
		return ask("create database if not exists gate; create table if not exists gate.turnstile (n int) engine=innodb") == nil
	}, 60*time.Second, 100*time.Millisecond)
	said, err := example(t, "mariadb", "before", env)
	require.NoError(t, err, said)
	written := make(chan error, 1)
	go func() { written <- ask("insert into gate.turnstile values (1)") }()
	select {
	case err := <-written:
		t.Fatalf("it was written to while it was at rest: %v", err)
	case <-time.After(1500 * time.Millisecond):
	}
	said, err = example(t, "mariadb", "after", env)
	require.NoError(t, err, said)
	require.NoError(t, <-written)

	said, err = example(t, "mariadb", "before", env)
	require.NoError(t, err, said)
	require.NoError(t, exec.Command("pkill", "-f", "BACKUP STAGE START").Run()) // its session ends before it is told to
	require.Eventually(t, func() bool { return ask("insert into gate.turnstile values (2)") == nil }, 10*time.Second, 50*time.Millisecond)
	said, err = example(t, "mariadb", "after", env)
	require.Error(t, err)
	require.Contains(t, said, "it was not at rest until now")
	said, err = example(t, "mariadb", "before", "MARIADB_SOCKET="+folder+"/nowhere")
	require.Error(t, err)
	require.Contains(t, said, "Can't connect")
}
