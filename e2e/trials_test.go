package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/demo"
	"keenlodge/internal/core/drill"
	"keenlodge/internal/core/trial"
	"keenlodge/internal/source"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/wire"
)

// requireNoTrial makes sure that nothing of a trial is left on the hypervisor.
func requireNoTrial(t *testing.T) {
	t.Helper()
	require.Empty(t, trialsLeft())
}

// proven is the newest proof of an image.
func proven(t *testing.T, id string) wire.Proof {
	t.Helper()
	var m wire.ProvenImage
	require.NoError(t, json.Unmarshal([]byte(keenOK(t, "image", "show", id, "-o", "json")), &m))
	require.NotEmpty(t, m.Proofs)
	return m.Proofs[0]
}

// Guests that need each other come back in a drill, from their images, in order and in one network, and are asked what is expected of them; it is measured,
// and all goes that they had.
func TestATrial(t *testing.T) {
	folder := t.TempDir()
	withPolicy(t, "tried", policyText("tickets-db, timetable", "tried-shelf", "    trials:\n      - ports: [8080]\n        ledger: 1 minute\n"), storeText("tried-shelf", folder))
	backUp(t, "tried")
	d := keenJSON[wire.Drill](t, "drill", "run", "ticketing", "--wait")
	require.Equal(t, drill.Back, d.Sum.Standing, "%+v", d)
	require.Greater(t, d.Machines[1].Begun, d.Machines[0].Answered, "they start in their order")
	saved := t.TempDir()
	keenOK(t, "drill", "page", d.Run, "--into", saved)
	page, err := os.ReadFile(filepath.Join(saved, "drill-"+d.Run+".html"))
	require.NoError(t, err)
	require.Equal(t, len(d.Machines[0].Pictures)+len(d.Machines[1].Pictures), strings.Count(string(page), "data:image/png;base64,"))
	require.Regexp(t, `ticketing +1 +tickets-db .* ✓ boot`, keenOK(t, "group", "list"))
	requireNoTrial(t)
	list := keenJSON[[]wire.Image](t, "image", "list", "--policy", "tried")
	require.Len(t, list, 2)
	for _, m := range list {
		p := proven(t, m.ID)
		require.True(t, p.Passed, p.Error)
		require.EqualValues(t, "boot", p.Level)
		names := []string{}
		for _, f := range p.Report.Steps {
			require.True(t, f.Passed)
			names = append(names, f.Name)
		}
		require.Contains(t, names, "port 8080")
		require.Contains(t, names, "ledger")
		require.Less(t, p.Report.Read, p.Report.Disks*4/10, "most of it stays in the store")
		if m.Machine == "timetable" {
			require.Contains(t, names, "busybox wget -q -O - http://192.0.2.21:8080/sailings.txt", "it reached the other one")
		}
	}
	keenOK(t, "image", "evidence", list[0].ID, "--into", saved)
	requirePictures(t, saved)
}

// A guest whose boot loader finds nothing to start is told apart, with the reason and pictures.
func TestAGuestThatDoesNotStart(t *testing.T) {
	forFaults(t, "it waits for what does not come")
	remove, err := place.Quay.MakeBroken(t.Context(), demo.Clock, "berth-sim")
	require.NoError(t, err)
	t.Cleanup(remove)
	folder := t.TempDir()
	withPolicy(t, "tried", policyText(demo.Clock, "tried-shelf", ""), storeText("tried-shelf", folder))
	keenOK(t, "policy", "run", "tried", "--wait")
	m := keenJSON[[]wire.Image](t, "image", "list", "--policy", "tried")[0]
	s := keen(t, "image", "prove", m.ID, "--level", "boot", "--wait")
	require.NotZero(t, s.code)
	p := proven(t, m.ID)
	require.False(t, p.Passed)
	require.Equal(t, trial.Loader, p.Report.Cause, p.Error)
	saved := t.TempDir()
	keenOK(t, "image", "evidence", m.ID, "--into", saved)
	requirePictures(t, saved)
	require.Regexp(t, "it stays in its boot loader: it says \"(grub>|error: file `/boot/vmlinuz' not found.)\"", p.Error) // the first stands there for a moment only
	require.Contains(t, keenOK(t, "image", "list", "--policy", "tried"), "✗ failed")
	requireNoTrial(t)
}

