package e2e

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/core/image"
	"keenlodge/internal/source/libvirt"
	"keenlodge/internal/store"
	"keenlodge/internal/wire"
)

var shelves int

// freshStore is a policy of timetable, with its ballast, into a store that has nothing of it yet.
func freshStore(t *testing.T, policy string) (name, folder string) {
	shelves++
	name, folder = fmt.Sprint("shelf-", shelves), t.TempDir()
	withPolicy(t, policy, policyText("timetable", name, "    cycle: full every 7th\n"), storeText(name, folder))
	return name, folder
}

func startService(t *testing.T) {
	t.Helper()
	var err error
	service, err = place.StartService(context.Background())
	require.NoError(t, err)
}

// inTheMiddle starts a policy and returns when its first pack has arrived.
func inTheMiddle(t *testing.T, policy, folder string) wire.Run {
	t.Helper()
	t.Cleanup(func() {
		if service.Ended() {
			startService(t)
		}
	})
	r, err := lodge.RunPolicy(t.Context(), policy, "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		packs, err := filepath.Glob(filepath.Join(folder, "pack", "*", "[0-9a-f]*")) // not the parts
		require.NoError(t, err)
		return len(packs) > 2
	}, time.Minute, 5*time.Millisecond)
	return r
}

// The service is killed in the middle of a backup, with the guest frozen: at the next start the guest is thawed, no job is
// left, the store is whole, and the next run reuses what arrived.
func TestAKillInTheMiddle(t *testing.T) {
	shelf, folder := freshStore(t, "weekly-system")
	r := inTheMiddle(t, "weekly-system", folder)
	service.Signal(syscall.SIGKILL)
	job := virsh(t, "backup-dumpxml", "timetable")
	require.NotEmpty(t, job, "the job is open, or this test tests nothing")
	virsh(t, "domfsfreeze", "timetable")

	startService(t)
	require.Eventually(t, func() bool {
		return strings.Contains(keenOK(t, "run", "log", r.ID), "cleared: removed checkpoint")
	}, 20*time.Second, 200*time.Millisecond)
	requireClean(t, "timetable")
	log := keenOK(t, "run", "log", r.ID)
	require.Contains(t, log, "cleared: thawed guest timetable")
	require.Contains(t, log, "cleared: ended the backup job on guest timetable")
	run, err := lodge.Run(t.Context(), r.ID)
	require.NoError(t, err)
	require.EqualValues(t, "failed", run.State)
	require.Contains(t, run.Error, "the service ended in the middle of it")
	require.Empty(t, keenJSON[[]wire.Image](t, "image", "list", "--store", shelf))
	keenOK(t, "store", "check", shelf, "--read")

	// What the dead service had asked of libvirt is carried out only now: its job begins after all was cleared, and is in nobody's way.
	file := filepath.Join(t.TempDir(), "job.xml")
	socket := regexp.MustCompile(`/[^' ]+keenlodge-[0-9a-z]{10}`).FindString(job)
	require.NoError(t, os.WriteFile(file, []byte(`<domainbackup mode='pull'><server transport='unix' socket='`+socket+`.sock'/><disks><disk name='vda' backup='yes' type='file'><scratch file='`+
		socket+`-vda.scratch'/></disk></disks></domainbackup>`), 0o600))
	virsh(t, "backup-begin", "timetable", file)
	s := keen(t, "policy", "run", "weekly-system", "--wait")
	require.Contains(t, s.out, "a service that died had left something behind: ended the backup job on guest timetable", s.err)
	requireClean(t, "timetable")
	m := keenJSON[[]wire.Image](t, "image", "list", "--store", shelf)
	require.Len(t, m, 1)
	require.Greater(t, m[0].Read-m[0].NewBytes, int64(40<<20), "the packs that had arrived are reused")
	keenOK(t, "store", "check", shelf, "--read")
}

