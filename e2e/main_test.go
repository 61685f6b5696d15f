// Package e2e drives the built program as its users do: service and client, HTTP interface, console in Chromium, real
// guests under libvirt, a real PostgreSQL. One site serves all tests; it is the demo's.
package e2e

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/client"
	"keenlodge/internal/wire"
)

var (
	place   *demo.Place
	service *demo.Process
	lodge   *client.Client
)

// ballast is a disk of random bytes that makes a backup of timetable last long enough to be cut in the middle.
const ballast = 600 << 20

func TestMain(m *testing.M) {
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, "e2e:", err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M) (int, error) {
	ctx := context.Background()
	program := os.Getenv("KEENLODGE_PROGRAM")
	if program == "" {
		folder, err := os.MkdirTemp("", "keenlodge")
		if err != nil {
			return 0, err
		}
		defer os.RemoveAll(folder)
		program = filepath.Join(folder, "keenlodge")
		if out, err := exec.Command("go", "build", "-o", program, "keenlodge/cmd/keenlodge").CombinedOutput(); err != nil {
			return 0, fmt.Errorf("build: %w: %s", err, out)
		}
	}
	var err error
	if place, err = demo.Open(cmp.Or(os.Getenv("KEENLODGE_PLACE"), "/var/tmp/brindle-e2e"), program); err != nil {
		return 0, err
	}
	defer place.Close()
	if err := start(ctx); err != nil {
		return 0, err
	}
	return m.Run(), nil
}

func start(ctx context.Context) error {
	if err := place.StartDatabase(ctx); err != nil {
		return err
	}
	if err := place.Quay.Start(ctx); err != nil {
		return err
	}
	for _, g := range place.Quay.Guests {
		off := g.Off
		g.Off = g.Off || g.Name == "timetable" // it gets another disk before it starts
		if err := place.Quay.MakeGuest(ctx, g); err != nil {
			return err
		}
		if g.Name != "timetable" || off {
			continue
		}
		if err := addBallast(ctx, g.Name); err != nil {
			return err
		}
		if _, err := place.Quay.Virsh(ctx, "start", g.Name); err != nil {
			return err
		}
	}
	for _, name := range []string{"tickets-db", "timetable"} {
		if err := place.Quay.AwaitGuest(ctx, name); err != nil {
			return err
		}
	}
	var err error
	if service, err = place.StartService(ctx); err != nil {
		return err
	}
	if lodge, err = place.Client(); err != nil {
		return err
	}
	_, s, err := place.Site()
	if err != nil {
		return err
	}
	_, err = lodge.ApplySite(ctx, s, false)
	return err
}

func addBallast(ctx context.Context, guest string) error {
	file := filepath.Join(place.Folder, "pool", guest+"-vdb.raw")
	make := fmt.Sprintf("head -c %d /dev/urandom > %s && chown --reference=%s %s", ballast, file, filepath.Dir(file), file)
	if out, err := exec.Command("sh", "-c", make).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	_, err := place.Quay.Virsh(ctx, "attach-disk", guest, file, "vdb", "--config", "--subdriver", "raw")
	return err
}

// said is what the program printed and how it ended.
type said struct {
	out, err string
	code     int
}

// keen runs the program as a user does.
func keen(t *testing.T, args ...string) said {
	t.Helper()
	return keenAt(t, place.URL(), place.TokenFile(), args...)
}

// keenAt runs the program against a lodge.
func keenAt(t *testing.T, url, tokenFile string, args ...string) said {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, place.Program, args...)
	cmd.Env = append(os.Environ(), "KEENLODGE_URL="+url, "KEENLODGE_TOKEN_FILE="+tokenFile)
	var out, err bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &err
	cmd.Run()
	require.NoError(t, ctx.Err(), "keenlodge %s hangs", strings.Join(args, " "))
	return said{out.String(), err.String(), cmd.ProcessState.ExitCode()}
}

// keenOK runs the program and requires that it ends well.
func keenOK(t *testing.T, args ...string) string {
	t.Helper()
	s := keen(t, args...)
	require.Equal(t, 0, s.code, "keenlodge %s\n%s%s", strings.Join(args, " "), s.out, s.err)
	return s.out
}

