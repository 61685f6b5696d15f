package e2e

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/wire"
)

// latest is a policy's newest run.
func latest(t *testing.T, policy string) wire.Run {
	t.Helper()
	for _, r := range keenJSON[[]wire.Run](t, "run", "list") {
		if r.Policy == policy {
			return r
		}
	}
	t.Fatalf("policy %s never ran", policy)
	return wire.Run{}
}

// awaitRun waits until a policy's newest run is as it should be.
func awaitRun(t *testing.T, policy string, is func(wire.Run) bool) (run wire.Run) {
	t.Helper()
	require.Eventually(t, func() bool {
		for _, r := range keenJSON[[]wire.Run](t, "run", "list") {
			if r.Policy == policy {
				run = r
				return is(r)
			}
		}
		return false
	}, time.Minute, 100*time.Millisecond)
	return run
}

// comeDue lets a policy's moment come now, or have come so long ago.
func comeDue(t *testing.T, policy string, ago time.Duration) {
	t.Helper()
	_, err := database(t).Exec(t.Context(), "update policies set next_due = $1 where name = $2", time.Now().Add(-ago), policy)
	require.NoError(t, err)
}

// Guests are checked before they are captured: what they say is in the log, a failure stops or warns as told, and the standby of a pair
// is skipped with a reason.
func TestHealthAndStandby(t *testing.T) {
	withPolicy(t, "weekly-system", "    machines: [tickets-db, timetable]\n    store: quay-shelf\n    rotation: newest 3\n    active: {tags: role=database}\n"+
		"    checks:\n      - {command: [/bin/sh, -c, 'echo ledger has $(busybox wc -l < /data/keenlodge.ledger) lines']}\n      - {mounted: /data, free: 1}\n      - {free: 99, else: warn}\n")
	s := keen(t, "policy", "run", "weekly", "--wait")
	require.Equal(t, 3, s.code, s.out+s.err)
	run := latest(t, "weekly-system")
	require.Equal(t, "first", run.Who)
	require.Len(t, run.Tasks, 2)
	db, web := run.Tasks[0], run.Tasks[1]
	require.Equal(t, []string{"warned", "skipped"}, []string{string(db.State), string(web.State)})
	require.Contains(t, web.Why, `it is not the active member of its pair: its tags do not fit "role=database"`)
	require.Contains(t, strings.Join(db.Warnings, " "), "% free, less than 99 %")
	require.Equal(t, "checking the guest", db.Steps[0].Name)
	log := keenOK(t, "run", "log", run.ID)
	require.Regexp(t, `check: command /bin/sh -c echo ledger .* ended with 0: ledger has \d+ lines`, log)
	require.Regexp(t, `check: /data \(ext[0-9]*\) has \d+ % free`, log)
	shown := keenOK(t, "run", "show", run.ID)
	require.Contains(t, shown, "started by   hand, first")
	require.Contains(t, shown, "reading vdb")

	withPolicy(t, "weekly-system", policyText("tickets-db", "quay-shelf", "    checks: [{command: [/bin/sh, -c, 'echo the ferry is late; exit 4']}]\n"))
	before := len(images(t, "tickets-db"))
	s = keen(t, "policy", "run", "weekly", "--wait")
	require.Equal(t, 1, s.code)
	require.Contains(t, s.out, "the guest did not pass its check: command /bin/sh -c echo the ferry is late; exit 4: it ended with 4: the ferry is late")
	require.Len(t, images(t, "tickets-db"), before)

	withPolicy(t, "weekly-system", policyText("tickets-db", "quay-shelf", "    active: {command: [/bin/sh, -c, 'exit 1']}\n"))
	s = keen(t, "policy", "run", "weekly", "--wait")
	require.Contains(t, s.out, "it is not the active member of its pair: /bin/sh ended with 1")
	require.EqualValues(t, "skipped", latest(t, "weekly-system").State)
	requireClean(t, "tickets-db")
}

