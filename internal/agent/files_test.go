package agent

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/agent/agenttest"
	"keenlodge/internal/core/files/filestest"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
)

// put writes a file of the server's.
func (g *gate) put(path, content string) {
	g.t.Helper()
	place := filepath.Join(g.Mounted, path)
	require.NoError(g.t, os.MkdirAll(filepath.Dir(place), 0o755))
	require.NoError(g.t, os.WriteFile(place, []byte(content), 0o644))
}

// files are those of a server's newest image under a policy, as its archive has them.
func (g *gate) files(policy string) (records.Image, map[string]string) {
	g.t.Helper()
	images, err := g.rec.Images(g.t.Context(), records.ImageFilter{Policy: policy})
	require.NoError(g.t, err)
	require.NotEmpty(g.t, images)
	m := images[0]
	st, err := g.l.Stores.Named(g.t.Context(), m.Store)
	require.NoError(g.t, err)
	manifest, err := st.ReadImage(g.t.Context(), m.ID)
	require.NoError(g.t, err)
	require.Contains(g.t, manifest.Definition, `"kind": "server"`)
	var archive bytes.Buffer
	require.NoError(g.t, st.Archive(g.t.Context(), manifest, &archive))
	_, err = st.ReadBack(g.t.Context(), manifest, func(int64) {})
	require.NoError(g.t, err)
	return m, filestest.Contents(g.t, &archive)
}

func system(store string) site.Policy {
	return site.Policy{Machines: []string{"gate-07"}, Scope: image.SystemState, Store: store, Cycle: "full once", Rotation: "newest 5"}
}

// A server's system state, in parts, goes into both layouts; from the second image on a pooled store gets what changed. What could not be read is
// told, and fails where the policy says so.
func TestTheSystemStateOfAServer(t *testing.T) {
	strict := system("quay-shelf")
	strict.Unread = "fail"
	strict.Parts = []string{"jobs"}
	folders := site.Policy{Machines: []string{"gate-07"}, Scope: image.SomeFiles, Folders: []string{"/srv"}, Ignore: []string{"*.tmp"}, Store: "quay-shelf", Cycle: "full once", Rotation: "newest 5"}
	g := newGate(t, mounted(t), map[string]site.Policy{"weekly-system": system("quay-shelf"), "plain": system("plain-shelf"), "strict": strict, "ledger": folders})
	r := g.run("weekly-system")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "the server has no part")

	g.put("etc/hosts", "127.0.0.1 gate-07")
	g.put("etc/passwd", "root:x:0:0")
	g.put("etc/keenlodge/parts/accounts.yaml", "about: accounts\nmandatory: true\npaths: [/etc/passwd]\n")
	g.put("etc/keenlodge/parts/jobs.yaml", "about: jobs\npaths: [/etc/cron.d]\noutput: {timers: list-timers}\n")
	g.put("etc/keenlodge/parts/configuration.yaml", "about: the rest\npaths: [/etc]\n")
	g.put("etc/cron.d/night", "0 3 * * *")
	g.put("srv/ledger", strings.Repeat("turnstile 4 opened\n", 100_000))
	g.put("srv/scratch.tmp", "no")
	time.Sleep(2100 * time.Millisecond) // from here on the kernel's times tell what changes
	want := map[string]string{"etc/hosts": "127.0.0.1 gate-07", "etc/passwd": "root:x:0:0", "etc/cron.d/night": "0 3 * * *"}
	for n := range 3 {
		for _, policy := range []string{"weekly-system", "plain"} {
			r := g.run(policy)
			require.EqualValues(t, run.Done, r.State, "%s: %s", policy, r.Tasks[0].Error)
			require.Empty(t, r.Tasks[0].Warnings)
			m, have := g.files(policy)
			for path, content := range want {
				require.Equal(t, content, have[path], path)
			}
			require.NotContains(t, have, "srv/ledger")
			require.Equal(t, image.EachFile, m.Consistency)
			require.Equal(t, policy == "weekly-system" && n > 0, m.Capture == image.Incremental, m.CaptureWhy)
			require.Len(t, m.Files.Parts, 3)
			if m.Capture == image.Incremental {
				require.Less(t, m.Read, int64(100))
			}
		}
		g.put("etc/hosts", fmt.Sprint("127.0.0.1 gate-07 # ", n))
		want["etc/hosts"] = fmt.Sprint("127.0.0.1 gate-07 # ", n)
	}
	for range 2 {
		r = g.run("ledger")
		require.EqualValues(t, run.Done, r.State, r.Tasks[0].Error)
	}
	m, have := g.files("ledger")
	require.Len(t, have["srv/ledger"], 1_900_000)
	require.NotContains(t, have, "srv/scratch.tmp")
	require.Equal(t, []any{"*.tmp", int64(1), int64(2)}, []any{m.Files.LeftOut[0].Rule, m.Files.LeftOut[0].Files, m.Files.LeftOut[0].Bytes})
	require.Equal(t, image.Incremental, m.Capture)

	// What can't be had.
	g.put("etc/keenlodge/commands/list-timers", "#!/bin/sh\necho the clock is gone >&2; exit 4\n")
	require.NoError(t, os.Chmod(filepath.Join(g.Mounted, "etc/keenlodge/commands/list-timers"), 0o755))
	r = g.run("weekly-system")
	require.EqualValues(t, run.Warned, r.State, r.Tasks[0].Error)
	require.Contains(t, r.Tasks[0].Warnings[0], "1 file could not be read; which: keenlodge run show "+r.ID+" --unread")
	noted, err := g.rec.UnreadOf(t.Context(), r.ID)
	require.NoError(t, err)
	require.Len(t, noted, 1)
	require.Equal(t, ".keenlodge/jobs/timers", string(noted[0].Path))
	require.Contains(t, noted[0].Why, "the clock is gone")
	r = g.run("strict")
	require.EqualValues(t, run.Failed, r.State)
	require.Contains(t, r.Tasks[0].Error, "1 file could not be read, and policy strict wants all")
	noted, err = g.rec.UnreadOf(t.Context(), r.ID)
	require.NoError(t, err)
	require.Len(t, noted, 1)
	none, err := g.rec.Images(t.Context(), records.ImageFilter{Policy: "strict"})
	require.NoError(t, err)
	require.Empty(t, none)
}

