package service

import (
	"fmt"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A service can't be dumped, and no process of its account reads its memory; seen in a process of its own.
func TestHarden(t *testing.T) {
	const child = "KEENLODGE_TEST_HARDEN"
	dumpable := func() int {
		n, err := unix.PrctlRetInt(unix.PR_GET_DUMPABLE, 0, 0, 0, 0)
		require.NoError(t, err)
		return n
	}
	if os.Getenv(child) != "" {
		require.NoError(t, harden())
		var limit unix.Rlimit
		require.NoError(t, unix.Getrlimit(unix.RLIMIT_CORE, &limit))
		fmt.Println("dumpable", dumpable(), "core", limit.Cur, limit.Max)
		return
	}
	require.Equal(t, 1, dumpable(), "it is by itself")
	cmd := exec.Command(os.Args[0], "-test.run", "^TestHarden$")
	cmd.Env = append(os.Environ(), child+"=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "dumpable 0 core 0 0")
}

// What is secret of the environment is taken out of it.
func TestForgetSecrets(t *testing.T) {
	t.Setenv("PGPASSWORD", "of the database")
	forgetSecrets()
	require.Empty(t, os.Getenv("PGPASSWORD"))
}
