package rescue

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"keenlodge/internal/core/plain"
)

// busybox runs a program of the medium's.
func busybox(ctx context.Context, args ...string) error {
	out, err := exec.CommandContext(ctx, "/busybox", args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", args[0], err, plain.LastLine(string(out), 200))
	}
	return nil
}

// leaseScript is what udhcpc calls when a network has told what is to be used.
const leaseScript = `#!/busybox sh
[ "$1" = bound ] || [ "$1" = renew ] || exit 0
/busybox ip addr flush dev "$interface"
/busybox ip addr add "$ip/${mask:-24}" dev "$interface"
[ -z "$router" ] || /busybox ip route replace default via "${router%% *}" dev "$interface"
for d in $dns; do echo "nameserver $d"; done > /etc/resolv.conf
`

// leaseTime is how long a network may take to tell an address.
const leaseTime = 30 * time.Second

// cards are the network cards that may lead somewhere.
func cards() (out []string) {
	found, _ := filepath.Glob("/sys/class/net/*/device")
	for _, place := range found {
		out = append(out, filepath.Base(filepath.Dir(place)))
	}
	return out
}

// connect brings the network up: by what the medium was told, or by what the network tells.
func connect(ctx context.Context, told settings) error {
	if err := busybox(ctx, "ip", "link", "set", "lo", "up"); err != nil {
		return err
	}
	found := cards()
	if len(found) == 0 {
		return errors.New("this machine has no network card that the medium's kernel knows")
	}
	var errs []error
	for _, card := range found {
		if err := busybox(ctx, "ip", "link", "set", card, "up"); err != nil {
			errs = append(errs, err)
			continue
		}
		var err error
		if told.address != "" {
			err = fixed(ctx, card, told)
		} else {
			err = lease(ctx, card)
		}
		if err == nil {
			return nil
		}
		errs = append(errs, fmt.Errorf("%s: %w", card, err))
	}
	return errors.Join(errs...)
}

// lease asks the network for an address.
func lease(ctx context.Context, card string) error {
	ctx, end := context.WithTimeout(ctx, leaseTime)
	defer end()
	if err := os.WriteFile("/lease", []byte(leaseScript), 0o755); err != nil {
		return err
	}
	return busybox(ctx, "udhcpc", "-i", card, "-n", "-q", "-f", "-t", "8", "-T", "2", "-s", "/lease")
}

// fixed takes an address that somebody has said.
func fixed(ctx context.Context, card string, told settings) error {
	if err := busybox(ctx, "ip", "addr", "add", told.address, "dev", card); err != nil {
		return err
	}
	if told.router != "" {
		if err := busybox(ctx, "ip", "route", "replace", "default", "via", told.router, "dev", card); err != nil {
			return err
		}
	}
	if told.names != "" {
		return os.WriteFile("/etc/resolv.conf", []byte("nameserver "+told.names+"\n"), 0o644)
	}
	return nil
}

// settings are what the medium was told, on its kernel's command line.
type settings struct {
	lodge, pin, code       string
	address, router, names string
}

// told reads the kernel's command line: keenlodge.NAME=VALUE.
func told() settings {
	body, _ := os.ReadFile("/proc/cmdline")
	all := map[string]string{}
	for word := range strings.FieldsSeq(string(body)) {
		if name, value, ok := strings.Cut(word, "="); ok {
			if name, ours := strings.CutPrefix(name, "keenlodge."); ours {
				all[name] = value
			}
		}
	}
	return settings{lodge: all["lodge"], pin: all["pin"], code: all["code"], address: all["address"], router: all["router"], names: all["names"]}
}
