package e2e

import (
	"bufio"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/wire"
)

// serveImage has a client serve an image, and tells where each of its disks is.
func serveImage(t *testing.T, disks int, cmd *exec.Cmd) map[string]string {
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGINT)
		require.NoError(t, cmd.Wait())
	})
	at := map[string]string{}
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	for range disks {
		require.True(t, lines.Scan())
		found := regexp.MustCompile(`^ +(\w+) +\S+ \w+ +(nbd\+unix:\S+)$`).FindStringSubmatch(lines.Text())
		require.NotNil(t, found, lines.Text())
		at[found[1]] = found[2]
	}
	return at
}

// Somebody looks into an image of disks: its file systems, as they were on the machine, a folder, a file, some of its bytes, a folder as an archive.
// That is noted. The reader guest that does it ends with the service, however that ends.
func TestLookingIntoAnImage(t *testing.T) {
	if len(images(t, "tickets-db")) == 0 {
		backUp(t, "nightly")
	}
	id := images(t, "tickets-db")[0].ID
	out := keenOK(t, "image", "files", id)
	require.Regexp(t, `vda1 +ext4 +system .* /\s`, out)
	require.Regexp(t, `vdb1 +ext4 +data .* /data\s`, out)
	begun := time.Now()
	require.Regexp(t, `-rw-r--r-- root:0 +7\d\d KiB .* /data/records/sailings.txt`, keenOK(t, "image", "files", id, "/data/records"))
	require.Less(t, time.Since(begun), 2*time.Second, "its guest is up")
	sailings := keenOK(t, "image", "cat", id, "/data/records/sailings.txt")
	require.True(t, strings.HasPrefix(sailings, "tickets-db sailing 00001 Brindle Sound\n"))
	require.Equal(t, sailings, keenOK(t, "image", "cat", id, "vdb1:/records/sailings.txt"))

	require.Eventually(t, func() bool {
		found := keenOK(t, "image", "files", "--machine", "tickets-db", "--find", "sailings.*")
		return regexp.MustCompile(`/data/records/sailings.txt +7\d\d KiB .* ` + id).MatchString(found)
	}, 30*time.Second, 500*time.Millisecond, "what was opened is listed")

	folder := t.TempDir()
	for _, form := range []string{"tar", "zip"} {
		to := filepath.Join(folder, "records."+form)
		keenOK(t, "image", "download", id, "/data/records", "--to", to)
		got, err := exec.Command("bsdtar", "-xOf", to, "data/records/sailings.txt").Output()
		require.NoError(t, err)
		require.Equal(t, sha256.Sum256([]byte(sailings)), sha256.Sum256(got), form)
	}
	token, err := os.ReadFile(place.TokenFile())
	require.NoError(t, err)
	ranged := func(header string) (int, string, string) {
		r, err := http.NewRequest(http.MethodGet, place.URL()+"/api/v1/images/"+id+"/content?path="+url.QueryEscape("/data/records/sailings.txt"), nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		r.Header.Set("Range", header)
		got, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer got.Body.Close()
		body, err := io.ReadAll(got.Body)
		require.NoError(t, err)
		return got.StatusCode, got.Header.Get("Content-Range"), string(body)
	}
	code, what, body := ranged("bytes=11-17")
	require.Equal(t, []any{206, "bytes 11-17/780000", "sailing"}, []any{code, what, body})
	code, what, body = ranged("bytes=-6")
	require.Equal(t, []any{206, "bytes 779994-779999/780000", "Sound\n"}, []any{code, what, body})
	code, _, body = ranged("bytes=9-2")
	require.Equal(t, []any{200, sailings}, []any{code, body}, "a range that makes no sense is passed over")

	for _, c := range [][2]string{{"/nowhere", "/nowhere is not there"}, {"vdz:/", `no file system is called "vdz"`}} {
		s := keen(t, "image", "files", id, c[0])
		require.Equal(t, 1, s.code)
		require.Contains(t, s.err, c[1])
	}
	deeds := keenJSON[[]wire.Deed](t, "audit", "list", "--limit", "30")
	require.True(t, func() bool {
		for _, d := range deeds {
			if d.Verb == "read-image-file" && strings.HasSuffix(d.Target, "?path=/data/records/sailings.txt") {
				return true
			}
		}
		return false
	}(), "who looked at what is noted: %v", deeds)

	// It goes into a folder of this computer, too, as it was.
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	here := filepath.Join(folder, "here")
	require.Contains(t, keenOK(t, "restore", "files", id, "/data/records", "vdb1:/records/sailings.txt", "--here", here, "--yes"), "✓ 4 paths")
	for _, p := range []string{"records/sailings.txt", "sailings.txt"} {
		got, err := os.ReadFile(filepath.Join(here, p))
		require.NoError(t, err)
		require.Equal(t, sha256.Sum256([]byte(sailings)), sha256.Sum256(got), p)
	}
	require.Contains(t, keenOK(t, "restore", "files", id, "/data/records", "--here", here, "--yes"), "there is nothing to be done")

	// A file goes back onto the guest through the guest's own agent.
	shell(t, "tickets-db", "echo sunk > /data/records/sailings.txt")
	back := []string{"restore", "files", id, "/data/records/sailings.txt", "--existing", "replace"}
	shown := keenOK(t, append(back, "--preview")...)
	require.Regexp(t, `~ replace +/data/records/sailings.txt +762 KiB +5 B of`, shown)
	require.Contains(t, shown, "it can't be undone")
	run := keenOK(t, append(back, "--yes", "--wait")...)
	require.Contains(t, run, "1 replaced (762 KiB)")
	require.Equal(t, fmt.Sprintf("%x", sha256.Sum256([]byte(sailings))), strings.Fields(shell(t, "tickets-db", "sha256sum /data/records/sailings.txt"))[0])
	require.Contains(t, keenOK(t, append(back, "--preview")...), "there is nothing to be done")
	s := keen(t, "restore", "files", id, "/", "--preview")
	require.Contains(t, s.err, "200 paths at most")
	s = keen(t, "restore", "undo", regexp.MustCompile(`run (\w{8}) `).FindStringSubmatch(run)[1], "--wait")
	require.Contains(t, s.out+s.err, "keeps nothing of what was replaced")

	// Its disks are here for whatever speaks NBD.
	at := serveImage(t, 2, exec.Command(place.Program, "--url", place.URL(), "--token-file", place.TokenFile(), "image", "serve", id))
	raw := filepath.Join(folder, "vdb.raw")
	told, err := exec.Command("sh", "-ec", `qemu-img convert -f raw -O raw "$1" "$2"; dd if="$2" of="$2.fs" bs=1M skip=1 conv=sparse status=none; e2fsck -fn "$2.fs" >&2 || [ $? = 4 ]; debugfs -R "cat /records/sailings.txt" "$2.fs" 2>/dev/null`, "sh", at["vdb"], raw).Output()
	require.NoError(t, err)
	require.Equal(t, sha256.Sum256([]byte(sailings)), sha256.Sum256(told))
	_, err = exec.Command("qemu-io", "-f", "raw", "-c", "write 0 4k", at["vdb"]).Output()
	require.Error(t, err, "read-only")

	guests := func() []string {
		found, err := exec.Command("pgrep", "-f", filepath.Join(place.Folder, "state", "reader")).Output()
		if err != nil {
			return nil
		}
		return strings.Fields(string(found))
	}
	require.NotEmpty(t, guests(), "it is kept for a while")
	folders, err := filepath.Glob(filepath.Join(place.Folder, "state", "reader", "guest-*"))
	require.NoError(t, err)
	require.NotEmpty(t, folders)
	service.Signal(syscall.SIGKILL)
	require.Eventually(t, func() bool { return len(guests()) == 0 }, 20*time.Second, 50*time.Millisecond)
	startService(t)
	for _, left := range folders { // there may be others: the service goes on with what it has to prove
		require.Eventually(t, func() bool { _, err := os.Stat(left); return errors.Is(err, fs.ErrNotExist) }, 20*time.Second, 50*time.Millisecond, left)
	}
}