// A policy may cover some disks only, or a schedule of it: such images are a set of their own, and restore as what they are.
func TestSomeDisks(t *testing.T) {
	withPolicy(t, "harbour-disks", policyText("tickets-db", "quay-shelf", "    disks: [vdb]\n    prove: read\n    cycle: full every 7th\n    schedules: [{when: at boot, disks: ['*']}]\n"))
	keenOK(t, "policy", "run", "harbour", "--wait")
	keenOK(t, "policy", "run", "harbour", "--wait")
	_, err := database(t).Exec(t.Context(), "delete from boots")
	require.NoError(t, err)
	service.Signal(syscall.SIGTERM)
	startService(t)
	awaitRun(t, "harbour-disks", func(r wire.Run) bool { return r.Cause == "boot" && r.Ended != nil })
	found := keenJSON[[]wire.Image](t, "image", "list", "--policy", "harbour-disks")
	require.Len(t, found, 3)
	require.Equal(t, []image.Scope{"machine", "disks", "disks"}, []image.Scope{found[0].Scope, found[1].Scope, found[2].Scope})
	require.Equal(t, []image.Capture{"full", "incremental", "full"}, []image.Capture{found[0].Capture, found[1].Capture, found[2].Capture})
	require.Len(t, found[0].Disks, 2)
	require.Equal(t, "vdb", found[1].Disks[0].Target)
	require.Len(t, found[1].Disks, 1)
	sets := keenJSON[[]wire.SetPreview](t, "rotation", "preview", "harbour")
	require.Len(t, sets, 2, "each scope is a set of its own")
	keenOK(t, "image", "restore", found[1].ID, "--as", "ledger-only", "--wait")
	disks := virsh(t, "domblklist", "ledger-only")
	require.Contains(t, disks, "vdb")
	require.NotContains(t, disks, "vda")
	virsh(t, "undefine", "ledger-only")
	withPolicy(t, "harbour-disks", policyText("tickets-db", "quay-shelf", "    disks: [vdz]\n"))
	require.Contains(t, keen(t, "policy", "run", "harbour", "--wait").out, "guest tickets-db has no disk vdz that can be captured")
	requireClean(t, "tickets-db")
}

// A run that is cancelled, or takes too long, thaws and clears at once, and leaves nothing behind.
func TestRunsThatAreEnded(t *testing.T) {
	_, folder := freshStore(t, "weekly-system")
	r := inTheMiddle(t, "weekly-system", folder)
	out := keenOK(t, "run", "cancel", r.ID[:5], "--reason", "the pier is closed")
	require.Contains(t, out, "is cancelled: cancelled by first: the pier is closed")
	requireClean(t, "timetable")
	run, err := lodge.Run(t.Context(), r.ID)
	require.NoError(t, err)
	require.EqualValues(t, "failed", run.Tasks[0].State)
	require.Contains(t, run.Tasks[0].Error, "the pier is closed")
	s := keen(t, "run", "cancel", r.ID)
	require.Contains(t, s.err, "is over already: it is cancelled")

	name, folder := fmt.Sprint("shelf-long-", shelves), t.TempDir()
	withPolicy(t, "weekly-system", policyText("timetable", name, "    longest: 1 second\n"), storeText(name, folder))
	s = keen(t, "policy", "run", "weekly", "--wait")
	require.Equal(t, 1, s.code)
	require.Contains(t, s.out, "it took too long: its policy allows 1s, then it is stopped")
	requireClean(t, "timetable")
	require.Empty(t, keenJSON[[]wire.Image](t, "image", "list", "--store", name))
	keenOK(t, "store", "check", name)
}

