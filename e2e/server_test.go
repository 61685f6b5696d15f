package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlodge/internal/agent/agenttest"
)

// A server is enrolled, joins by what the lodge printed, and is captured while it writes: through a service that is killed and comes back, a
// second time with only what changed, until it is dismissed.
func TestAServer(t *testing.T) {
	l := newLodging(t)
	service, one, log := l.serve("--tls")
	found := regexp.MustCompile(`fingerprint=(SHA256:\S+)`).FindStringSubmatch(log())
	require.Len(t, found, 2, log())
	mine := filepath.Join(t.TempDir(), "token")
	keen := func(args ...string) said { return keenAt(t, "https://"+one, mine, args...) }
	ok := func(args ...string) string {
		t.Helper()
		s := keen(args...)
		require.Equal(t, 0, s.code, "%v: %s%s", args, s.out, s.err)
		return s.out
	}
	ok("sign-in", "--from", l.token, "--fingerprint", found[1])

	told := ok("machine", "enroll", "gate-07")
	require.Contains(t, told, "keenlodge agent join gate-07 --lodge https://"+one+" --fingerprint "+found[1])
	word := filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(word, []byte(regexp.MustCompile(`(?m)^  (\w{26})$`).FindStringSubmatch(told)[1]), 0o600))
	folder := t.TempDir()
	join := []string{"agent", "join", "gate-07", "--lodge", "https://" + one, "--fingerprint", found[1], "--word-file", word, "--folder", folder, "--settings", t.TempDir()}
	out, err := l.run(join...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "13 files that say what the system state is")
	require.Contains(t, string(out), "this server is agent gate-07, certified until")
	disk := agenttest.New(t, 300<<20, "mkfs.ext4 -q $f")
	end := disk.Write(4 << 20)
	settings := t.TempDir()
	put := func(path, text string, mode os.FileMode) {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), mode))
	}
	put(filepath.Join(settings, "parts", "turnstile.yaml"), "about: the turnstile's settings\nmandatory: true\npaths: ["+disk.Mounted+"/settings]\noutput: {state: turnstile-state}\n", 0o644)
	put(filepath.Join(settings, "commands", "turnstile-state"), "#!/bin/sh\necho open\n", 0o755)
	put(filepath.Join(settings, "commands", "ledger"), "#!/bin/sh\necho $1 >> "+settings+"/said\n", 0o755)
	put(filepath.Join(disk.Mounted, "settings", "gate.conf"), "berth = 4\n", 0o640)
	put(filepath.Join(disk.Mounted, "settings", "core.tmp"), "nobody wants it", 0o640)
	agent := l.run("agent", "run", "--folder", folder, "--disk", disk.Loop, "--settings", settings, "--path", disk.Mounted, "--writable", disk.Mounted)
	said, err := os.Create(filepath.Join(t.TempDir(), "agent.log"))
	require.NoError(t, err)
	agent.Stderr = said
	require.NoError(t, agent.Start())
	ended := make(chan error, 1)
	go func() { ended <- agent.Wait() }()
	t.Cleanup(func() { agent.Process.Kill() })
	connected := func() bool { return strings.Contains(keen("agent", "list").out, "✓ connected") }
	require.Eventually(t, connected, 20*time.Second, 200*time.Millisecond)

	// It is a machine like any other.
	require.Eventually(t, func() bool {
		return regexp.MustCompile(`(?m)^gate-07 +servers +running +1 +300 MiB +none`).MatchString(ok("machine", "list"))
	}, 5*time.Second, 200*time.Millisecond, "it is found by itself")
	shelf := t.TempDir()
	ok("store", "add", "quay-shelf", "--folder", shelf)
	file := filepath.Join(t.TempDir(), "site.yaml")
	text := ok("site", "show") + "policies:\n  monthly-whole:\n    machines: [gate-07]\n    store: quay-shelf\n    quiesce: required\n    longest_freeze: 5 seconds\n    cycle: full once\n    rotation: newest 5\n    prove: read\n    schedules:\n      - when: monthly on the 1st at 04:00\n"
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	ok("site", "apply", file)
	run := ok("policy", "run", "monthly-whole", "--wait")
	require.Contains(t, run, "done")
	list := ok("image", "list", "--machine", "gate-07")
	require.Regexp(t, `full +filesystem .*read`, list)

	// Its system state, in parts, and what could not be had; an application comes to rest for a whole image.
	require.Regexp(t, `(?m)^turnstile +mandatory +3 +\d+ B +the turnstile's settings`, ok("machine", "parts", "gate-07"))
	text += "  weekly-system:\n    machines: [gate-07]\n    scope: system\n    ignore: ['*.tmp']\n    store: quay-shelf\n    cycle: full once\n    rotation: newest 5\n    prove: restore\n" +
		"  with-ledger:\n    machines: [gate-07]\n    store: quay-shelf\n    quiesce: required\n    applications: [ledger]\n    rotation: newest 5\n"
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	ok("site", "apply", file)
	ok("policy", "run", "weekly-system", "--wait")
	list = ok("image", "list", "--policy", "weekly-system")
	require.Regexp(t, `full, system +each file +✓ restore`, list)
	state := strings.Fields(strings.Split(list, "\n")[1])[0]
	require.Regexp(t, `(?s)parts +turnstile.*left out +\*\.tmp +1 files +15 B +`+disk.Mounted+`/settings/core.tmp`, ok("image", "show", state))
	require.Regexp(t, `-rw-r----- +root:root +10 B .* `+disk.Mounted+`/settings/gate.conf`, ok("image", "files", state))
	put(filepath.Join(disk.Mounted, "settings", "berths.conf"), "berths = 9\n", 0o644)
	put(filepath.Join(settings, "commands", "turnstile-state"), "#!/bin/sh\necho it is stuck >&2; exit 1\n", 0o755)
	s := keen("policy", "run", "weekly-system", "--wait")
	require.Equal(t, 3, s.code, s.out)
	require.Regexp(t, `gate-07 +/\.keenlodge/turnstile/state +command turnstile-state: exit status 1: it is stuck`, ok("run", "show", "--unread"))
	next := strings.Fields(strings.Split(ok("image", "list", "--policy", "weekly-system"), "\n")[1])[0]
	require.Regexp(t, `(?m)^\+ -rw-r--r-- root:root +11 B .* `+disk.Mounted+`/settings/berths.conf$`, ok("image", "diff", state, next))
	backs := t.TempDir()
	ok("store", "extract", shelf, state, "--to", backs)
	require.Contains(t, agenttest.Sh(t, "tar -xOf "+backs+"/"+state+"-files.tar "+strings.TrimPrefix(disk.Mounted, "/")+"/settings/gate.conf 2>/dev/null"), "berth = 4")
	ok("policy", "run", "with-ledger", "--wait")
	require.Regexp(t, `full +application`, ok("image", "list", "--policy", "with-ledger"))
	calls, err := os.ReadFile(filepath.Join(settings, "said"))
	require.NoError(t, err)
	require.Equal(t, "before\nafter\n", string(calls))

	filesBack(t, keen, disk.Mounted, state)

	// The service is killed in the middle of a restore, of its undoing, and of another image.
	kill := func() {
		t.Helper()
		require.NoError(t, service.Process.Kill())
		service.Wait()
		require.NoError(t, agent.Process.Signal(syscall.SIGCONT))
		service, _, _ = l.serveAt(one, "--tls")
		require.Eventually(t, connected, 40*time.Second, 300*time.Millisecond)
		require.Eventually(t, func() bool { return !strings.Contains(keen("run", "list").out, "running") }, time.Minute, 300*time.Millisecond)
	}
	killedRestore(t, keen, disk.Mounted, func() { require.NoError(t, agent.Process.Signal(syscall.SIGSTOP)) }, kill)
	ok("policy", "run", "monthly-whole")
	time.Sleep(400 * time.Millisecond)
	kill()
	ok("policy", "run", "monthly-whole", "--wait")
	require.Regexp(t, `incremental +filesystem`, ok("image", "list", "--policy", "monthly-whole"))
	require.Less(t, end(), 5*time.Second, "its file systems stood still only for moments")
	require.Eventually(t, func() bool { // the rooms' own tests, which may run beside, have some now and then
		traces, err := filepath.Glob("/sys/kernel/tracing/instances/keenlodge-*")
		require.NoError(t, err)
		return len(traces) == 0
	}, 2*time.Minute, 20*time.Millisecond)

	// What it is, and was, is in its image.
	id := strings.Fields(strings.Split(ok("image", "list", "--machine", "gate-07"), "\n")[1])[0]
	require.Contains(t, ok("image", "show", id), "gate-07")
	require.Contains(t, ok("image", "cat", state, disk.Mounted+"/settings/gate.conf"), "berth = 4")
	require.Regexp(t, `-rw-r----- +root:root +10 B .* `+disk.Mounted+`/settings/gate.conf`, ok("image", "files", state, disk.Mounted+"/settings"))
	ok("restore", "files", id, "/settings/gate.conf", "--into", disk.Mounted+"/whole", "--yes", "--wait")
	whole, err := os.ReadFile(disk.Mounted + "/whole/gate.conf")
	require.NoError(t, err)
	require.Contains(t, string(whole), "berth = ")
	served := exec.Command(place.Program, "--url", "https://"+one, "--token-file", mine, "image", "serve", id)
	info, err := exec.Command("qemu-img", "info", "--output=json", serveImage(t, 1, served)[filepath.Base(disk.Loop)]).Output()
	require.NoError(t, err)
	require.Contains(t, string(info), fmt.Sprintf(`"virtual-size": %d`, 300<<20))

	// The word is used up; a dismissed agent ends at once, and says why.
	require.NoError(t, os.Remove(filepath.Join(folder, "identity.json")))
	out, err = l.run(join...).CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "keenlodge machine enroll")
	ok("machine", "dismiss", "gate-07")
	select {
	case err := <-ended:
		require.Equal(t, 1, err.(*exec.ExitError).ExitCode())
	case <-time.After(20 * time.Second):
		t.Fatal("the agent goes on")
	}
	body, err := os.ReadFile(said.Name())
	require.NoError(t, err)
	require.Contains(t, string(body), "it was dismissed")
	require.Eventually(t, func() bool { return strings.Contains(ok("machine", "list"), "gone") }, 5*time.Second, 200*time.Millisecond)
	require.Regexp(t, `incremental +filesystem`, ok("image", "list", "--machine", "gate-07"), "its images stay")
	require.NoError(t, service.Process.Signal(syscall.SIGTERM))
}

