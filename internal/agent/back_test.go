package agent

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/files"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/restore"
	agentsource "keenlodge/internal/source/agent"
	"keenlodge/internal/store/medium/dir"
)

// back puts files of a policy's newest image back, and waits until that is over.
func (g *gate) back(policy string, q restore.FilesRequest) records.Run {
	g.t.Helper()
	images, err := g.rec.Images(g.t.Context(), records.ImageFilter{Policy: policy})
	require.NoError(g.t, err)
	require.NotEmpty(g.t, images)
	q.Image = images[0].ID
	r, err := g.l.Restores.StartFiles(g.t.Context(), "the test", q)
	require.NoError(g.t, err)
	return g.ended(r)
}

func (g *gate) read(path string) string {
	g.t.Helper()
	body, err := os.ReadFile(filepath.Join(g.Mounted, path))
	require.NoError(g.t, err)
	return string(body)
}

func (g *gate) log(r records.Run) string {
	g.t.Helper()
	lines, err := g.rec.RunLog(g.t.Context(), r.ID)
	require.NoError(g.t, err)
	out := ""
	for _, l := range lines {
		out += l.Text + "\n"
	}
	return out
}

// Files of a server come back from both layouts: a folder as it was, parts of the system state, through lines that are cut, and what was lost with a
// cut is planned anew. What the image does not say is not deleted.
func TestFilesBack(t *testing.T) {
	folders := func(store string) site.Policy {
		return site.Policy{Machines: []string{"gate-07"}, Scope: image.SomeFiles, Folders: []string{"/srv"}, Ignore: []string{"*.tmp"}, Store: store, Cycle: "full once", Rotation: "newest 5"}
	}
	g := newGate(t, mounted(t), map[string]site.Policy{"ledger": folders("quay-shelf"), "plain": folders("plain-shelf"), "weekly-system": system("quay-shelf")})
	g.put("etc/keenlodge/parts/accounts.yaml", "about: accounts\nmandatory: true\npaths: [/etc/passwd]\n")
	g.put("etc/keenlodge/parts/jobs.yaml", "about: jobs\npaths: [/etc/cron.d]\n")
	g.put("etc/passwd", "root:x:0:0\n")
	g.put("etc/cron.d/night", "0 3 * * *\n")
	for i := range 200 {
		g.put(fmt.Sprintf("srv/berths/%03d", i), strings.Repeat(fmt.Sprintf("berth %d\n", i), 2000))
	}
	g.put("srv/ledger", strings.Repeat("turnstile 4 opened\n", 600_000))
	g.put("srv/scratch.tmp", "not in the image\n")
	for _, policy := range []string{"ledger", "plain", "weekly-system"} {
		r := g.run(policy)
		require.EqualValues(t, run.Done, r.State, "%s: %v %s", policy, r.Tasks[0].Warnings, r.Tasks[0].Error)
	}
	shelf := filepath.Join(g.Mounted, "srv")
	spoil := func() {
		require.NoError(t, os.RemoveAll(filepath.Join(shelf, "berths")))
		require.NoError(t, os.WriteFile(filepath.Join(shelf, "ledger"), []byte("gone\n"), 0o600))
		g.put("srv/berths/intruder", "nobody's\n")
		g.put("srv/other.tmp", "nor this\n")
	}
	whole := restore.FilesRequest{Paths: []string{"/srv"}, Existing: back.Replace, Delete: true}
	for _, policy := range []string{"ledger", "plain"} {
		spoil()
		r := g.back(policy, whole)
		require.EqualValues(t, run.Done, r.State, "%s: %s", policy, r.Tasks[0].Error)
		require.Contains(t, g.log(r), "200 written anew", policy)
		require.Contains(t, g.log(r), "1 deleted (9 B)", policy)
		require.Equal(t, strings.Repeat("berth 7\n", 2000), g.read("srv/berths/007"))
		require.Len(t, g.read("srv/ledger"), 600_000*19)
		require.NoFileExists(t, filepath.Join(shelf, "berths/intruder"))
		require.Equal(t, "nor this\n", g.read("srv/other.tmp"), "the image's rules leave it out, so that it is not in it says nothing")
	}

	// The line is cut again and again, in the plan and while files are written.
	for n := range 4 {
		spoil()
		g.line.CutAfter(int64(40<<10) << (2 * n))
		r := g.back("ledger", whole)
		require.EqualValues(t, run.Done, r.State, "cut %d: %s", n, r.Tasks[0].Error)
		require.Len(t, g.read("srv/ledger"), 600_000*19)
		require.Equal(t, strings.Repeat("berth 199\n", 2000), g.read("srv/berths/199"))
	}
	require.GreaterOrEqual(t, g.line.Cuts(), int64(3))

	// An agent that is started anew goes on, too; and nothing of it stays but what can be undone.
	spoil()
	g.put("etc/cron.d/night", "0 4 * * *\n")
	g.put("etc/passwd", "root:x:0:0\nsomebody:x:1\n")
	g.stop()
	g.start()
	state, _ := g.files("weekly-system")
	shown, err := g.l.Restores.PreviewFiles(t.Context(), restore.FilesRequest{Image: state.ID}, 10)
	require.NoError(t, err)
	require.Empty(t, shown.Notices, "it runs what it ran")
	r := g.back("weekly-system", restore.FilesRequest{Parts: []string{"jobs"}})
	require.EqualValues(t, run.Done, r.State, r.Tasks[0].Error)
	require.Equal(t, "0 3 * * *\n", g.read("etc/cron.d/night"))
	require.Contains(t, g.read("etc/passwd"), "somebody", "another part")
	undo, err := g.l.Restores.Undo(t.Context(), "the test", r.ID)
	require.NoError(t, err)
	require.EqualValues(t, run.Done, g.ended(undo).State)
	require.Equal(t, "0 4 * * *\n", g.read("etc/cron.d/night"))
	left, err := filepath.Glob(filepath.Join(g.Mounted, "srv", ".keenlodge-*"))
	require.NoError(t, err)
	require.Empty(t, left)

	// Somebody else's machine, what is not there, and what may not be.
	_, err = g.l.Restores.PreviewFiles(t.Context(), restore.FilesRequest{Image: r.Tasks[0].Image, Paths: []string{"/nowhere"}}, 10)
	require.ErrorContains(t, err, "/nowhere is not in image")
	_, err = g.l.Restores.Undo(t.Context(), "the test", undo.ID)
	require.ErrorContains(t, err, "only restores can be taken back")

	// What is refused at once is told at once, however long the list is.
	list := []byte(files.ListHead)
	for i := range 200_000 {
		list = files.AppendEntry(list, &files.Entry{Path: fmt.Sprintf("srv/%040d", i), Kind: files.File})
	}
	conn := agentsource.Of("servers", g.l.Lines)
	o := back.Order{ID: "R1", Existing: back.Replace, Roots: []back.Root{{From: "..", To: "srv"}}}
	_, err = conn.PlanFiles(t.Context(), "gate-07", o, bytes.NewReader(list), nil)
	require.ErrorContains(t, err, "these are no paths")
	other, err := conn.OtherSystem(t.Context(), "gate-07", `{"system": "Debian GNU/Linux 4 (etch)", "arch": "i686", "disks": []}`)
	require.NoError(t, err)
	require.Contains(t, other, "release: Debian GNU/Linux 4 (etch) in the image")
}

