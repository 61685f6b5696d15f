package e2e

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/pinned"
)

// A lodge that speaks TLS by its own authority: who meets it compares its fingerprint, once; a renewed authority is followed; a token that is
// revoked in one process is refused in the other within a second.
func TestTheDoor(t *testing.T) {
	l := newLodging(t)
	beyond := l.run("serve", "--listen", "0.0.0.0:0")
	out, err := beyond.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "can be reached from elsewhere, and without TLS tokens and images could be read on the way")

	_, one, log := l.serve("--tls", "--tls-name", "lodge.brindle.example")
	found := regexp.MustCompile(`fingerprint=(SHA256:\S+)`).FindStringSubmatch(log())
	require.Len(t, found, 2, log())
	mine := filepath.Join(t.TempDir(), "client", "token")
	keen := func(address string, args ...string) said { return keenAt(t, "https://"+address, mine, args...) }
	s := keen(one, "sign-in", "--from", l.token)
	require.Equal(t, 2, s.code, "nobody is there to compare the fingerprint")
	require.Contains(t, s.err, "there is no terminal to ask on")
	wrong := "SHA256:" + strings.Repeat("A", 43)
	s = keen(one, "sign-in", "--from", l.token, "--fingerprint", wrong)
	require.Equal(t, 1, s.code)
	require.Contains(t, s.err, "shows the fingerprint "+found[1]+", and not "+wrong)
	require.NoFileExists(t, mine, "what is not trusted is told no token")
	s = keen(one, "sign-in", "--from", l.token, "--fingerprint", found[1])
	require.Equal(t, 0, s.code, s.err)
	require.Contains(t, s.out, "you are first until")
	for _, file := range []string{mine, filepath.Join(filepath.Dir(mine), "known-lodges")} {
		info, err := os.Stat(file)
		require.NoError(t, err)
		require.EqualValues(t, 0o600, info.Mode().Perm(), file)
	}
	require.Equal(t, 0, keen(one, "machine", "list").code)
	s = keenAt(t, "http://"+one, mine, "machine", "list")
	require.Equal(t, 1, s.code, "plain HTTP is not spoken")

	// What a browser gets: TLS 1.3, HTTP/2, headers that keep it from what the console never does, and a cookie for TLS alone.
	config := pinned.Config("127.0.0.1", []string{found[1]}, nil)
	browser := &http.Client{Transport: &http.Transport{TLSClientConfig: config, ForceAttemptHTTP2: true}}
	secret, err := os.ReadFile(mine)
	require.NoError(t, err)
	res, err := browser.Post("https://"+one+"/api/v1/session", "application/json", strings.NewReader(`{"token": "`+strings.TrimSpace(string(secret))+`"}`))
	require.NoError(t, err)
	io.Copy(io.Discard, res.Body)
	res.Body.Close()
	require.Equal(t, 204, res.StatusCode)
	require.Equal(t, 2, res.ProtoMajor)
	require.EqualValues(t, tls.VersionTLS13, res.TLS.Version)
	session := res.Cookies()[0]
	require.True(t, session.Secure && session.HttpOnly && session.SameSite == http.SameSiteStrictMode, "%v", session)
	for name, want := range map[string]string{"Strict-Transport-Security": "max-age=", "Content-Security-Policy": "default-src 'self'", "X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer",
		"Cross-Origin-Opener-Policy": "same-origin", "Cross-Origin-Resource-Policy": "same-origin", "Permissions-Policy": "camera=()", "Cache-Control": "no-store"} {
		require.Contains(t, res.Header.Get(name), want, name)
	}
	old := config.Clone()
	old.MinVersion, old.MaxVersion = tls.VersionTLS12, tls.VersionTLS12
	_, err = tls.Dial("tcp", one, old)
	require.ErrorContains(t, err, "protocol version")

	// The authority is renewed while two processes run: clients follow by themselves.
	_, two, _ := l.serve("--tls")
	s = keen(two, "sign-in", "--from", l.token, "--fingerprint", found[1])
	require.Equal(t, 0, s.code, s.err)
	before, err := os.ReadFile(filepath.Join(filepath.Dir(mine), "known-lodges"))
	require.NoError(t, err)
	s = keen(one, "authority", "renew")
	require.Equal(t, 0, s.code, s.err)
	require.Eventually(t, func() bool { // the other process looks at the vault now and then
		s := keen(two, "machine", "list")
		after, err := os.ReadFile(filepath.Join(filepath.Dir(mine), "known-lodges"))
		require.NoError(t, err)
		require.Equal(t, 0, s.code, s.err)
		return !bytes.Contains(after, []byte(two+" "+found[1])) && !bytes.Equal(after, before)
	}, 20*time.Second, 500*time.Millisecond)
	require.Equal(t, 0, keen(one, "machine", "list").code)

	// Revoked in one process, refused in the other.
	watch := filepath.Join(t.TempDir(), "watch")
	s = keen(one, "token", "new", "night-watch", "--role", "viewer", "--to", watch)
	require.Equal(t, 0, s.code, s.err)
	body, err := os.ReadFile(watch)
	require.NoError(t, err)
	known, err := os.ReadFile(filepath.Join(filepath.Dir(mine), "known-lodges"))
	require.NoError(t, err)
	pins := strings.Fields(regexp.MustCompile(`(?m)^` + regexp.QuoteMeta(two) + ` .*$`).FindString(string(known)))[1:]
	other := &http.Client{Transport: &http.Transport{TLSClientConfig: pinned.Config("127.0.0.1", pins, nil)}}
	ask := func() int {
		req, err := http.NewRequestWithContext(t.Context(), "GET", "https://"+two+"/api/v1/machines", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(body)))
		res, err := other.Do(req)
		require.NoError(t, err)
		io.Copy(io.Discard, res.Body)
		res.Body.Close()
		return res.StatusCode
	}
	require.Equal(t, 200, ask())
	require.Equal(t, 0, keen(one, "token", "revoke", "night-watch").code)
	require.Eventually(t, func() bool { return ask() == 401 }, time.Second, 10*time.Millisecond)
	s = keen(one, "audit", "verify")
	require.Equal(t, 0, s.code, s.err)
}