// A graceful stop in the middle clears up by itself, before the process ends.
func TestAStopInTheMiddle(t *testing.T) {
	_, folder := freshStore(t, "monthly-whole")
	r := inTheMiddle(t, "monthly-whole", folder)
	service.Signal(syscall.SIGTERM)
	requireClean(t, "timetable")
	startService(t)
	run, err := lodge.Run(t.Context(), r.ID)
	require.NoError(t, err)
	require.EqualValues(t, "failed", run.State)
	require.Contains(t, run.Error+run.Tasks[0].Error, "the service was stopped")
}

// The watchdog of a freeze thaws the guest when the service dies, and when it hangs.
func TestTheWatchdogThaws(t *testing.T) {
	for _, how := range []string{"dies", "hangs"} {
		t.Run(how, func(t *testing.T) {
			cmd := exec.Command(place.Program, "thaw-watch")
			in, err := cmd.StdinPipe()
			require.NoError(t, err)
			out, err := cmd.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, cmd.Start())
			_, err = fmt.Fprintf(in, `{"source": {"uri": %q}, "machine": "tickets-db"}`+"\n", place.Quay.URI())
			require.NoError(t, err)
			_, err = io.ReadFull(out, make([]byte, len("watching\n")))
			require.NoError(t, err)
			virsh(t, "domfsfreeze", "tickets-db")
			frozen := time.Now()
			if how == "dies" {
				in.Close()
			} else {
				_, err := io.WriteString(in, "frozen\n")
				require.NoError(t, err)
			}
			require.NoError(t, cmd.Wait())
			if how == "dies" {
				require.Less(t, time.Since(frozen), 10*time.Second)
			}
			require.Contains(t, virsh(t, "qemu-agent-command", "tickets-db", `{"execute":"guest-fsfreeze-status"}`), "thawed")
		})
	}
}

// A guest whose agent does not answer: required fails the task, preferred goes on and says so.
func TestAFreezeThatFails(t *testing.T) {
	virsh(t, "suspend", "tickets-db")
	resumed := false
	resume := func() {
		if !resumed {
			resumed = true
			virsh(t, "resume", "tickets-db")
		}
	}
	defer resume()
	withPolicy(t, "hourly-tickets", policyText("tickets-db", "quay-shelf", "    quiesce: required\n"))
	s := keen(t, "policy", "run", "hourly-tickets", "--wait")
	require.Equal(t, 1, s.code, s.out)
	require.Contains(t, s.out, "freeze guest tickets-db")
	require.Contains(t, s.out, "is the guest agent running in it?")
	require.Empty(t, keenJSON[[]wire.Image](t, "image", "list", "--policy", "hourly-tickets", "--store", "quay-shelf"))

	s = keen(t, "policy", "run", "nightly-guests", "--wait")
	require.Equal(t, 3, s.code, "done with warnings: %s%s", s.out, s.err)
	require.Contains(t, s.out, "the image is as after a power cut")
	require.EqualValues(t, "crash", images(t, "tickets-db")[0].Consistency)
	resume()
	// The agent now finds the freezes that were asked for; the watchdogs see to it that none of them stays.
	require.NoError(t, place.Quay.AwaitGuest(t.Context(), "tickets-db"))
	require.Eventually(t, func() bool {
		out, err := place.Quay.Virsh(t.Context(), "qemu-agent-command", "tickets-db", `{"execute":"guest-fsfreeze-status"}`)
		return err == nil && strings.Contains(out, "thawed")
	}, 30*time.Second, 200*time.Millisecond)
}