// Runs wait for their window, but for those by hand; a missed moment does not wait, and is skipped where the policy says so. A clock
// set back or ahead gives no moment a second run.
func TestWindowsAndMissedMoments(t *testing.T) {
	hour := time.Now().In(lisbon(t)).Add(2 * time.Hour)
	closed := fmt.Sprintf("    windows: [only %02d:00-%02d:30]\n", hour.Hour(), hour.Hour())
	withPolicy(t, "weekly-system", policyText("berth-sim", "quay-shelf", closed+"    schedules: [every day at 03:00]\n"))
	comeDue(t, "weekly-system", 0)
	run := awaitRun(t, "weekly-system", func(r wire.Run) bool { return r.Waits != "" })
	require.EqualValues(t, "queued", run.State)
	require.Contains(t, run.Waits, fmt.Sprintf("the window opens at %02d:00", hour.Hour()))
	require.Contains(t, keenOK(t, "run", "list"), "waits: the window opens")
	require.Contains(t, keen(t, "policy", "run", "weekly").err, "going already")
	comeDue(t, "weekly-system", 0)
	awaitRun(t, "weekly-system", func(r wire.Run) bool { return r.State == "skipped" })
	keenOK(t, "run", "cancel", run.ID)
	require.Contains(t, keenOK(t, "policy", "run", "weekly", "--wait"), "done")

	comeDue(t, "weekly-system", 2*time.Hour)
	run = awaitRun(t, "weekly-system", func(r wire.Run) bool {
		return r.Cause == "schedule" && r.Due.Before(time.Now().Add(-time.Hour)) && r.Ended != nil
	})
	require.EqualValues(t, "skipped", run.State)
	require.Contains(t, run.Error, "its moment was missed, for no service ran, and the windows of weekly-system, its store are not open")

	withPolicy(t, "weekly-system", policyText("berth-sim", "quay-shelf", "    missed: skip\n    schedules: [every day at 03:00]\n"))
	comeDue(t, "weekly-system", 3*time.Hour)
	run = awaitRun(t, "weekly-system", func(r wire.Run) bool { return strings.Contains(r.Error, "its entry says to skip such") })
	require.EqualValues(t, "skipped", run.State)
	withPolicy(t, "weekly-system", policyText("berth-sim", "quay-shelf", "    schedules: [every day at 03:00]\n"))
	comeDue(t, "weekly-system", 4*time.Hour)
	run = awaitRun(t, "weekly-system", func(r wire.Run) bool { return r.State == "done" && r.Cause == "schedule" })
	require.WithinDuration(t, time.Now().Add(-4*time.Hour), *run.Due, time.Minute, "a missed moment runs once")

	// A next moment ten years ahead, as from a clock that was wrong, is brought back when the service starts.
	comeDue(t, "weekly-system", -10*365*24*time.Hour)
	service.Signal(syscall.SIGTERM)
	startService(t)
	require.Eventually(t, func() bool {
		policies, err := lodge.Policies(t.Context())
		require.NoError(t, err)
		i := slices.IndexFunc(policies, func(p wire.Policy) bool { return p.Name == "weekly-system" })
		return policies[i].NextDue.Before(time.Now().Add(25 * time.Hour))
	}, 20*time.Second, 100*time.Millisecond)
}

// One policy's end starts the next; a paused one is skipped with its reason, by hand it is refused, and it goes on by itself.
func TestChainsAndPauses(t *testing.T) {
	withPolicy(t, "weekly-system", policyText("berth-sim", "quay-shelf", "    schedules: [{when: after monthly-whole, note: after the month}]\n")+
		"  monthly-whole:\n"+policyText("berth-sim", "quay-shelf", "    schedules: [{when: at boot, capture: full}]\n"))
	require.Contains(t, keenOK(t, "policy", "list"), "after monthly-whole")
	keenOK(t, "policy", "run", "monthly", "--wait")
	run := awaitRun(t, "weekly-system", func(r wire.Run) bool { return r.State == "done" })
	require.EqualValues(t, "chain", run.Cause)
	require.Equal(t, "after the month", run.Note)
	m := keenJSON[wire.Image](t, "image", "show", run.Tasks[0].Image)
	require.Equal(t, "after the month", m.Note)

	require.Contains(t, keen(t, "policy", "pause", "weekly", "--until", "2026-02-30").err, "is neither a day nor a moment")
	require.Contains(t, keen(t, "policy", "pause", "weekly", "--until", "2020-02-01").err, "lies in the past")
	keenOK(t, "policy", "pause", "weekly", "--reason", "harbour upgrade", "--until", time.Now().Add(time.Hour).Format(time.RFC3339))
	require.Regexp(t, `! weekly-system: paused until .* by first: harbour upgrade`, keenOK(t, "policy", "list"))
	require.Contains(t, keen(t, "policy", "run", "weekly").err, "is paused until")
	keenOK(t, "policy", "run", "monthly", "--wait")
	run = awaitRun(t, "weekly-system", func(r wire.Run) bool { return r.State == "skipped" })
	require.Contains(t, run.Error, "harbour upgrade")
	keenOK(t, "policy", "resume", "weekly")
	require.Contains(t, keen(t, "policy", "resume", "weekly").err, "is not paused")

	// The host boots: the service finds another boot than the last that it saw.
	_, err := database(t).Exec(t.Context(), "delete from boots")
	require.NoError(t, err)
	service.Signal(syscall.SIGTERM)
	startService(t)
	run = awaitRun(t, "monthly-whole", func(r wire.Run) bool { return r.Cause == "boot" && r.Ended != nil })
	require.EqualValues(t, "done", run.State)
	require.Equal(t, "its schedule asks for a full one", keenJSON[wire.Image](t, "image", "show", run.Tasks[0].Image).CaptureWhy)
	awaitRun(t, "weekly-system", func(r wire.Run) bool { return r.Cause == "chain" && r.State == "done" })
}

