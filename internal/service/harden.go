package service

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// harden keeps what this process knows out of core dumps, and out of reach of other processes of its account: prctl(2), PR_SET_DUMPABLE. What
// of the environment is secret is taken out of it once it was read, so that no child has it.
func harden() error {
	if err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}); err != nil {
		return fmt.Errorf("forbid core dumps: %w", err)
	}
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return fmt.Errorf("keep other processes out of this one's memory: %w", err)
	}
	return nil
}

// forgetSecrets takes what is secret out of the environment.
func forgetSecrets() {
	for _, name := range []string{"PGPASSWORD", "PGSERVICEFILE", "CREDENTIALS_DIRECTORY"} {
		os.Unsetenv(name)
	}
}