// What is secret is in no log, no argument, no environment of a child, no core dump, and not readable in the database.
func TestSecretsStaySecret(t *testing.T) {
	l := newLodging(t)
	service, address, _ := l.serve("--tls")
	found := regexp.MustCompile(`fingerprint=(SHA256:\S+)`)
	log, err := os.ReadFile(l.logs[0])
	require.NoError(t, err)
	mine := filepath.Join(t.TempDir(), "token")
	keen := func(args ...string) said { return keenAt(t, "https://"+address, mine, args...) }
	s := keen("sign-in", "--from", l.token, "--fingerprint", found.FindStringSubmatch(string(log))[1])
	require.Equal(t, 0, s.code, s.err)
	folder := t.TempDir()
	passphrase, word := "a tide of seven words in the harbour", filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(word, []byte(passphrase+"\n"), 0o600))
	s = keen("store", "add", "vault", "--medium", "dir", "--folder", folder, "--sealed", "--yes", "--passphrase-file", word)
	require.Equal(t, 0, s.code, s.err)
	accessKey := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(accessKey, []byte("a-secret-of-the-far-bucket"), 0o600))
	s = keen("store", "secret", "vault", "--medium", "s3", "--access-key", "crane", "--secret-file", accessKey)
	require.Equal(t, 0, s.code, s.err)
	s = keen("store", "probe", "vault")
	require.Equal(t, 0, s.code, s.err)
	spare := filepath.Join(t.TempDir(), "spare")
	require.Equal(t, 0, keen("authority", "spare", "--to", spare).code)
	token, err := os.ReadFile(mine)
	require.NoError(t, err)
	key, err := os.ReadFile(spare)
	require.NoError(t, err)
	lodgeKey, err := os.ReadFile(filepath.Join(l.state, "lodge-key"))
	require.NoError(t, err)
	secrets := map[string]string{"the token": strings.TrimSpace(string(token)), "a passphrase": passphrase, "what signs in": "a-secret-of-the-far-bucket", "the spare key": strings.Split(string(key), "\n")[1],
		"the lodge's key": regexp.MustCompile(`AGE-SECRET-KEY-\w+`).FindString(string(lodgeKey))}
	holds := func(where string, body []byte) {
		t.Helper()
		for what, secret := range secrets {
			require.NotEmpty(t, secret, what)
			require.NotContains(t, string(body), secret, "%s is in %s", what, where)
		}
	}
	pid := fmt.Sprint(service.Process.Pid)
	for _, name := range []string{"cmdline", "environ"} {
		body, err := os.ReadFile("/proc/" + pid + "/" + name)
		require.NoError(t, err)
		holds("/proc/"+pid+"/"+name, body)
	}
	limits, err := os.ReadFile("/proc/" + pid + "/limits")
	require.NoError(t, err)
	require.Regexp(t, `(?m)^Max core file size +0 +0 `, string(limits))

	// A key is changed under way; what is stored is readable with the new one alone.
	for _, args := range [][]string{{"vault", "new-key"}, {"vault", "drop-old-keys"}} {
		out, err := l.run(args...).CombinedOutput()
		if args[1] == "drop-old-keys" {
			require.Error(t, err, "not all is sealed anew")
			require.Contains(t, string(out), "keenlodge vault reseal")
			require.Equal(t, 0, keen("vault", "reseal").code)
			out, err = l.run(args...).CombinedOutput()
		}
		require.NoError(t, err, "%s", out)
	}
	require.Equal(t, 0, keen("store", "show", "vault").code)

	require.NoError(t, service.Process.Signal(syscall.SIGABRT))
	service.Wait()
	cores, err := filepath.Glob(filepath.Join(l.state, "core*"))
	require.NoError(t, err)
	require.Empty(t, cores)
	for _, name := range l.logs {
		body, err := os.ReadFile(name)
		require.NoError(t, err)
		holds(name, body)
	}
	for what, secret := range secrets {
		out, _ := exec.Command("grep", "-rlF", "-e", secret, filepath.Join(place.Folder, "pg"), folder, filepath.Join(l.state, "mounts"), filepath.Join(l.state, "digests")).Output()
		require.Empty(t, string(out), what)
	}
}