// An image that is damaged in its middle gives what comes before: the run says at which file it ended, what was written is whole, and the rest is as it was.
func TestADamagedImageGoesBack(t *testing.T) {
	g := newGate(t, mounted(t), map[string]site.Policy{"plain": {Machines: []string{"gate-07"}, Scope: image.SomeFiles, Folders: []string{"/srv"}, Store: "plain-shelf", Cycle: "full once", Rotation: "newest 5"}})
	content := func(i int) []byte {
		body := make([]byte, 300_000) // that does not compress
		rand.NewChaCha8([32]byte{byte(i)}).Read(body)
		return body
	}
	for i := range 20 {
		g.put(fmt.Sprintf("srv/%02d", i), string(content(i)))
	}
	require.EqualValues(t, run.Done, g.run("plain").State)
	s, err := g.l.Site(t.Context())
	require.NoError(t, err)
	found, err := filepath.Glob(filepath.Join(s.Stores["plain-shelf"].Settings.(*dir.Settings).Folder, "*", "*-files.tar.zst"))
	require.NoError(t, err)
	require.Len(t, found, 1)
	body, err := os.ReadFile(found[0])
	require.NoError(t, err)
	copy(body[len(body)*47/100:], "what was here is gone")
	require.NoError(t, os.WriteFile(found[0], body, 0o600))
	for i := range 20 {
		g.put(fmt.Sprintf("srv/%02d", i), "by mistake\n")
	}
	r := g.back("plain", restore.FilesRequest{Paths: []string{"/srv"}, Existing: back.Replace})
	require.EqualValues(t, run.Failed, r.State)
	whole := 0
	for i := range 20 {
		switch got := g.read(fmt.Sprintf("srv/%02d", i)); got {
		case string(content(i)):
			whole++
		default:
			require.True(t, got == "by mistake\n", "file %d is neither whole nor as it was", i)
		}
	}
	require.InDelta(t, 10, whole, 3)
	require.Regexp(t, `the content of file /srv/\d\d is not what it was`, r.Tasks[0].Error)
	require.Contains(t, r.Tasks[0].Error, fmt.Sprintf("the restore stopped, at /srv/%02d, after %d paths", whole, whole))
}
