package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium/dir"
	"keenlodge/internal/store/pooled"
	"keenlodge/internal/wire"
)

// The story of the product: back up by hand, look, rotate, prove, restore.
func TestBackUpRotateProveRestore(t *testing.T) {
	for range 4 {
		out := backUp(t, "nightly")
		require.Contains(t, out, "✓ done")
	}
	for _, guest := range []string{"tickets-db", "timetable", "berth-sim"} {
		require.Len(t, images(t, guest), 3, "newest 3")
	}
	requireClean(t, "tickets-db")
	requireClean(t, "berth-sim")
	require.Equal(t, "shut off", strings.TrimSpace(virsh(t, "domstate", "berth-sim")))

	m := images(t, "tickets-db")[0]
	require.EqualValues(t, "filesystem", m.Consistency)
	require.Positive(t, m.Frozen)
	require.Less(t, m.Frozen, (10 * time.Second).Nanoseconds())
	require.Len(t, m.Disks, 2)
	require.Less(t, m.Read, m.Size/4, "free space is not read")
	require.Less(t, m.Stored, m.Read/10, "what the store has is not stored again")
	require.EqualValues(t, "read", m.Proven, "the policy asks for it")
	require.EqualValues(t, "off", images(t, "berth-sim")[0].Consistency)

	runs := keenJSON[[]wire.Run](t, "run", "list")
	require.EqualValues(t, "done", runs[0].State)
	require.Len(t, runs[0].Tasks, 3)
	require.Contains(t, keenOK(t, "run", "log", runs[0].ID[:6]), "no clause of the rule keeps it")

	out := keenOK(t, "image", "prove", m.ID[:7], "--level", "mount", "--wait")
	require.Regexp(t, `vda1: ext4 mounted, \d+ folders and \d+ entries listed, \d+ files read whole`, out)
	require.Regexp(t, `vdb1: ledger clean, \d+ lines`, out)
	require.EqualValues(t, "mount", images(t, "tickets-db")[0].Proven)
	if faultsToo() { // make faults does it: it waits for another reader guest
		out = keenOK(t, "image", "prove", m.ID, "--level", "restore", "--wait")
		require.Regexp(t, `vdb: written out whole \(512 MiB\), and [\d.]+ MiB of data compared block by block`, out)
		require.Contains(t, out, "vdb1: ext4, clean by e2fsck")
		require.Regexp(t, `busybox tail -n 1 /data/keenlodge.ledger: \d+ \d+ [0-9a-f]{64}`, out, "a program of its own looked at it")
	}
	mounts, err := os.ReadFile("/proc/mounts")
	require.NoError(t, err)
	require.NotContains(t, string(mounts), place.Folder, "mounts are left")

	s := keen(t, "image", "restore", m.ID, "--as", "tickets-db", "--wait")
	require.Equal(t, 1, s.code)
	require.Contains(t, s.err, "a guest called tickets-db exists already")

	out = keenOK(t, "image", "restore", m.ID, "--as", "tickets-db-again", "--start", "--wait")
	require.Regexp(t, `/data: ledger clean, \d+ lines`, out)
	old, again := virsh(t, "dumpxml", "tickets-db"), virsh(t, "dumpxml", "tickets-db-again")
	for _, element := range []string{"<uuid>", "<mac address="} {
		at := strings.Index(old, element)
		require.NotContains(t, again, old[at:at+len(element)+30], "a new identity")
	}
	volume, err := filepath.Glob(filepath.Join(place.Folder, "pool", "tickets-db-again-vda-*.qcow2"))
	require.NoError(t, err)
	require.Len(t, volume, 1)
	virsh(t, "destroy", "tickets-db-again")
	told, err := exec.Command("qemu-img", "check", "-q", volume[0]).CombinedOutput()
	require.NoError(t, err, string(told))

	// Onto the name that exists now: only when told so, and what was there stays.
	s = keen(t, "image", "restore", m.ID, "--as", "tickets-db-again", "--wait")
	require.Contains(t, s.err, "allow it to be replaced (--replace)")
	keenOK(t, "image", "restore", m.ID, "--as", "tickets-db-again", "--replace", "--wait")
	require.FileExists(t, volume[0])
	virsh(t, "undefine", "tickets-db-again")
}