// Each piece of bad input gets a clear word and loses nothing.
func TestBadInput(t *testing.T) {
	file, _, err := place.Site()
	require.NoError(t, err)
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	text := string(good)
	readOnly := filepath.Join(t.TempDir(), "ro")
	require.NoError(t, os.Mkdir(readOnly, 0o700))
	require.NoError(t, syscall.Mount("none", readOnly, "tmpfs", syscall.MS_RDONLY, ""))
	t.Cleanup(func() { syscall.Unmount(readOnly, 0) })
	for name, c := range map[string]struct{ old, new, want string }{
		"a wrong key":                {"rotation:", "rotaton:", fmt.Sprintf(`site.yaml:%d: the key "rotaton" is not known here; did you mean "rotation"?`, 1+strings.Count(text[:strings.Index(text, "rotation:")], "\n"))},
		"a machine nobody has":       {"- timetable", "- timetabel", `policy nightly-guests: no hypervisor has a machine called "timetabel"; did you mean "timetable"?`},
		"a folder that is not there": {place.Shelf(), "/srv/not-mounted", "store quay-shelf: folder /srv/not-mounted does not exist; create it, or mount the disk that holds it"},
		"a folder read-only":         {place.Shelf(), readOnly, "can't be written to: not allowed (read-only file system)"},
		"a folder with other things": {place.Shelf(), "/etc", "is not empty and holds no store"},
	} {
		t.Run(name, func(t *testing.T) {
			bad := filepath.Join(t.TempDir(), "site.yaml")
			require.NoError(t, os.WriteFile(bad, []byte(strings.Replace(text, c.old, c.new, 1)), 0o600))
			s := keen(t, "site", "apply", bad)
			require.Equal(t, 1, s.code)
			require.Contains(t, s.err, c.want)
			require.Contains(t, keenOK(t, "site", "apply", file), "nothing changes", "nothing was changed before")
		})
	}
	s := keen(t, "policy", "run", "nightly-gests")
	require.Contains(t, s.err, `no policy is called "nightly-gests"; did you mean "nightly-guests"?`)
	s = keen(t, "image", "show", "zzzzzz")
	require.Contains(t, s.err, `no image is called "zzzzzz"`)
	s = keen(t, "image", "prove", images(t, "tickets-db")[0].ID, "--level", "moun")
	require.Equal(t, 0, s.code, "any unique prefix: %s", s.err)
	s = keen(t, "image", "restore", "x")
	require.Equal(t, 2, s.code)
}

func TestASecondRunWhileOneIsGoing(t *testing.T) {
	_, folder := freshStore(t, "monthly-whole")
	r := inTheMiddle(t, "monthly-whole", folder)
	s := keen(t, "policy", "run", "monthly-whole")
	require.Equal(t, 1, s.code)
	require.Contains(t, s.err, "a run of policy monthly-whole is going already")
	run, err := lodge.Watch(t.Context(), r.ID, func(wire.Run) {})
	require.NoError(t, err)
	require.EqualValues(t, "done", run.State)
}

// A disk that fills up fails the run and leaves no trace of the image; what was there stays whole.
func TestAFullDisk(t *testing.T) {
	small := filepath.Join(t.TempDir(), "small")
	require.NoError(t, os.Mkdir(small, 0o700))
	require.NoError(t, syscall.Mount("none", small, "tmpfs", 0, "size=800m"))
	t.Cleanup(func() { syscall.Unmount(small, syscall.MNT_DETACH) })
	withPolicy(t, "weekly-system", policyText("timetable, berth-sim", "small-shelf", ""), storeText("small-shelf", small))
	r := inTheMiddle(t, "weekly-system", small)
	// What was free when the run began, somebody else takes.
	ballast, err := os.Create(filepath.Join(small, "ballast"))
	require.NoError(t, err)
	for piece := make([]byte, 1<<20); err == nil; {
		_, err = ballast.Write(piece)
	}
	require.NoError(t, ballast.Close())
	run, err := lodge.Watch(t.Context(), r.ID, func(wire.Run) {})
	require.NoError(t, err)
	require.EqualValues(t, "failed", run.State)
	require.Contains(t, keenOK(t, "run", "log", r.ID), "no space left; make room or move the store to a larger disk")
	requireClean(t, "timetable")
	for _, m := range keenJSON[[]wire.Image](t, "image", "list", "--store", "small-shelf") {
		require.Equal(t, "berth-sim", m.Machine)
	}
	keenOK(t, "store", "check", "small-shelf", "--read")
	found := keenJSON[store.Summary](t, "store", "show", "small-shelf")
	require.Less(t, found.Taken, int64(60<<20), "the space of the half image is given back")
	require.Zero(t, found.Unneeded)
}

