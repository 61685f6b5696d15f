package qemu

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/source"
)

// Secrets on QEMU's command line stay out of images.
func TestWhatIsLeftOutOfACommandLine(t *testing.T) {
	for word, want := range map[string]string{
		"secret,id=s0,data=high,,tide,format=raw": "secret,id=s0,data=(left out),format=raw",
		"password=neap":                     "password=(left out)",
		"driver=rbd,file.key=abc,pool=quay": "driver=rbd,file.key=(left out),pool=quay",
		"virtio-blk-pci,drive=disk0,id=vda": "virtio-blk-pci,drive=disk0,id=vda",
		"unix:/run/guests/a.qmp,server=on":  "unix:/run/guests/a.qmp,server=on",
	} {
		require.Equal(t, want, secrets.ReplaceAllString(word, "$1$2=(left out)"))
	}
}

func TestFoldersThatAreNone(t *testing.T) {
	for folder, says := range map[string]string{"guests": "write the absolute path", "/nowhere/guests": "no such file", "/etc/passwd": "it is not a folder"} {
		_, err := Open(folder)
		require.ErrorContains(t, err, says)
	}
	h, err := Open(t.TempDir())
	require.NoError(t, err)
	for _, name := range []string{"", "../etc", ".hidden", "a/b", "absent"} {
		_, err := h.Checkpoints(t.Context(), name)
		require.ErrorIs(t, err, source.ErrNoMachine, name)
	}
}

// peer is a socket at which each client is told something, and then what answer says to each of its lines.
func peer(t *testing.T, name, greeting string, answer func(line string) string) *Host {
	h, err := Open(t.TempDir())
	require.NoError(t, err)
	l, err := net.Listen("unix", filepath.Join(h.folder, name))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				fmt.Fprint(c, greeting)
				for lines := bufio.NewScanner(c); lines.Scan(); {
					fmt.Fprint(c, answer(lines.Text()))
				}
			}()
		}
	}()
	return h
}

// Events, answers to somebody else, and nonsense between do not confuse; a peer that speaks something else is told to be one, and one that is silent
// does not hold us longer than we want.
func TestPeersThatSayOtherThings(t *testing.T) {
	h := peer(t, "web.qmp", `{"QMP":{"version":{}}}`+"\n", func(line string) string {
		var asked struct{ ID int }
		require.NoError(t, json.Unmarshal([]byte(line), &asked))
		return fmt.Sprintf(`{"event":"STOP"} {"return":{"running":false},"id":77} {"return":{"running":true},"id":%d}`+"\n", asked.ID)
	})
	require.NoError(t, h.with(t.Context(), "web", func(c *conn) error {
		state, err := c.state()
		require.EqualValues(t, "running", state)
		return err
	}))
	h = peer(t, "web.qmp", "SSH-2.0-OpenSSH\r\n", func(string) string { return "" })
	_, err := h.Machines(t.Context())
	require.Error(t, err)
	h = peer(t, "web.qmp", `{"greeting":"ahoy"}`, func(string) string { return "" })
	_, err = h.Machines(t.Context())
	require.ErrorContains(t, err, "does not speak QMP")

	h = peer(t, "web.qga", "", func(line string) string {
		if _, id, ok := strings.Cut(line, `"id":`); ok && strings.Contains(line, "sync") {
			id = strings.TrimRight(id, "}")
			return "{\"return\": 5}\n\xff{\"return\":12}\n\xff{\"return\":" + id + "}\n"
		}
		return `{"return":"frozen"}` + "\n"
	})
	frozen, err := h.ask("web").Frozen(t.Context())
	require.NoError(t, err)
	require.True(t, frozen)

	h = peer(t, "web.qmp", "", func(string) string { return "" })
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	begun := time.Now()
	_, err = h.Machines(ctx)
	require.Error(t, err)
	require.Less(t, time.Since(begun), 10*time.Second)
	// A socket that nobody listens at any more is no machine.
	require.NoError(t, os.Rename(filepath.Join(h.folder, "web.qmp"), filepath.Join(h.folder, "was.qmp")))
	l, err := net.Listen("unix", filepath.Join(h.folder, "web.qmp"))
	require.NoError(t, err)
	l.(*net.UnixListener).SetUnlinkOnClose(false)
	l.Close()
	require.NoError(t, os.Remove(filepath.Join(h.folder, "was.qmp")))
	found, err := h.Machines(t.Context())
	require.NoError(t, err)
	require.Empty(t, found)
}