// What lies in the store is, byte for byte, the disk of a guest that was off.
func TestAnImageIsTheDisk(t *testing.T) {
	backUp(t, "nightly-guests")
	m := images(t, "berth-sim")[0]
	medium, err := dir.Open(place.Shelf())
	require.NoError(t, err)
	st, err := pooled.Open(t.Context(), medium, nil)
	require.NoError(t, err)
	manifest, err := st.ReadImage(t.Context(), m.ID)
	require.NoError(t, err)
	r, err := image.NewReader(st, manifest.Disks[0])
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "disk.raw")
	f, err := os.Create(file)
	require.NoError(t, err)
	body := make([]byte, 1<<20)
	for at := int64(0); at < r.Size(); at += int64(len(body)) {
		_, err := r.ReadAt(body, at)
		require.NoError(t, err)
		_, err = f.Write(body)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	told, err := exec.Command("qemu-img", "compare", "-U", "-f", "raw", "-F", "qcow2", file, filepath.Join(place.Folder, "pool", "berth-sim-vda.qcow2")).CombinedOutput()
	require.NoError(t, err, string(told))
}

// A moment that came is fired once and the next one is set; a run still going makes the second one skipped, with a reason.
func TestTheScheduleFires(t *testing.T) {
	ctx := t.Context()
	applyWith(t, "    windows:\n      - only 20:00-06:00\n    spread: 10 minutes\n", "") // it must not wait for the evening
	policies, err := lodge.Policies(ctx)
	require.NoError(t, err)
	next := policies[0].NextDue
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	require.Equal(t, "23:00:00", next.In(lisbon).Format("15:04:05"))
	before := keenJSON[[]wire.Run](t, "run", "list")

	db := database(t)
	for _, want := range []string{"done", "skipped"} {
		// As if the clock had come to it; the scheduler looks once a second.
		due := time.Now().Add(-time.Duration(len(want)) * time.Second)
		_, err = db.Exec(ctx, "update policies set next_due = $1 where name = 'nightly-guests'", due)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			runs, _, err := lodge.Runs(ctx, wire.RunFilter{Page: wire.Page{Limit: 5}})
			require.NoError(t, err)
			return runs[0].ID != before[0].ID && (want == "done" || runs[0].State == "skipped" || runs[1].State == "skipped")
		}, 20*time.Second, 50*time.Millisecond)
	}
	after := keenJSON[[]wire.Run](t, "run", "list")
	require.Len(t, after, min(20, len(before)+2))
	skipped := after[0]
	require.EqualValues(t, "schedule", skipped.Cause)
	require.Contains(t, skipped.Error, "still going")
	policies, err = lodge.Policies(ctx)
	require.NoError(t, err)
	require.Equal(t, next, policies[0].NextDue)
	run, err := lodge.Watch(ctx, after[1].ID, func(wire.Run) {})
	require.NoError(t, err)
	require.EqualValues(t, "done", run.State, run.Error)
}

func database(t *testing.T) *pgx.Conn {
	t.Helper()
	t.Setenv("PGPASSFILE", filepath.Join(place.Folder, "pgpass"))
	pass, err := os.ReadFile(filepath.Join(place.Folder, "pgpass"))
	require.NoError(t, err)
	db, err := pgx.Connect(t.Context(), "postgres://lodge@127.0.0.1:"+strings.Split(string(pass), ":")[1]+"/postgres?sslmode=disable")
	require.NoError(t, err)
	t.Cleanup(func() { db.Close(t.Context()) })
	return db
}

// The two commands that need no service work without one, and say what is wrong.
func TestCommandsThatStandAlone(t *testing.T) {
	t.Setenv("KEENLODGE_TOKEN_FILE", "/nonexistent")
	vectors, err := filepath.Glob("../internal/core/rotation/testdata/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, vectors)
	for _, v := range vectors {
		var vector struct{ Input json.RawMessage }
		body, err := os.ReadFile(v)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(body, &vector))
		file := filepath.Join(t.TempDir(), "set.json")
		require.NoError(t, os.WriteFile(file, vector.Input, 0o600))
		var plan struct {
			Decisions []struct{ ID, Verdict, Why string }
			Guard     *string
		}
		require.NoError(t, json.Unmarshal([]byte(keenOK(t, "rotation", "try", file, "-o", "json")), &plan))
		require.NotEmpty(t, plan.Decisions)
		require.NotNil(t, plan.Guard)
	}
	out := keenOK(t, "schedule", "next", "every day at 23:00", "--zone", "Europe/Lisbon", "--from", "2026-03-28T12:00:00Z", "--count", "2", "-o", "json")
	require.JSONEq(t, `{"times": ["2026-03-28T23:00:00Z", "2026-03-29T23:00:00+01:00"]}`, out)

	s := keen(t, "schedule", "next", "every day at 25:00")
	require.Equal(t, 2, s.code)
	require.Contains(t, s.err, `at "25:00" (character 14)`)
	bad := filepath.Join(t.TempDir(), "bad.json")
	require.NoError(t, os.WriteFile(bad, []byte("{\"zone\": \"UTC\",\n\"now\": \"2026-01-01T00:00:00Z\", \"rule\": \"newest 1\",\n\"images\": [{\"id\": 7}]}"), 0o600))
	s = keen(t, "rotation", "try", bad)
	require.Equal(t, 1, s.code)
	require.Equal(t, 1, strings.Count(s.err, "\n"), s.err)
	require.Contains(t, s.err, "bad.json: line 3")
}