// Hooks are called at their moments and told what happens; one that hangs while the guest is frozen is killed in time; webhooks are
// signed and tried again.
func TestHooks(t *testing.T) {
	var mu sync.Mutex
	var key []byte
	var moments []string
	refused := map[string]bool{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		var e struct {
			SpecVersion, ID, Type string
			Data                  struct{ Moment, Machine, State string }
		}
		require.NoError(t, json.Unmarshal(body, &e))
		require.Equal(t, "1.0", e.SpecVersion)
		parameters := strings.TrimPrefix(r.Header.Get("Signature-Input"), "keenlodge=")
		mac := hmac.New(sha256.New, key)
		fmt.Fprintf(mac, "\"@method\": POST\n\"@target-uri\": http://%s%s\n\"content-type\": %s\n\"content-digest\": %s\n\"@signature-params\": %s",
			r.Host, r.URL.RequestURI(), r.Header.Get("Content-Type"), r.Header.Get("Content-Digest"), parameters)
		mu.Lock()
		defer mu.Unlock()
		switch {
		case r.Header.Get("Signature") != "keenlodge=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":":
			w.WriteHeader(http.StatusForbidden)
		case !refused[e.ID] && e.Type != "keenlodge.test":
			refused[e.ID] = true
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			moments = append(moments, e.Type)
		}
	}))
	defer server.Close()
	folder := t.TempDir()
	script := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+text+"\n"), 0o700))
		return path
	}
	told := filepath.Join(folder, "told")
	tell := script("tell", `echo "$KEENLODGE_MOMENT $KEENLODGE_MACHINE $KEENLODGE_STATE" | tee -a `+told)
	hang := script("hang", "sleep 60")
	plain := filepath.Join(folder, "plain")
	require.NoError(t, os.WriteFile(plain, []byte("x"), 0o600))

	file, _, err := place.Site()
	require.NoError(t, err)
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	hooked := func(more string) {
		policy := "policies:\n  weekly-system:\n" + policyText("tickets-db", "quay-shelf", "    hooks:\n      - {at: [begun, machine-begun, frozen, thawed, machine-done, failed, done], script: "+tell+"}\n"+more)
		text := "webhooks:\n  desk:\n    url: " + server.URL + "/runs?desk=7\n" + strings.Replace(string(body), "policies:\n", policy, 1)
		other := filepath.Join(folder, "site.yaml")
		require.NoError(t, os.WriteFile(other, []byte(text), 0o600))
		keenOK(t, "site", "apply", other)
	}
	t.Cleanup(func() { keenOK(t, "site", "apply", file) })
	hooked("      - {at: [begun, done], webhook: desk}\n      - {at: [frozen], script: " + hang + ", within: 2 seconds}\n      - {at: [machine-begun], script: " + plain + "}\n")
	require.Contains(t, keen(t, "webhook", "try", "desk").err, "answered 403")
	key, err = base64.StdEncoding.DecodeString(strings.TrimSpace(keenOK(t, "webhook", "key", "desk")))
	require.NoError(t, err)
	require.Len(t, key, 32)
	keenOK(t, "webhook", "try", "desk")

	s := keen(t, "policy", "run", "weekly", "--wait")
	require.Equal(t, 3, s.code, s.out+s.err)
	requireClean(t, "tickets-db")
	run := latest(t, "weekly-system")
	warnings := strings.Join(run.Tasks[0].Warnings, "\n")
	require.Contains(t, warnings, "hook at frozen: script "+hang+": it took longer than 2s and was killed")
	require.Contains(t, warnings, "script "+plain+" is not executable; run: chmod +x "+plain)
	text, err := os.ReadFile(told)
	require.NoError(t, err)
	require.Equal(t, "begun  \nmachine-begun tickets-db \nfrozen tickets-db \nthawed tickets-db \nmachine-done tickets-db done\ndone  warned\n", string(text))
	require.Contains(t, keenOK(t, "run", "log", run.ID), "hook at thawed: thawed tickets-db")
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(moments) == 3
	}, 90*time.Second, 100*time.Millisecond, "each is refused once, and tried again")
	require.ElementsMatch(t, []string{"keenlodge.test", "keenlodge.run.begun", "keenlodge.run.done"}, moments)
	log := keenOK(t, "run", "log", run.ID)
	require.Contains(t, log, "webhook desk answered 503 Service Unavailable (try 1 of 9)")
	require.NotContains(t, log, "desk=7")

	// One that is to fail what it was called for does.
	hooked("      - {at: [begun], script: " + script("no", "echo the crane is down; exit 1") + ", else: fail}\n")
	s = keen(t, "policy", "run", "weekly", "--wait")
	require.Equal(t, 1, s.code)
	run = latest(t, "weekly-system")
	require.Empty(t, run.Tasks)
	require.Contains(t, run.Error, "hook at begun")
	require.Contains(t, keenOK(t, "run", "log", run.ID), "hook at begun: the crane is down")
	text, err = os.ReadFile(told)
	require.NoError(t, err)
	require.Contains(t, string(text), "failed  failed\n")
}