// filesBack puts files of an image back onto the server on which they were, as one gate-07 has them in a folder.
func filesBack(t *testing.T, keen func(args ...string) said, mounted, state string) {
	ok := func(args ...string) string {
		t.Helper()
		s := keen(args...)
		require.Equal(t, 0, s.code, "%v: %s%s", args, s.out, s.err)
		return s.out
	}
	conf, more := mounted+"/settings/gate.conf", mounted+"/settings/berths.conf"
	read := func(p string) string {
		body, err := os.ReadFile(p)
		require.NoError(t, err)
		return string(body)
	}
	require.Contains(t, ok("restore", "files", state, conf, "--preview"), "there is nothing to be done")
	require.NoError(t, os.WriteFile(conf, []byte("berth = 17, by mistake\n"), 0o600))
	told := ok("restore", "files", state, "--preview")
	require.Regexp(t, `~ replace +1 +10 B`, told)
	require.Regexp(t, `~ replace +`+conf+` +10 B +23 B of`, told)
	plan := regexp.MustCompile(`--plan (\w+) `).FindStringSubmatch(told)[1]
	require.Contains(t, read(conf), "by mistake", "it was only shown")
	require.Regexp(t, `(?m)^~ +10 B  `+conf+`  content$`, ok("image", "diff", state, "--now"))
	require.Regexp(t, `(?s)`+conf+` +10 B .*2 files in \d images`, ok("image", "files", "--machine", "gate-07", "--find", "GATE.conf", "--open"))

	// What was shown is what is carried out, or nothing.
	require.NoError(t, os.WriteFile(conf, []byte("berth = 18, by mistake\n"), 0o600))
	s := keen("restore", "files", state, "--plan", plan, "--wait")
	require.Contains(t, s.out+s.err, "gate-07 is not as it was when the restore was shown: nothing was written")
	require.Contains(t, read(conf), "berth = 18")
	out := ok("restore", "files", state, "--yes", "--wait")
	require.Contains(t, out, "1 replaced (10 B)")
	require.Equal(t, "berth = 4\n", read(conf))
	st, err := os.Stat(conf)
	require.NoError(t, err)
	require.EqualValues(t, 0o640, st.Mode().Perm())
	require.Contains(t, read(more), "berths", "what the image has not stays")
	run := regexp.MustCompile(`keenlodge restore undo (\w+)`).FindStringSubmatch(out)[1]
	require.Contains(t, ok("restore", "undo", run, "--wait"), "as it was before: 2 of the paths")
	require.Contains(t, read(conf), "berth = 18")
	s = keen("restore", "undo", run, "--wait")
	require.Contains(t, s.out+s.err, "nothing is held of it")

	// Elsewhere, beside what is there, and out of reach.
	ok("restore", "files", state, conf, "--into", mounted+"/back", "--yes", "--wait")
	require.Equal(t, "berth = 4\n", read(mounted+"/back/gate.conf"))
	require.Regexp(t, `\+ beside +`+mounted+`/settings/gate\.from-\d+-\d+\.conf`, ok("restore", "files", state, conf, "--existing", "keep-both", "--preview"))
	for args, why := range map[string]string{
		conf + " --into /etc": "nothing may be written to /etc/gate.conf: this server's agent allows " + mounted, conf + " --existing both": "known are keep-both, replace, skip, newer",
		conf + " --delete": "leave out --delete", "--part turnstyle": `has no part "turnstyle"`, "/nowhere": "is not in image",
	} {
		s := keen(append([]string{"restore", "files", state, "--preview"}, strings.Fields(args)...)...)
		require.NotEqual(t, 0, s.code)
		require.Contains(t, s.err, why, args)
	}
	require.NoError(t, os.RemoveAll(mounted+"/back"))
}

