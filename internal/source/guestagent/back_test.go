package guestagent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/back"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/files"
)

// agentHere starts QEMU's own guest agent on this host, as it is in guests, with tools of a folder.
func agentHere(t *testing.T, tools string) Ask {
	folder := t.TempDir()
	socket := filepath.Join(folder, "s")
	cmd := exec.Command("qemu-ga", "-m", "unix-listen", "-p", socket, "-t", folder, "-f", filepath.Join(folder, "pid"))
	cmd.Env = []string{"PATH=" + tools}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	var conn net.Conn
	require.Eventually(t, func() (up bool) {
		c, err := net.Dial("unix", socket)
		conn = c
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)
	t.Cleanup(func() { conn.Close() })
	var mu sync.Mutex
	in := json.NewDecoder(conn)
	return func(_ context.Context, command string, arguments, answer any) error {
		mu.Lock()
		defer mu.Unlock()
		request := map[string]any{"execute": command}
		if arguments != nil {
			request["arguments"] = arguments
		}
		if err := json.NewEncoder(conn).Encode(request); err != nil {
			return err
		}
		var told struct {
			Return json.RawMessage
			Error  *struct{ Desc string }
		}
		if err := in.Decode(&told); err != nil {
			return err
		}
		if told.Error != nil {
			return errors.New(told.Error.Desc)
		}
		if answer == nil {
			return nil
		}
		return json.Unmarshal(told.Return, answer)
	}
}

var moment = time.Date(2026, 11, 26, 23, 0, 0, 0, time.UTC)

// item is a file of an image.
type item struct {
	files.Entry
	content string
}

func file(p, content string) item {
	return item{files.Entry{Path: p, Kind: files.File, Mode: 0o640, Size: int64(len(content)), Modified: moment.Add(123456789), Owner: "daemon", UID: 4242, Group: "nobody-of-this-name", GID: 4343}, content}
}

func dir(p string) item {
	return item{files.Entry{Path: p, Kind: files.Dir, Mode: 0o750, Modified: moment}, ""}
}

// image is the list and the archive of files.
func image(t *testing.T, items []item) (list, archive []byte) {
	list = []byte(files.ListHead)
	var out bytes.Buffer
	w := files.NewWireWriter(&out)
	for _, i := range items {
		list = files.AppendEntry(list, &i.Entry)
		require.NoError(t, w.Entry(&i.Entry))
		_, err := io.WriteString(w, i.content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close(files.Last{}))
	return list, out.Bytes()
}

// Files go back through QEMU's agent, with the tools that guests have; what can't be done so is refused beforehand, no link is followed, and what was
// looked at is what is replaced.
func TestFilesThroughAGuestAgent(t *testing.T) {
	for name, tools := range map[string]string{"GNU": "/usr/bin", "BusyBox": busybox(t)} {
		t.Run(name, func(t *testing.T) {
			ask, root := agentHere(t, tools), t.TempDir()
			at := func(p string) string { return filepath.Join(root, p) }
			write := func(p, text string) {
				require.NoError(t, os.MkdirAll(filepath.Dir(at(p)), 0o755))
				require.NoError(t, os.WriteFile(at(p), []byte(text), 0o644))
			}
			read := func(p string) string {
				body, err := os.ReadFile(at(p))
				require.NoError(t, err)
				return string(body)
			}
			odd := "-odd 'name\" $(touch x)\n*"
			items := []item{
				dir("srv"), file("srv/"+odd, "odd\n"), file("srv/changes", "as planned\n"),
				{files.Entry{Path: "srv/device", Kind: files.Char, Mode: 0o600, Major: 1, Minor: 3, Modified: moment}, ""},
				dir("srv/dir"), file("srv/dir/deep", "deep\n"),
				file("srv/first", strings.Repeat("cabin 4\n", 100_000)),
				{files.Entry{Path: "srv/link", Kind: files.Link, Target: "/etc/passwd", Mode: 0o777, Modified: moment}, ""},
				dir("srv/out"), file("srv/out/shadow", "not there\n"),
				{files.Entry{Path: "srv/second", Kind: files.File, Same: "srv/first", Mode: 0o640, Modified: moment}, ""},
				file("srv/trap", "over a link\n"),
			}
			items[2].Xattrs = map[string]string{"security.selinux": "system_u"}
			list, archive := image(t, items)
			outside := t.TempDir()
			write("srv/dir", "a file in the folder's place\n")
			write("srv/changes", "before\n")
			require.NoError(t, os.Symlink(outside, at("srv/out")))
			require.NoError(t, os.Symlink(outside, at("srv/trap")))
			require.NoError(t, os.Symlink("srv", at("way")))

			f := &Files{}
			o := back.Order{ID: "R1", Existing: back.Replace, Moment: moment, Roots: []back.Root{{From: "srv", To: strings.TrimPrefix(at("srv"), "/")}}}
			told := map[string]back.Step{}
			plan := func() string {
				t.Helper()
				clear(told)
				sum, err := f.Plan(t.Context(), ask, "tickets-db", o, bytes.NewReader(list), func(s back.Step) error { told[filepath.Base(s.From)] = s; return nil })
				require.NoError(t, err)
				return sum.Digest
			}
			digest := plan()
			require.Contains(t, told["device"].Why, "devices and pipes")
			require.Equal(t, back.Replacing, told["out"].Action)
			require.Equal(t, back.Make, told["shadow"].Action)
			require.Equal(t, back.Replacing, told["dir"].Action)
			require.Equal(t, digest, plan(), "it changed nothing")
			write("srv/changes", "somebody's\n")
			done, err := f.Put(t.Context(), ask, "tickets-db", "R1", digest, bytes.NewReader(archive), func(back.Progress) {})
			require.NoError(t, err)
			require.Len(t, done.Failed, 1, "%+v", done)
			require.Contains(t, done.Failed[0].Path+done.Failed[0].Why, "srv/changesguest tickets-db: it is not as it was when it was looked at")
			require.Equal(t, "somebody's\n", read("srv/changes"))
			require.Equal(t, "odd\n", read("srv/"+odd))
			require.Equal(t, "deep\n", read("srv/dir/deep"))
			require.Len(t, read("srv/first"), 800_000)
			require.Equal(t, "not there\n", read("srv/out/shadow"))
			left, err := os.ReadDir(outside)
			require.NoError(t, err)
			require.Empty(t, left, "no link was followed")
			require.Equal(t, "over a link\n", read("srv/trap"))
			target, err := os.Readlink(at("srv/link"))
			require.NoError(t, err)
			require.Equal(t, "/etc/passwd", target)
			one, err := os.Stat(at("srv/first"))
			require.NoError(t, err)
			two, err := os.Stat(at("srv/second"))
			require.NoError(t, err)
			require.True(t, os.SameFile(one, two))
			for p, mode := range map[string]string{"srv/first": "640", "srv": "750", "srv/dir": "750"} {
				out, err := exec.Command("stat", "-c", "%a %Y", at(p)).Output()
				require.NoError(t, err)
				require.Equal(t, fmt.Sprintf("%s %d\n", mode, moment.Unix()), string(out), p)
			}
			out, err := exec.Command("stat", "-c", "%U %g", at("srv/first")).Output()
			require.NoError(t, err)
			require.Equal(t, "daemon 4343\n", string(out), "by name where there is one, by number where there is none")

			// Asked again, what is there is left as it is; a folder that is a link beforehand is taken for what it is.
			write("srv/changes", "somebody's\n")
			o.ID, o.Existing = "R2", back.KeepBoth
			digest = plan()
			require.Len(t, told, 2, "%+v", told)
			require.Equal(t, back.Beside, told["changes"].Action)
			done, err = f.Put(t.Context(), ask, "tickets-db", "R2", digest, bytes.NewReader(archive), func(back.Progress) {})
			require.NoError(t, err)
			require.Zero(t, done.Failures, "%+v", done)
			require.Equal(t, "as planned\n", read("srv/changes.from-20261126-230000"))
			plan()
			require.Len(t, told, 1, "what is beside is not put there again: %+v", told)
			write("srv/changes.from-20261126-230000", "somebody's, too\n")
			plan()
			require.Contains(t, told["changes"].Why, "there is another one of that name, too")
			o.ID, o.Roots[0].To = "R3", strings.TrimPrefix(at("way"), "/")
			plan()
			require.Equal(t, back.Refuse, told["srv"].Action, "%+v", told)
			require.Contains(t, told["deep"].Why, "is a link, and is not followed")
			o.Roots[0].To = strings.TrimPrefix(at("way/deeper/srv"), "/")
			digest = plan()
			_, err = f.Put(t.Context(), ask, "tickets-db", "R3", digest, bytes.NewReader(archive[:len(archive)/2]), func(back.Progress) {})
			require.ErrorContains(t, err, "the restore stopped, at /"+strings.TrimPrefix(at("srv/deeper/srv/first"), "/"))
			require.ErrorIs(t, err, files.ErrCut)
			require.Equal(t, "odd\n", read("srv/deeper/srv/"+odd), "the folder was found behind the link on the way to it")
			staged, err := filepath.Glob("/var/tmp/keenlodge-??????")
			require.NoError(t, err)
			require.Empty(t, staged)

			// What can't go so.
			_, err = f.Put(t.Context(), ask, "tickets-db", "R3", digest, nil, nil)
			require.ErrorContains(t, err, "no such plan")
			o.Delete = true
			_, err = f.Plan(t.Context(), ask, "tickets-db", o, bytes.NewReader(list), nil)
			require.ErrorIs(t, err, fault.ErrConflict)
			o.Delete = false
			for i := range mostPaths {
				list = files.AppendEntry(list, &files.Entry{Path: fmt.Sprintf("tmp/%d", i), Kind: files.File})
			}
			_, err = f.Plan(t.Context(), ask, "tickets-db", o, bytes.NewReader(list), nil)
			require.ErrorContains(t, err, "200 paths at most")
			_, err = Undo("tickets-db", "R1")
			require.ErrorContains(t, err, "keeps nothing")
		})
	}
}

// busybox is a folder with the tools as BusyBox has them.
func busybox(t *testing.T) string {
	folder := t.TempDir()
	for _, tool := range []string{"stat", "readlink", "mktemp", "cp", "mv", "ln", "chown", "chmod", "touch", "mkdir", "rm", "sync", "sleep"} {
		require.NoError(t, os.Symlink("/bin/busybox", filepath.Join(folder, tool)))
	}
	return folder
}