// A rehearsal tells what would go wrong, and writes nothing.
func TestRehearsals(t *testing.T) {
	withPolicy(t, "weekly-system", "    machines: ['*']\n    except: [timetable]\n    store: quay-shelf\n    rotation: newest 2\n    cycle: full every 7th\n")
	before := keenJSON[[]wire.Image](t, "image", "list")
	out := keenOK(t, "policy", "rehearse", "weekly", "--freeze")
	require.Regexp(t, `✓  freeze +tickets-db +frozen for \d+ms and thawed`, out)
	require.Regexp(t, `✓  selection +weekly-system +berth-sim, tickets-db`, out)
	require.Regexp(t, `✓  size +tickets-db +(full|incremental) image: .* would be read`, out)
	requireClean(t, "tickets-db")
	require.Equal(t, len(before), len(keenJSON[[]wire.Image](t, "image", "list")))

	name, folder := "shelf-full", t.TempDir()
	hook := filepath.Join(folder, "hook")
	withPolicy(t, "weekly-system", policyText("tickets-db", name, "    checks: [{mounted: /srv/ledgers}]\n    hooks: [{at: [done], script: "+hook+"}]\n"), storeText(name, folder)+"    floor: 900 TiB\n")
	s := keen(t, "policy", "rehearse", "weekly")
	require.Equal(t, 1, s.code)
	require.Regexp(t, `✗  room +shelf-full +there is no room for it: .* and 900 TiB must stay free`, s.out)
	require.Regexp(t, `✗  checks +tickets-db +the guest did not pass its check: file systems: nothing is mounted at /srv/ledgers`, s.out)
	require.Regexp(t, `✗  hook +`+hook+` +script .*no such file`, s.out)
	require.Contains(t, s.err, "checks failed; a run would not go well now")
	require.Empty(t, keenJSON[[]wire.Image](t, "image", "list", "--store", name))
}

