package notify

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func script(t *testing.T, text string) string {
	path := filepath.Join(t.TempDir(), "hook")
	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+text), 0o700))
	return path
}

func TestScripts(t *testing.T) {
	t.Setenv("PGPASSWORD", "secret")
	out, err := Script(t.Context(), script(t, `echo "$KEENLODGE_RUN $PGPASSWORD"; echo two >&2`), map[string]string{"KEENLODGE_RUN": "abc"}, time.Minute)
	require.NoError(t, err)
	require.Equal(t, "abc \ntwo\n", out, "the service's own environment is no script's business")

	out, err = Script(t.Context(), script(t, `echo why; exit 3`), nil, time.Minute)
	require.ErrorContains(t, err, "exit status 3")
	require.Equal(t, "why\n", out)

	out, err = Script(t.Context(), script(t, `yes`), nil, 300*time.Millisecond)
	require.ErrorContains(t, err, "it took longer than 300ms and was killed")
	require.Len(t, out, mostSaid)

	// What it started goes with it.
	mark := filepath.Join(t.TempDir(), "pid")
	_, err = Script(t.Context(), script(t, `sleep 600 & echo $! > `+mark+`; wait`), nil, 300*time.Millisecond)
	require.ErrorContains(t, err, "was killed")
	pid, err := os.ReadFile(mark)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		state, err := os.ReadFile("/proc/" + strings.TrimSpace(string(pid)) + "/stat")
		return err != nil || strings.Contains(string(state), ") Z ")
	}, 5*time.Second, 10*time.Millisecond)

	plain := filepath.Join(t.TempDir(), "plain")
	require.NoError(t, os.WriteFile(plain, nil, 0o600))
	_, err = Script(t.Context(), plain, nil, time.Minute)
	require.ErrorContains(t, err, "is not executable; run: chmod +x")
	require.NoError(t, os.Chmod(plain, 0o777))
	_, err = Script(t.Context(), plain, nil, time.Minute)
	require.ErrorContains(t, err, "may be changed by others than its owner")
	_, err = Script(t.Context(), plain+"x", nil, time.Minute)
	require.ErrorContains(t, err, "no such file")
}

// A receiver checks the signature by the words of the RFC, not by our code.
func TestDelivery(t *testing.T) {
	key := []byte("thirty-two bytes that only two know")
	status := 200
	var got map[string]any
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		sum := sha256.Sum256(body)
		require.Equal(t, "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":", r.Header.Get("Content-Digest"))
		parameters := strings.TrimPrefix(r.Header.Get("Signature-Input"), "keenlodge=")
		require.Contains(t, parameters, `;created=1770724800;keyid="desk";alg="hmac-sha256"`)
		lines := []string{`"@method": POST`, `"@target-uri": http://` + r.Host + r.URL.RequestURI(), `"content-type": ` + r.Header.Get("Content-Type"),
			`"content-digest": ` + r.Header.Get("Content-Digest"), `"@signature-params": ` + parameters}
		mac := hmac.New(sha256.New, key)
		mac.Write([]byte(strings.Join(lines, "\n")))
		require.Equal(t, "keenlodge=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":", r.Header.Get("Signature"))
		require.Equal(t, "application/cloudevents+json; charset=UTF-8", r.Header.Get("Content-Type"))
		require.NoError(t, json.Unmarshal(body, &got))
		w.Header().Set("Location", "http://127.0.0.1:1/")
		w.WriteHeader(status)
	}))
	defer server.Close()
	now := time.Unix(1770724800, 0)
	e := NewEvent("r1-done", "/policies/nightly-guests", "keenlodge.run.done", "r1", now, map[string]string{"state": "done"})
	send := func() error { return Deliver(t.Context(), server.URL+"/runs?desk=1", "desk", key, e, now) }
	require.NoError(t, send())
	require.Equal(t, map[string]any{"specversion": "1.0", "id": "r1-done", "source": "/policies/nightly-guests", "type": "keenlodge.run.done", "subject": "r1",
		"time": "2026-02-10T12:00:00Z", "datacontenttype": "application/json", "data": map[string]any{"state": "done"}}, got)
	for code, rejected := range map[int]bool{400: true, 410: true, 429: false, 500: false, 302: false} {
		status = code
		err := send()
		require.ErrorContains(t, err, fmt.Sprintf("webhook desk answered %d", code))
		require.Equal(t, rejected, strings.Contains(err.Error(), ErrRejected.Error()))
	}
	server.Close()
	err := send()
	require.Error(t, err)
	require.NotContains(t, err.Error(), "desk=1")
}

// A script runs as the service, so nobody else may be able to put another in its place: not by its owner, nor by a folder above it.
func TestWhoCouldChangeAScript(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "hooks")
	require.NoError(t, os.Mkdir(folder, 0o755))
	script := filepath.Join(folder, "tell")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\n"), 0o755))
	require.NoError(t, CheckScript(script))
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(script, link))
	require.NoError(t, CheckScript(link))
	require.NoError(t, os.Chmod(folder, 0o777))
	require.ErrorContains(t, CheckScript(script), "lies below "+folder)
	require.ErrorContains(t, CheckScript(link), "lies below "+folder)
	require.NoError(t, os.Chmod(folder, 0o777|os.ModeSticky))
	require.NoError(t, CheckScript(script), "in a folder with the sticky bit nobody takes away what is another's")
	require.NoError(t, os.Chmod(folder, 0o755))
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chown(script, 12345, 0))
		require.ErrorContains(t, CheckScript(script), "belongs to another account than the service's")
		require.NoError(t, os.Chown(script, 0, 0))
		require.NoError(t, os.Chown(folder, 12345, 0))
		require.ErrorContains(t, CheckScript(script), "lies below "+folder)
	}
}