// A run that would take the store below its floor is refused before anything is frozen, with figures.
func TestAFloorThatWouldBeReached(t *testing.T) {
	shelf := t.TempDir()
	withPolicy(t, "weekly-system", policyText("berth-sim", "floor-shelf", ""), storeText("floor-shelf", shelf)+"    floor: 900 TiB\n")
	s := keen(t, "policy", "run", "weekly-system", "--wait")
	require.Equal(t, 1, s.code)
	require.Regexp(t, `there is no room for it: about .* would be added \(.* are to be read\); store floor-shelf has .* free, and 900 TiB must stay free`, s.out)
	require.Empty(t, keenJSON[[]wire.Image](t, "image", "list", "--store", "floor-shelf"))
	requireClean(t, "berth-sim")
}

// A hypervisor that is not there, or takes the call and never answers, is told and blocks nothing else.
func TestAHypervisorThatDoesNotAnswer(t *testing.T) {
	forFaults(t, "it waits for what never answers")
	folder, err := os.MkdirTemp("/tmp", "kl")
	require.NoError(t, err)
	defer os.RemoveAll(folder)
	l, err := net.Listen("unix", filepath.Join(folder, "mute"))
	require.NoError(t, err)
	defer l.Close()
	for _, c := range [][2]string{{"gone", "does not answer"}, {"mute", "does not answer within 20s"}} {
		t.Run(c[0], func(t *testing.T) {
			file, _, err := place.Site()
			require.NoError(t, err)
			body, err := os.ReadFile(file)
			require.NoError(t, err)
			changed := strings.Replace(string(body), "hypervisors:\n", "hypervisors:\n  pier-2:\n    uri: qemu+unix:///session?socket="+filepath.Join(folder, c[0])+"\n", 1)
			other := filepath.Join(t.TempDir(), "site.yaml")
			require.NoError(t, os.WriteFile(other, []byte(changed), 0o600))
			t.Cleanup(func() { keenOK(t, "site", "apply", file) })
			require.Contains(t, keenOK(t, "site", "apply", other), c[1])
			if c[0] == "mute" {
				return // it takes as long once more, to say the same
			}
			s := keen(t, "hypervisor", "find")
			require.Equal(t, 1, s.code)
			require.Contains(t, s.out, "✗ pier-2: hypervisor pier-2:")
			require.Contains(t, s.out, "✓ quay-1")
		})
	}
}