// The forecast tells runs, images and drops, as text, as JSON and as a picture; the calendar feed has what was and what will be.
func TestForecastAndCalendar(t *testing.T) {
	withPolicy(t, "weekly-system", policyText("tickets-db", "quay-shelf", "    schedules: [every day at 23:00, every 12 hours from 00:20]\n"))
	keen(t, "policy", "run", "weekly", "--wait")
	file := filepath.Join(t.TempDir(), "forecast.png")
	out := keenOK(t, "policy", "forecast", "weekly", "nightly", "--days", "9", "--png", file)
	require.Contains(t, out, "weekly-system")
	require.Contains(t, out, "its floor of 0 B is not hit")
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	picture, err := png.Decode(bytes.NewReader(body))
	require.NoError(t, err)
	require.Equal(t, 1280, picture.Bounds().Dx())
	f := keenJSON[wire.Forecast](t, "policy", "forecast", "weekly", "--days", "9")
	require.Len(t, f.Policies, 1)
	require.Len(t, f.Policies[0].Days, 9)
	require.Len(t, f.Policies[0].Days[4].Runs, 3)
	require.LessOrEqual(t, f.Policies[0].Days[8].Images, 4, "newest 3, and one that is proven")
	require.Contains(t, keen(t, "policy", "forecast", "--days", "0").err, "days")

	address := strings.TrimSpace(keenOK(t, "calendar", "address"))
	get := func(address string) (int, string) {
		r, err := http.Get(address)
		require.NoError(t, err)
		defer r.Body.Close()
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return r.StatusCode, string(body)
	}
	code, feed := get(address)
	require.Equal(t, 200, code)
	calendar, err := ics.ParseCalendar(strings.NewReader(feed))
	require.NoError(t, err)
	past, coming := 0, 0
	for _, e := range calendar.Events() {
		if e.GetProperty(ics.ComponentPropertyStatus).Value == "TENTATIVE" {
			coming++
		} else {
			past++
		}
	}
	backups := 0
	runs, _, err := lodge.Runs(t.Context(), wire.RunFilter{Page: wire.Page{Limit: 1000}})
	require.NoError(t, err)
	for _, r := range runs {
		if r.Kind == "backup" || r.Kind == "copy" {
			backups++
		}
	}
	require.Positive(t, backups)
	require.Equal(t, backups, past)
	require.Greater(t, coming, 60)
	// The feed's token is good for nothing else, nor another for the feed; a new one ends it.
	token := address[strings.Index(address, "token=")+len("token="):]
	tokenFile := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(tokenFile, []byte(token), 0o600))
	require.Contains(t, keenAt(t, place.URL(), tokenFile, "run", "list").err, "sign in")
	own, err := os.ReadFile(place.TokenFile())
	require.NoError(t, err)
	code, _ = get(strings.Replace(address, token, strings.TrimSpace(string(own)), 1))
	require.Equal(t, 401, code)
	keenOK(t, "calendar", "address")
	code, _ = get(address)
	require.Equal(t, 401, code)
}

