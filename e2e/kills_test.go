package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium/mediumtest"
	"keenlodge/internal/wire"
)

// The service is killed (SIGKILL) at any time in the middle of anything that it does: it comes back, guests are thawed and without a job, no file is
// left, no image that was usable is lost or in doubt, and the next runs succeed. KEENLODGE_KILLS=N tries so many, from KEENLODGE_SEED on.
func TestKills(t *testing.T) {
	kills, seed := mediumtest.Campaign("KEENLODGE_KILLS", 2)
	rng := rand.New(rand.NewPCG(seed, 23))
	folder, plain := sealedStore(t, "tide-vault"), t.TempDir()
	withPolicy(t, "weekly-system", "    machines: [tickets-db]\n    store: tide-vault\n    rotation: newest 2\n    cycle: full every 4th\n"+
		"  monthly-whole:\n    machines: [tickets-db, berth-sim]\n    store: shelf-open\n    rotation: newest 2\n    cycle: full once\n    fold: true\n",
		storeText("tide-vault", folder)+"    sealed: true\n", openStoreText("shelf-open", plain, "    grace: none\n"), storeText("islet-shelf", t.TempDir()))
	withCopies(t, map[string]site.Copy{"to-islet": {From: "tide-vault", To: "islet-shelf", Rotation: "newest 2"}})
	t.Cleanup(func() {
		if service.Ended() {
			startService(t)
		}
		undefineAgain(t)
	})
	next := func() {
		t.Helper()
		for _, policy := range []string{"weekly-system", "monthly-whole"} {
			s := keen(t, "policy", "run", policy, "--wait")
			require.Contains(t, []int{0, 3}, s.code, "the next run of %s\n%s%s\n%s", policy, s.out, s.err, tail(t, "service.log", 6000))
		}
		s := keen(t, "copy", "run", "to-islet", "--wait")
		require.Zero(t, s.code, "the next copy\n%s%s\n%s", s.out, s.err, tail(t, "service.log", 6000))
		require.NotEmpty(t, in(t, "islet-shelf"))
	}
	next()
	done := map[string]int{}
	for n := range kills {
		jobs := map[string][]string{
			"backup": {"policy", "run", "weekly-system"}, "backup to the open store": {"policy", "run", "monthly-whole"},
			"sweep": {"store", "sweep", "tide-vault"}, "repair": {"store", "check", "tide-vault", "--read", "--repair"}, "adopt": {"store", "adopt", "tide-vault"},
			"copy": {"copy", "run", "to-islet"},
			"key":  {"store", "key", "add", "tide-vault", "--label", "safe in the harbour office"},
		}
		if newest := in(t, "tide-vault"); len(newest) > 0 {
			jobs["restore"] = []string{"image", "restore", newest[rng.IntN(len(newest))].ID, "--as", "tickets-again"}
			jobs["proof"] = []string{"image", "prove", newest[0].ID}
		}
		if newest := in(t, "shelf-open"); len(newest) > 0 && newest[0].Base != "" {
			jobs["fold"] = []string{"image", "fold", newest[0].ID}
		}
		names := []string{"backup", "backup", "backup", "copy", "backup to the open store", "backup to the open store"}
		for name := range jobs {
			names = append(names, name)
		}
		slices.Sort(names)
		job := names[rng.IntN(len(names))]
		longest := map[string]time.Duration{"backup": 4 * time.Second, "backup to the open store": 6 * time.Second, "restore": 3 * time.Second}[job]
		after := time.Duration(rng.Int64N(int64(max(longest, time.Second))))
		what := fmt.Sprintf("seed %d, number %d: killed %s after the start of: %s", seed, n, after.Round(time.Millisecond), job)
		usable := map[string]bool{}
		for _, m := range keenJSON[[]wire.Image](t, "image", "list") {
			usable[m.ID] = m.State == "usable"
		}
		cmd := exec.Command(place.Program, jobs[job]...)
		cmd.Env = append(os.Environ(), "KEENLODGE_URL="+place.URL(), "KEENLODGE_TOKEN_FILE="+place.TokenFile())
		require.NoError(t, cmd.Start())
		time.Sleep(after)
		service.Signal(syscall.SIGKILL)
		cmd.Wait()
		startService(t)
		done[job]++

		// A run that the dead process had taken and not begun is given back after a minute.
		for end := time.Now().Add(4 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
			runs := keenJSON[[]wire.Run](t, "run", "list")
			left := slices.IndexFunc(runs, func(r wire.Run) bool { return r.State == "running" || r.State == "queued" })
			if left < 0 {
				break
			}
			require.True(t, time.Now().Before(end), "%s: %+v goes on\n%s\n%s", what, runs[left], keen(t, "run", "log", runs[left].ID).out, tail(t, "service.log", 6000))
		}
		for end := time.Now().Add(3 * time.Minute); !cleanNow("tickets-db") || !cleanNow("berth-sim"); time.Sleep(200 * time.Millisecond) {
			if place.Quay.Ended() { // it may, when a job's maker dies at a bad moment (docs/promises.md); whoever watches over it starts it anew
				done["libvirt died of it"]++
				require.NoError(t, place.Quay.Kill(t.Context(), 0))
			}
			if time.Now().After(end) {
				service.Signal(syscall.SIGQUIT) // its stacks go to its log
				t.Fatalf("%s: a job, a freeze or a file is left\n%s", what, tail(t, "service.log", 60_000))
			}
		}
		require.Equal(t, "running", strings.TrimSpace(virsh(t, "domstate", "tickets-db")), what)
		require.Equal(t, "shut off", strings.TrimSpace(virsh(t, "domstate", "berth-sim")), what)
		if _, err := place.Quay.Virsh(context.Background(), "domstate", "tickets-again"); err != nil {
			require.Eventually(t, func() bool {
				left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "tickets-again-*"))
				return err == nil && len(left) == 0
			}, time.Minute, 200*time.Millisecond, "%s: a restore's file is left", what)
		}
		undefineAgain(t)
		states := map[string]string{}
		for _, m := range keenJSON[[]wire.Image](t, "image", "list", "--gone") {
			states[m.ID] = string(m.State)
		}
		for id, was := range usable {
			require.True(t, !was || states[id] == "usable", "%s: image %s is %q now\n%s", what, id, states[id], tail(t, "service.log", 6000))
		}
		if n%5 == 4 || n == kills-1 {
			t.Logf("%d kills so far: %v", n+1, done)
			next()
			requireClean(t, "tickets-db")
			requireClean(t, "berth-sim")
			for _, store := range []string{"tide-vault", "shelf-open", "islet-shelf"} {
				require.Contains(t, keenOK(t, "store", "check", store, "--read"), "nothing is damaged", what)
			}
		}
	}
	t.Logf("%d kills from seed %d: %v", kills, seed, done)
}

