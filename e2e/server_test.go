package e2e

import (
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
	join := []string{"agent", "join", "gate-07", "--lodge", "https://" + one, "--fingerprint", found[1], "--word-file", word, "--folder", folder}
	out, err := l.run(join...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "this server is agent gate-07, certified until")
	disk := agenttest.New(t, 300<<20, "mkfs.ext4 -q $f")
	end := disk.Write(4 << 20)
	agent := l.run("agent", "run", "--folder", folder, "--disk", disk.Loop)
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
	text := ok("site", "show") + "policies:\n  monthly-whole:\n    machines: [gate-07]\n    store: quay-shelf\n    quiesce: required\n    longest_freeze: 5 seconds\n    cycle: full once\n    rotation: newest 5\n    prove: mount\n    schedules:\n      - when: monthly on the 1st at 04:00\n"
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	ok("site", "apply", file)
	run := ok("policy", "run", "monthly-whole", "--wait")
	require.Contains(t, run, "done")
	list := ok("image", "list", "--machine", "gate-07")
	require.Regexp(t, `full +filesystem .*mount`, list)

	// The service is killed in the middle of another.
	ok("policy", "run", "monthly-whole")
	time.Sleep(400 * time.Millisecond)
	require.NoError(t, service.Process.Kill())
	service.Wait()
	service, _, _ = l.serveAt(one, "--tls")
	require.Eventually(t, connected, 40*time.Second, 300*time.Millisecond)
	require.Eventually(t, func() bool { return !strings.Contains(keen("run", "list").out, "running") }, time.Minute, 300*time.Millisecond)
	ok("policy", "run", "monthly-whole", "--wait")
	require.Regexp(t, `incremental +filesystem`, ok("image", "list", "--machine", "gate-07"))
	require.Less(t, end(), 5*time.Second, "its file systems stood still only for moments")
	traces, err := filepath.Glob("/sys/kernel/tracing/instances/keenlodge-*")
	require.NoError(t, err)
	require.Empty(t, traces)

	// What it is, and was, is in its image.
	id := strings.Fields(strings.Split(ok("image", "list", "--machine", "gate-07"), "\n")[1])[0]
	require.Contains(t, ok("image", "show", id), "gate-07")

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