// A hypervisor that can't be reached, now or ever, keeps only its own machines from being captured, whatever the retries.
func TestAHypervisorThatNeverAnswers(t *testing.T) {
	applyWith(t, "hypervisors:\n", "hypervisors:\n  pier-2:\n    uri: qemu+tcp://pier-2.brindle.example/system\n")
	file, err := os.ReadFile(filepath.Join(place.Folder, "site.yaml"))
	require.NoError(t, err)
	_, err = database(t).Exec(t.Context(), "insert into machines (id, name, label, hypervisor, uuid, state, seen) values ('named-crew', 'crew-rota', 'crew-rota', 'pier-2', '', 'running', now())")
	require.NoError(t, err)
	text := strings.Replace(string(file), "hypervisors:\n", "hypervisors:\n  pier-2:\n    uri: qemu+tcp://pier-2.brindle.example/system\n", 1)
	text = strings.Replace(text, "policies:\n", "policies:\n  harbour-both:\n    machines: [berth-sim, crew-rota]\n    store: quay-shelf\n    rotation: newest 3\n    retries: 3\n    retry_wait: 1 second\n", 1)
	other := filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(other, []byte(text), 0o600))
	keenOK(t, "site", "apply", other)
	s := keen(t, "policy", "run", "harbour-both", "--wait")
	require.Equal(t, 1, s.code)
	require.Contains(t, s.out, "machine crew-rota can't be backed up: hypervisor pier-2")
	run := latest(t, "harbour-both")
	require.Len(t, run.Tasks, 1)
	require.EqualValues(t, "done", run.Tasks[0].State, "berth-sim is captured all the same")
	require.NotContains(t, keenOK(t, "run", "log", run.ID), "try 1 of 4", "what will not pass is not tried again")
}

// What may pass by itself is tried again after a wait; what a hypervisor may be read at is not exceeded.
func TestRetriesAndBandwidth(t *testing.T) {
	through := filepath.Join("/var/tmp", fmt.Sprint("quay-", os.Getpid(), ".sock"))
	target := strings.TrimPrefix(place.Quay.URI(), "qemu+unix:///session?socket=")
	open := func() net.Listener {
		l, err := net.Listen("unix", through)
		require.NoError(t, err)
		go func() {
			for {
				a, err := l.Accept()
				if err != nil {
					return
				}
				b, err := net.Dial("unix", target)
				if err != nil {
					a.Close()
					continue
				}
				go func() { io.Copy(a, b); a.Close() }()
				go func() { io.Copy(b, a); b.Close() }()
			}
		}()
		return l
	}
	file, _, err := place.Site()
	require.NoError(t, err)
	body, err := os.ReadFile(file)
	require.NoError(t, err)
	name := "shelf-slow"
	text := strings.Replace(string(body), place.Quay.URI(), "qemu+unix:///session?socket="+through, 1)
	text = strings.Replace(text, "    tasks_at_once: 2\n", "    tasks_at_once: 1\n    bandwidth: [100 MiB]\n", 1)
	text = strings.Replace(text, "stores:\n", "stores:\n"+storeText(name, t.TempDir()), 1)
	text = strings.Replace(text, "policies:\n", "policies:\n  weekly-system:\n    machines: [timetable, berth-sim]\n    store: "+name+"\n    rotation: newest 3\n    retries: 5\n    retry_wait: 1 second\n", 1)
	other := filepath.Join(t.TempDir(), "site.yaml")
	require.NoError(t, os.WriteFile(other, []byte(text), 0o600))
	l := open()
	keenOK(t, "site", "apply", other)
	t.Cleanup(func() { keenOK(t, "site", "apply", file) })
	l.Close()
	r, err := lodge.RunPolicy(t.Context(), "weekly-system", "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		return strings.Contains(keenOK(t, "run", "log", r.ID), "try 1 of 6 failed: hypervisor quay-1: libvirt at "+through+" does not answer")
	}, 20*time.Second, 50*time.Millisecond)
	l = open()
	defer l.Close()
	run, err := lodge.Watch(t.Context(), r.ID, func(wire.Run) {})
	require.NoError(t, err)
	require.EqualValues(t, "done", run.State, run.Error)
	var began, ended []time.Time
	for _, task := range run.Tasks {
		began, ended = append(began, *task.Started), append(ended, *task.Ended)
		if task.Machine == "timetable" {
			seconds := task.Ended.Sub(*task.Started).Seconds()
			require.Less(t, float64(task.Done)/seconds, 101.0*(1<<20), "%d bytes in %.1f s", task.Done, seconds)
		}
	}
	require.False(t, began[0].Before(ended[1]) && began[1].Before(ended[0]), "one task at once: %s to %s, %s to %s", began[0], ended[0], began[1], ended[1])
}