// A flipped byte in a pack is found by the check, which names the image, the place and the file; the image is doubtful from then
// on, until a repair has what was lost from elsewhere.
func TestDamageIsFoundAndMended(t *testing.T) {
	shelf := t.TempDir()
	keenOK(t, "store", "add", "damp-shelf", "--folder", shelf, "--like", "quay-shelf") // so that it has the same pieces
	withPolicy(t, "monthly-whole", policyText("berth-sim", "damp-shelf", ""), storeText("damp-shelf", shelf))
	backUp(t, "monthly-whole")
	m := keenJSON[[]wire.Image](t, "image", "list", "--policy", "monthly-whole")[0]
	packs, err := filepath.Glob(filepath.Join(shelf, "pack", "*", "*"))
	require.NoError(t, err)
	pack, body := "", []byte{}
	for _, p := range packs { // the largest holds pieces, and not maps
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		if len(b) > len(body) {
			pack, body = p, b
		}
	}
	body[len(body)/2] ^= 4
	require.NoError(t, os.WriteFile(pack, body, 0o600))

	s := keen(t, "store", "check", "damp-shelf", "--read")
	require.Equal(t, 1, s.code)
	require.Regexp(t, "image "+m.ID+`: vda, bytes \d+ to \d+: `, s.out)
	require.Regexp(t, `hits vda1:/\S+`, s.out)
	m = keenJSON[[]wire.Image](t, "image", "list", "--policy", "monthly-whole")[0]
	require.EqualValues(t, "doubtful", m.State)
	require.Contains(t, keenOK(t, "store", "list"), "! 1 images are doubtful")
	s = keen(t, "image", "prove", m.ID, "--level", "mount")
	require.Contains(t, s.err, "only a usable image can be proven")

	s = keen(t, "store", "check", "damp-shelf", "--repair", "--from", "damp-shelf")
	require.Contains(t, s.err, "can't be mended from itself")
	backUp(t, "nightly-guests") // another store has the same pieces
	out := keenOK(t, "store", "check", "damp-shelf", "--repair", "--from", "quay-shelf")
	require.Contains(t, out, "lost pieces were fetched from folder "+place.Shelf())
	require.Contains(t, out, "1 damaged packs are condemned")
	require.Contains(t, out, "nothing is damaged")
	require.EqualValues(t, "usable", keenJSON[[]wire.Image](t, "image", "list", "--policy", "monthly-whole")[0].State)
	keenOK(t, "image", "prove", m.ID, "--wait")
	require.NoFileExists(t, pack)
}

// The service dies after an image's manifest came to be and before the records know: the image is kept, not forgotten.
func TestAnImageThatWasComplete(t *testing.T) {
	backUp(t, "nightly-guests")
	m := images(t, "tickets-db")[0]
	db := database(t)
	for _, sql := range []string{
		"update images set state = 'writing', disks = '[]', size = 0 where id = $1",
		"update tasks set state = 'running', ended = null where image = $1",
		"update runs set state = 'running', ended = null, owner = 4711 where id = (select run from images where id = $1)",
	} {
		_, err := db.Exec(t.Context(), sql, m.ID)
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return images(t, "tickets-db")[0].State == "usable" }, 20*time.Second, 100*time.Millisecond)
	again := images(t, "tickets-db")[0]
	require.Equal(t, m.Disks, again.Disks)
	require.Equal(t, m.Size, again.Size)
	require.Eventually(t, func() bool {
		return strings.Contains(keenOK(t, "run", "log", m.Run), "image "+m.ID+" was complete when the service ended")
	}, 10*time.Second, 100*time.Millisecond)
}

// A guest that somebody else has paused is captured, and left paused, also by what clears up after a task that had started one.
func TestAGuestThatSomebodyPaused(t *testing.T) {
	withPolicy(t, "weekly-system", policyText("berth-sim", "shelf-paused", "    quiesce: \"off\"\n"), storeText("shelf-paused", t.TempDir()))
	virsh(t, "start", "--paused", "berth-sim")
	t.Cleanup(func() { place.Quay.Virsh(context.Background(), "destroy", "berth-sim") })
	state := func() string { return strings.TrimSpace(virsh(t, "domstate", "berth-sim")) }
	keenOK(t, "policy", "run", "weekly-system", "--wait")
	require.Equal(t, "paused", state())
	virsh(t, "resume", "berth-sim")
	time.Sleep(500 * time.Millisecond) // it runs for a while
	virsh(t, "suspend", "berth-sim")
	h, err := libvirt.Dial(t.Context(), place.Quay.Spec())
	require.NoError(t, err)
	defer h.Close()
	found, err := h.Clear(t.Context(), "berth-sim", image.NewID(), true)
	require.NoError(t, err)
	require.Empty(t, found)
	require.Equal(t, "paused", state())
	keenOK(t, "policy", "run", "weekly-system", "--wait")
	require.Equal(t, "paused", state())
}