// requirePictures makes sure that a folder has pictures of screens.
func requirePictures(t *testing.T, folder string) {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(folder, "*.png"))
	require.NoError(t, err)
	require.NotEmpty(t, found)
	for _, file := range found {
		f, err := os.Open(file)
		require.NoError(t, err)
		shown, err := png.Decode(f)
		require.NoError(t, err, file)
		require.GreaterOrEqual(t, shown.Bounds().Dx(), 640)
		require.NoError(t, f.Close())
	}
}

// Trials that are killed at random moments (the service, libvirt's daemon, QEMU) leave nothing behind. KEENLODGE_TRIALS=N tries so many, from
// KEENLODGE_SEED on.
func TestTrialsThatAreKilled(t *testing.T) {
	if os.Getenv("KEENLODGE_TRIALS") == "" {
		t.Skip("a campaign of its own: make trials")
	}
	trials, seed := mediumtest.Campaign("KEENLODGE_TRIALS", 2)
	rng := rand.New(rand.NewPCG(seed, 29))
	folder := t.TempDir()
	withPolicy(t, "tried", policyText("timetable", "tried-shelf", ""), storeText("tried-shelf", folder))
	backUp(t, "tried")
	m := keenJSON[[]wire.Image](t, "image", "list", "--policy", "tried")[0]
	killed := map[string]int{}
	for n := range trials {
		r := keenJSON[wire.Run](t, "image", "prove", m.ID, "--level", "boot")
		after := time.Duration(rng.Int64N(int64(24 * time.Second)))
		who := []string{"service", "daemon", "QEMU"}[rng.IntN(3)]
		what := fmt.Sprintf("seed %d, number %d: killed %s %s after the start of run %s", seed, n, who, after.Round(time.Millisecond), r.ID)
		time.Sleep(after)
		switch who {
		case "service":
			service.Signal(syscall.SIGKILL)
			time.Sleep(time.Duration(rng.Int64N(int64(3 * time.Second))))
			startService(t)
		case "daemon":
			require.NoError(t, place.Quay.Kill(t.Context(), time.Duration(rng.Int64N(int64(3*time.Second)))), what)
		case "QEMU":
			killTrial()
		}
		killed[who]++
		for end := time.Now().Add(5 * time.Minute); ; time.Sleep(200 * time.Millisecond) {
			run, err := lodge.Run(t.Context(), r.ID)
			require.NoError(t, err, what)
			if run.Ended != nil && trialsLeft() == "" {
				killed[who+": "+string(run.State)]++
				break
			}
			require.True(t, time.Now().Before(end), "%s: it is %s, and there is left: %s\n%s\n%s", what, run.State, trialsLeft(), keen(t, "run", "log", r.ID).out, tail(t, "service.log", 6000))
		}
		if n%10 == 9 || n == trials-1 {
			t.Logf("%d trials so far: %v", n+1, killed)
		}
	}
	// What a call was doing when its caller died may still happen later: half a minute later all is as it was.
	time.Sleep(30 * time.Second)
	require.Empty(t, trialsLeft())
	keenOK(t, "image", "prove", m.ID, "--level", "boot", "--wait")
	require.Contains(t, keenOK(t, "store", "check", "tried-shelf", "--read"), "nothing is damaged")
	t.Logf("%d trials from seed %d: %v", trials, seed, killed)
}

// trialsLeft is what is there of trials: guests, files, processes; "" for nothing.
func trialsLeft() string {
	var left []string
	guests, err := place.Quay.Virsh(context.Background(), "list", "--all", "--name")
	if err != nil {
		return err.Error()
	}
	for _, g := range strings.Fields(guests) {
		if strings.HasPrefix(g, source.TrialMark) {
			left = append(left, "guest "+g)
		}
	}
	files, _ := filepath.Glob(filepath.Join(place.Folder, "pool", source.TrialMark+"*"))
	left = append(left, files...)
	for pid := range trialProcesses() {
		left = append(left, fmt.Sprint("process ", pid))
	}
	return strings.Join(left, ", ")
}

// trialProcesses are the processes of QEMU that run guests of trials.
func trialProcesses() map[int]bool {
	out := map[int]bool{}
	processes, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, p := range processes {
		body, err := os.ReadFile(p)
		if pid, bad := strconv.Atoi(filepath.Base(filepath.Dir(p))); err == nil && bad == nil && strings.Contains(string(body), "guest="+source.TrialMark) {
			out[pid] = true
		}
	}
	return out
}

func killTrial() {
	for pid := range trialProcesses() {
		syscall.Kill(pid, syscall.SIGKILL)
	}
}