// backUp runs a policy until it is done without a warning: on a starved machine a freeze may run into its limit, and then it
// is right that the run says so.
func backUp(t *testing.T, policy string) string {
	t.Helper()
	for try := 1; ; try++ {
		s := keen(t, "policy", "run", policy, "--wait")
		if s.code == 3 && try < 4 {
			t.Log(s.out)
			continue
		}
		require.Equal(t, 0, s.code, "%s%s", s.out, s.err)
		return s.out
	}
}

// keenJSON runs the program with -o json and decodes what it prints.
// faultsToo reports whether what takes long is tested, too: by make faults. Of a matrix the rest of the cases is.
func faultsToo() bool { return os.Getenv("KEENLODGE_KILLS") != "" }

// forFaults leaves a test to make faults, for a reason.
func forFaults(t *testing.T, why string) {
	t.Helper()
	if !faultsToo() {
		t.Skip("make faults does it: " + why)
	}
}

func keenJSON[T any](t *testing.T, args ...string) T {
	t.Helper()
	var v T
	require.NoError(t, json.Unmarshal([]byte(keenOK(t, append(args, "-o", "json")...)), &v))
	return v
}

func virsh(t *testing.T, args ...string) string {
	t.Helper()
	out, err := place.Quay.Virsh(context.Background(), args...)
	require.NoError(t, err)
	return out
}

// images lists a machine's images under the demo's policy, newest first.
func images(t *testing.T, machine string) []wire.Image {
	t.Helper()
	return keenJSON[[]wire.Image](t, "image", "list", "--machine", machine, "--policy", "nightly-guests")
}

// requireClean makes sure that nothing of ours is left on a guest: no freeze, no job, no file, and few checkpoints: one for each set
// on which a later capture may build, and on a guest that is off those that its next capture removes.
func requireClean(t *testing.T, guest string) {
	t.Helper()
	if strings.TrimSpace(virsh(t, "domstate", guest)) == "running" {
		require.Contains(t, virsh(t, "qemu-agent-command", guest, `{"execute":"guest-fsfreeze-status"}`), "thawed")
	}
	_, err := place.Quay.Virsh(context.Background(), "backup-dumpxml", guest)
	require.Error(t, err, "a backup job is left on %s", guest)
	require.LessOrEqual(t, len(strings.Fields(virsh(t, "checkpoint-list", guest, "--name"))), 3)
	left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "keenlodge-*"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// withPolicy applies the demo's site with one more policy, and takes it back at the test's end.
func withPolicy(t *testing.T, name, text string, stores ...string) {
	t.Helper()
	file, _, err := place.Site()
	require.NoError(t, err)
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	changed := strings.Replace(string(body), "policies:\n", "policies:\n  "+name+":\n"+text, 1)
	for _, s := range stores {
		changed = strings.Replace(changed, "stores:\n", "stores:\n"+s, 1)
	}
	other := filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(other, []byte(changed), 0o600))
	keenOK(t, "site", "apply", other)
	t.Cleanup(func() { keenOK(t, "site", "apply", file) })
}

// applyWith applies the demo's site with a text in it replaced, and takes that back at the test's end.
func applyWith(t *testing.T, old, new string) {
	t.Helper()
	file, _, err := place.Site()
	require.NoError(t, err)
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(body), old)
	other := filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(other, []byte(strings.Replace(string(body), old, new, 1)), 0o600))
	keenOK(t, "site", "apply", other)
	t.Cleanup(func() { keenOK(t, "site", "apply", file) })
}

func storeText(name, folder string) string {
	return fmt.Sprintf("  %s:\n    medium: dir\n    layout: pooled\n    folder: %s\n    grace: none\n", name, folder)
}

func policyText(machine, store, more string) string {
	return fmt.Sprintf("    machines: [%s]\n    store: %s\n    rotation: newest 3\n%s", machine, store, more)
}

// clientAt is a client of another lodge.
func clientAt(t *testing.T, url, tokenFile string) *client.Client {
	t.Helper()
	token, err := os.ReadFile(tokenFile)
	require.NoError(t, err)
	return client.New(url, strings.TrimSpace(string(token)))
}

func lisbon(t *testing.T) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	return zone
}

// tail is the end of a log of the place, of so many bytes.
func tail(t *testing.T, name string, most int) string {
	t.Helper()
	body, err := os.ReadFile(filepath.Join(place.Folder, name))
	require.NoError(t, err)
	return string(body[max(0, len(body)-most):])
}