// killedRestore restores a folder, and undoes that, through a service that is killed in the middle of each, while the agent stands still.
func killedRestore(t *testing.T, keen func(args ...string) said, mounted string, stop, kill func()) {
	const many = 3000
	place := func(i int) string { return fmt.Sprintf("%s/settings/berths/%04d", mounted, i) }
	content := func(what string, i int) []byte { return []byte(strings.Repeat(fmt.Sprintf("%s %d\n", what, i), 1000)) }
	require.NoError(t, os.Mkdir(mounted+"/settings/berths", 0o755))
	write := func(what string) {
		for i := range many {
			require.NoError(t, os.WriteFile(place(i), content(what, i), 0o644))
		}
	}
	are := func(what string) (n int) {
		for i := range many {
			if body, err := os.ReadFile(place(i)); err == nil && string(body) == string(content(what, i)) {
				n++
			}
		}
		return n
	}
	write("berth")
	keen("policy", "run", "weekly-system", "--wait")
	image := strings.Fields(strings.Split(keen("image", "list", "--policy", "weekly-system").out, "\n")[1])[0]
	write("a mistake")
	first := content("a mistake", 0)
	inTheMiddle := func(began func(body []byte) bool) {
		t.Helper()
		require.Eventually(t, func() bool {
			body, err := os.ReadFile(place(0))
			return err == nil && began(body)
		}, 30*time.Second, time.Millisecond)
		stop()
		kill()
	}
	run := func(out string) string {
		found := regexp.MustCompile(`(?m)(?:^run|restore undo) ([a-z0-9]{8,})`).FindStringSubmatch(out)
		require.Len(t, found, 2, out)
		return found[1]
	}
	again := []string{"restore", "files", image, mounted + "/settings/berths", "--yes"}
	s := keen(again...)
	require.Equal(t, 0, s.code, s.err)
	one := run(s.out)
	inTheMiddle(func(body []byte) bool { return string(body) != string(first) })
	had := are("berth")
	require.Equal(t, many, had+are("a mistake"), "no file is half of one")
	require.Less(t, had, many)
	require.Contains(t, keen("run", "show", one).out, "the service ended in the middle of it")
	s = keen(append(again, "--wait")...)
	require.Equal(t, 0, s.code, s.out)
	require.Contains(t, s.out, fmt.Sprintf("%d replaced", many-had), "what is there is not written again")
	require.Equal(t, many, are("berth"))

	two := run(regexp.MustCompile(`keenlodge restore undo \w+`).FindString(s.out))
	if faultsToo() { // make faults does it: a service takes its time to come back
		require.Equal(t, 0, keen("restore", "undo", two).code)
		require.Eventually(t, func() bool { return are("a mistake") > 0 }, 30*time.Second, time.Millisecond)
		stop()
		kill()
		require.Equal(t, many, are("berth")+are("a mistake"), "no file is half of one")
	}
	keen("restore", "undo", two, "--wait") // it may have come to its end
	require.Equal(t, had, are("berth"))
	require.Equal(t, 0, keen("restore", "undo", one, "--wait").code)
	require.Equal(t, many, are("a mistake"), "all is as it was before")
}