// cleanNow reports whether a guest has neither a job nor a freeze, and its pool no file of ours.
func cleanNow(guest string) bool {
	ctx := context.Background()
	if !jobless(guest) {
		return false
	}
	if state, err := place.Quay.Virsh(ctx, "domstate", guest); err != nil || strings.TrimSpace(state) == "paused" {
		return false
	} else if strings.TrimSpace(state) == "running" {
		if frozen, err := place.Quay.Virsh(ctx, "qemu-agent-command", guest, `{"execute":"guest-fsfreeze-status"}`); err != nil || !strings.Contains(frozen, "thawed") {
			return false
		}
	}
	return true
}

// jobless reports whether a guest has no job, and its pool no file of ours.
func jobless(guest string) bool {
	_, none := place.Quay.Virsh(context.Background(), "backup-dumpxml", guest)
	left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "keenlodge-*"))
	return none != nil && err == nil && len(left) == 0
}

// undefineAgain takes back what a restore made.
func undefineAgain(t *testing.T) {
	t.Helper()
	place.Quay.Virsh(context.Background(), "undefine", "tickets-again")
	left, err := filepath.Glob(filepath.Join(place.Folder, "pool", "tickets-again-*"))
	require.NoError(t, err)
	for _, file := range left {
		require.NoError(t, os.Remove(file))
	}
	place.Quay.Virsh(context.Background(), "pool-refresh", "quay")
}

// killedRuns kills the service in the middle of runs of a policy, and requires each time that all is cleared and the next run succeeds: once, or
// a fifth of what KEENLODGE_KILLS says.
func killedRuns(t *testing.T, policy string, clean func() bool) {
	t.Helper()
	kills, seed := mediumtest.Campaign("KEENLODGE_KILLS", 5)
	rng := rand.New(rand.NewPCG(seed, 29))
	for n := range kills / 5 {
		after := time.Duration(rng.Int64N(int64(2500 * time.Millisecond)))
		what := fmt.Sprintf("seed %d, number %d: killed %s after the start of %s", seed, n, after.Round(time.Millisecond), policy)
		_, err := lodge.RunPolicy(t.Context(), policy, "")
		require.NoError(t, err)
		time.Sleep(after)
		service.Signal(syscall.SIGKILL)
		startService(t)
		require.Eventually(t, func() bool {
			return !slices.ContainsFunc(keenJSON[[]wire.Run](t, "run", "list"), func(r wire.Run) bool { return r.State == "running" || r.State == "queued" })
		}, 2*time.Minute, 100*time.Millisecond, what)
		for end := time.Now().Add(3 * time.Minute); !clean(); time.Sleep(200 * time.Millisecond) {
			require.True(t, time.Now().Before(end), "%s: something is left\n%s", what, tail(t, "service.log", 20_000))
		}
		s := keen(t, "policy", "run", policy, "--wait")
		require.Contains(t, []int{0, 3}, s.code, "%s: the next run\n%s%s\n%s", what, s.out, s.err, tail(t, "service.log", 6000))
	}
	t.Logf("%d kills from seed %d", kills/5, seed)
}