// A line that is cut while files are read, an agent that forgets, or remembers something else: the image is right.
func TestFilesOverALineThatIsCut(t *testing.T) {
	policy := site.Policy{Machines: []string{"gate-07"}, Scope: image.SomeFiles, Folders: []string{"/srv"}, Store: "quay-shelf", Cycle: "full once", Rotation: "newest 9"}
	g := newGate(t, agenttest.New(t, 300<<20, "mkfs.ext4 -q $f"), map[string]site.Policy{"ledger": policy})
	for i := range 40 {
		g.put(fmt.Sprintf("srv/%02d", i), strings.Repeat(fmt.Sprint("berth ", i, "\n"), 300_000))
	}
	right := func(capture image.Capture) {
		t.Helper()
		r := g.run("ledger")
		require.EqualValues(t, run.Done, r.State, r.Tasks[0].Error)
		m, have := g.files("ledger")
		require.Equal(t, capture, m.Capture, m.CaptureWhy)
		for i := range 40 {
			path := fmt.Sprintf("srv/%02d", i)
			want, err := os.ReadFile(filepath.Join(g.Mounted, path))
			require.NoError(t, err)
			require.Equal(t, string(want), have[path], path)
		}
	}
	g.line.CutAfter(20 << 20)
	right(image.Full)
	require.Positive(t, g.line.Cuts())
	g.line.CutAfter(0)
	time.Sleep(2100 * time.Millisecond)
	right(image.Incremental)
	right(image.Incremental)

	memories, err := filepath.Glob(filepath.Join(g.folder, "files", "*"))
	require.NoError(t, err)
	require.Len(t, memories, 1, "only what a later image can build on is remembered")
	body, err := os.ReadFile(memories[0])
	require.NoError(t, err)
	at := bytes.Index(body, []byte("srv/07"))
	require.Positive(t, at)
	copy(body[at:], "srv/06")
	require.NoError(t, os.WriteFile(memories[0], body, 0o600))
	right(image.Full)
	memories, err = filepath.Glob(filepath.Join(g.folder, "files", "*"))
	require.NoError(t, err)
	require.Len(t, memories, 1)
	require.NoError(t, os.Truncate(memories[0], int64(len(body)-10)))
	right(image.Full)
	require.NoError(t, os.RemoveAll(filepath.Join(g.folder, "files")))
	right(image.Full)
	right(image.Incremental)
}