func TestWordsMayBeShortened(t *testing.T) {
	require.Contains(t, keenOK(t, "mach", "l"), "tickets-db")
	s := keen(t, "r", "list")
	require.Equal(t, 2, s.code)
	require.Contains(t, s.err, `"r" may mean run or restore or rotation`)
	s = keen(t, "polcy", "list")
	require.Equal(t, 2, s.code)
	require.Contains(t, s.err, `did you mean "policy"?`)
	s = keen(t, "image", "list", "--machin", "x")
	require.Equal(t, 2, s.code)
	require.Contains(t, keenOK(t, "completion", "bash"), "keenlodge")
}

func TestTheSiteFileComesBackTheSame(t *testing.T) {
	file := filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(file, []byte(keenOK(t, "site", "show")), 0o600))
	require.Contains(t, keenOK(t, "site", "apply", file), "nothing changes")
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(body), "newest 3", "newest 1", 1)), 0o600))
	out := keenOK(t, "site", "apply", "--try", file)
	require.Contains(t, out, `~ policy nightly-guests: rotation: "newest 3" becomes "newest 1"`)
	require.Contains(t, out, `machine tickets-db: "newest 1" drops 1 of 3 images`, "the newest stays, and the one proven by mount")
	require.Contains(t, keenOK(t, "site", "show"), "newest 3", "only tried")
}

func TestTheInterfaceIsClosedToStrangers(t *testing.T) {
	for _, path := range []string{"/api/v1/machines", "/api/v1/site", "/api/v1/events"} {
		r, err := http.Get(place.URL() + path)
		require.NoError(t, err)
		r.Body.Close()
		require.Equal(t, http.StatusUnauthorized, r.StatusCode)
		require.Equal(t, "application/problem+json", r.Header.Get("Content-Type"))
	}
	r, err := http.Get(place.URL() + "/api/openapi.json")
	require.NoError(t, err)
	defer r.Body.Close()
	var described struct {
		OpenAPI string
		Paths   map[string]any
	}
	require.NoError(t, json.NewDecoder(r.Body).Decode(&described))
	require.Equal(t, "3.1.0", described.OpenAPI)
	require.Contains(t, described.Paths, "/api/v1/images/{id}/proofs")
	log, err := os.ReadFile(filepath.Join(place.Folder, "service.log"))
	require.NoError(t, err)
	token, err := os.ReadFile(place.TokenFile())
	require.NoError(t, err)
	require.NotContains(t, string(log), strings.TrimSpace(string(token)))
}

// A browser's session is a cookie that scripts can't read and other sites don't send.
func TestASession(t *testing.T) {
	post := func(body string) *http.Response {
		r, err := http.Post(place.URL()+"/api/v1/session", "application/json", strings.NewReader(body))
		require.NoError(t, err)
		r.Body.Close()
		return r
	}
	require.Equal(t, http.StatusUnauthorized, post(`{"token": "guess"}`).StatusCode)
	require.Equal(t, http.StatusUnprocessableEntity, post(`{"tokn": "guess"}`).StatusCode)
	token, err := os.ReadFile(place.TokenFile())
	require.NoError(t, err)
	body, err := json.Marshal(map[string]string{"token": string(token)})
	require.NoError(t, err)
	r := post(string(body))
	require.Equal(t, http.StatusNoContent, r.StatusCode)
	require.Len(t, r.Cookies(), 1)
	c := r.Cookies()[0]
	require.True(t, c.HttpOnly)
	require.Equal(t, http.SameSiteStrictMode, c.SameSite)
	ask, err := http.NewRequest(http.MethodGet, place.URL()+"/api/v1/machines", nil)
	require.NoError(t, err)
	ask.AddCookie(c)
	r, err = http.DefaultClient.Do(ask)
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, http.StatusOK, r.StatusCode)
	require.Contains(t, r.Header.Get("Content-Security-Policy"), "default-src 'self'")

	r, err = http.Get(place.URL() + "/api/v1/nothing")
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, http.StatusNotFound, r.StatusCode)
	require.Equal(t, "application/problem+json", r.Header.Get("Content-Type"))
	r, err = http.Get(place.URL() + "/some/page")
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, http.StatusOK, r.StatusCode, "every other path is the console's")
}