// Two processes share a lodge, and one of them is killed each second, a dozen times, or a minute where KEENLODGE_KILLS asks for more.
// Every due moment has exactly one run, and none is left lying.
func TestTwoProcessesOneKilledEachSecond(t *testing.T) {
	forFaults(t, "it is a campaign")
	t.Parallel() // it waits most of the time, and changes nothing that others have
	const perSecond = 3
	kills, _ := mediumtest.Campaign("KEENLODGE_KILLS", 12)
	seconds := min(60, kills)
	url, err := place.NewDatabase(t.Context(), fmt.Sprint("shared", time.Now().UnixNano()))
	require.NoError(t, err)
	state := t.TempDir()
	log, err := os.Create(filepath.Join(state, "log"))
	require.NoError(t, err)
	token := filepath.Join(state, "token")
	require.NoError(t, place.NewToken(t.Context(), url, "first", token))
	address := make([]string, 2)
	for i := range address {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		address[i] = l.Addr().String()
		l.Close()
	}
	start := func(i int) *exec.Cmd {
		cmd := exec.Command(place.Program, "serve", "--listen", address[i], "--state", state)
		cmd.Env = append(os.Environ(), "KEENLODGE_DATABASE="+url, "PGPASSFILE="+filepath.Join(place.Folder, "pgpass"))
		cmd.Stderr = log
		require.NoError(t, cmd.Start())
		return cmd
	}
	processes := []*exec.Cmd{start(0), start(1)}
	t.Cleanup(func() {
		for _, p := range processes {
			p.Process.Kill()
			p.Wait()
		}
	})
	at := func(i int, args ...string) said {
		return keenAt(t, "http://"+address[i], token, args...)
	}
	for i := range address {
		require.Eventually(t, func() bool { return at(i, "machine", "list").code == 0 }, 30*time.Second, 100*time.Millisecond)
	}
	first := time.Now().UTC().Truncate(time.Second).Add(5 * time.Second)
	text := "zone: UTC\nstores:\n" + storeText("shelf", t.TempDir()) + "policies:\n"
	due := map[string]time.Time{}
	for n := range perSecond * seconds {
		moment := first.Add(time.Duration(n/perSecond) * time.Second)
		name := fmt.Sprint("policy-", n)
		due[name] = moment
		text += fmt.Sprintf("  %s:\n    machines: ['nobody-*']\n    store: shelf\n    rotation: newest 1\n    schedules: ['RRULE:FREQ=DAILY;BYHOUR=%d;BYMINUTE=%d;BYSECOND=%d']\n", name, moment.Hour(), moment.Minute(), moment.Second())
	}
	file := filepath.Join(state, "site.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	s := at(0, "site", "apply", file)
	require.Equal(t, 0, s.code, s.err)
	require.True(t, time.Now().Before(first), "the site was applied too late")

	kills = 0
	for tick := time.NewTicker(time.Second); time.Now().Before(first.Add(time.Duration(seconds) * time.Second)); kills++ {
		<-tick.C
		i := kills % 2
		processes[i].Process.Kill()
		processes[i].Wait()
		processes[i] = start(i)
	}
	require.GreaterOrEqual(t, kills, seconds-1)
	client := clientAt(t, "http://"+address[0], token)
	var runs []wire.Run
	require.Eventually(t, func() bool {
		var err error
		if runs, _, err = client.Runs(t.Context(), wire.RunFilter{Page: wire.Page{Limit: 1000}}); err != nil {
			return false // it is starting
		}
		return len(runs) >= len(due) && !slices.ContainsFunc(runs, func(r wire.Run) bool { return r.Ended == nil })
	}, 3*time.Minute, time.Second, "runs are left lying")
	seen := map[string]int{}
	for _, r := range runs {
		if strings.HasPrefix(r.Note, "takes up run ") { // a kill came in the middle of another
			continue
		}
		seen[r.Policy]++
		require.NotNil(t, r.Due, "run %s of %s", r.ID, r.Policy)
		require.True(t, due[r.Policy].Equal(*r.Due), "%s was due at %s, its run at %s", r.Policy, due[r.Policy], r.Due)
	}
	for name := range due {
		require.Equal(t, 1, seen[name], name)
	}
}
