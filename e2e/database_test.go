package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/wire"
)

// A Debian with PostgreSQL under load, its data on one disk and its log on another, comes up from every image that is taken of it, and its database is
// whole by its own tools: KEENLODGE_DATABASES images. The last one is written out, too, and the database's own server has to accept what lies there.
func TestADatabaseUnderLoad(t *testing.T) {
	if os.Getenv("KEENLODGE_DATABASES") == "" {
		t.Skip("a campaign of its own: make trials")
	}
	images, _ := mediumtest.Campaign("KEENLODGE_DATABASES", 20)
	guest := demo.Guest{Name: "berth-db", Memory: 512}
	pool := filepath.Dir(place.Quay.Disk(guest.Name, "vda"))
	script, err := filepath.Abs("database.sh")
	require.NoError(t, err)
	scripts, err := filepath.Abs("../demo")
	require.NoError(t, err)
	out, err := exec.Command("sh", script, pool, scripts).CombinedOutput()
	require.NoError(t, err, "%s", out)
	disks := ""
	for _, target := range []string{"vda", "vdb", "vdc"} {
		file := place.Quay.Disk(guest.Name, target)
		require.NoError(t, exec.Command("chown", "--reference", place.Quay.Disk("tickets-db", "vda"), file).Run())
		disks += fmt.Sprintf("<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='%s'/><target dev='%s' bus='virtio'/></disk>", file, target)
	}
	require.NoError(t, place.Quay.Define(t.Context(), guest, disks))
	t.Cleanup(func() {
		place.Quay.Virsh(context.Background(), "destroy", guest.Name)
		place.Quay.Virsh(context.Background(), "undefine", guest.Name, "--checkpoints-metadata")
	})
	require.NoError(t, place.Quay.AwaitGuest(t.Context(), guest.Name))
	require.NoError(t, demo.Until(t.Context(), 5*time.Minute, "bookings", func() error {
		return doInGuest(t.Context(), guest.Name, `runuser -u postgres -- psql -Atqc "select 1 / (count(*) / 100) from bookings"`)
	}))
	withPolicy(t, "booked", policyText(guest.Name, "booked-shelf", `    quiesce: required
    restored:
      - command: [sh, -c, "pg_ctlcluster 15 main start && check-bookings"]
        expect: every booking is a pair
        within: 15 minutes
    trials:
      - system: [running, degraded]
        within: 20 minutes
        commands:
          - {command: [pg_isready, -q], within: 10 minutes}
          - {command: [check-bookings], expect: every booking is a pair, within: 15 minutes}
`), storeText("booked-shelf", t.TempDir()))
	whole := 0
	for n := range images {
		backUp(t, "booked")
		m := keenJSON[[]wire.Image](t, "image", "list", "--policy", "booked")[0]
		r := proveDatabase(t, m.ID, "boot")
		if r.State == "done" {
			whole++
		}
		t.Logf("image %d of %d: %s, stood still for %s: %s\n%s", n+1, images, m.Consistency, time.Duration(m.Frozen).Round(time.Millisecond), r.State, keen(t, "run", "log", r.ID).out)
	}
	require.Equal(t, images, whole)
	m := keenJSON[[]wire.Image](t, "image", "list", "--policy", "booked")[0]
	r := proveDatabase(t, m.ID, "restore")
	said := keen(t, "run", "log", r.ID).out
	require.EqualValues(t, "done", r.State, said)
	require.Contains(t, said, "checksum failures: 0")
}

// proveDatabase proves an image, which takes its time where a guest has no processor of the host's own.
func proveDatabase(t *testing.T, id, level string) wire.Run {
	t.Helper()
	r := keenJSON[wire.Run](t, "image", "prove", id, "--level", level)
	require.Eventually(t, func() bool {
		var err error
		r, err = lodge.Run(t.Context(), r.ID)
		require.NoError(t, err)
		return r.Ended != nil
	}, 40*time.Minute, time.Second)
	return r
}

// doInGuest runs a script in a guest of quay-1 by its agent; that it fails is an error.
func doInGuest(ctx context.Context, guest, script string) error {
	ask := func(command string, answer any) error {
		out, err := place.Quay.Virsh(ctx, "qemu-agent-command", "--timeout", "10", guest, command)
		if err != nil {
			return err
		}
		return json.Unmarshal([]byte(out), &struct{ Return any }{answer})
	}
	command, err := json.Marshal(map[string]any{"execute": "guest-exec", "arguments": map[string]any{"path": "/bin/sh", "arg": []string{"-c", script}}})
	if err != nil {
		return err
	}
	var begun struct{ PID int }
	if err := ask(string(command), &begun); err != nil {
		return err
	}
	return demo.Until(ctx, time.Minute, "the script", func() error {
		var status struct {
			Exited   bool
			ExitCode int
		}
		err := ask(fmt.Sprintf(`{"execute": "guest-exec-status", "arguments": {"pid": %d}}`, begun.PID), &status)
		if err == nil && !status.Exited {
			err = errors.New("it goes on")
		}
		if err == nil && status.ExitCode != 0 {
			err = fmt.Errorf("it ended with %d", status.ExitCode)
		}
		return err
	})
}
