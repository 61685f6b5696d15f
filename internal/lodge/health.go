package lodge

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"keenlodge/internal/core/machine"

	"keenlodge/internal/core/selection"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
)

// errUnhealthy marks a guest whose condition keeps it from being captured.
var errUnhealthy = errors.New("the guest did not pass its check")

// standby tells why a machine is not the active member of its pair, or "" if it is. A guest that can't be asked is taken for the
// active one: better one image too many than none.
func (l *Lodge) standby(ctx context.Context, h source.Hypervisor, policy site.Policy, m records.Machine, say func(string)) string {
	switch {
	case policy.Active == nil:
		return ""
	case policy.Active.Tags != "":
		if e, err := selection.Parse(policy.Active.Tags); err == nil && !e.Matches(m.Tags) {
			return fmt.Sprintf("it is not the active member of its pair: its tags do not fit %q", policy.Active.Tags)
		}
		return ""
	}
	command := policy.Active.Command
	code, output, err := h.Execute(ctx, m.Name, command, site.Health{}.Limit())
	if err != nil {
		say(fmt.Sprintf("warning: it could not be asked whether it is the active member, so it is captured: %v", err))
		return ""
	}
	if code != 0 {
		return fmt.Sprintf("it is not the active member of its pair: %s ended with %d%s", command[0], code, saying(output))
	}
	return ""
}

// healthy carries a policy's checks out. What failed and only warns is in warnings; what stops is the error.
func (l *Lodge) healthy(ctx context.Context, h source.Hypervisor, policy site.Policy, name string, state machine.State, say func(string)) (warnings []string, err error) {
	if state != "running" && len(policy.Checks) > 0 {
		say("check: it is " + string(state) + ", so nothing in it can be asked")
		return nil, nil
	}
	for _, c := range policy.Checks {
		what, why := "", ""
		if len(c.Command) > 0 {
			what = "command " + strings.Join(c.Command, " ")
			code, output, err := h.Execute(ctx, name, c.Command, c.Limit())
			if err != nil {
				why = err.Error()
			} else if say(fmt.Sprintf("check: %s ended with %d%s", what, code, saying(output))); code != 0 {
				why = fmt.Sprintf("it ended with %d%s", code, saying(output))
			}
		} else {
			what = "file systems"
			why = fileSystems(ctx, h, name, c, say)
		}
		if why == "" {
			continue
		}
		if c.Stops() {
			return warnings, fmt.Errorf("%w: %s: %s", errUnhealthy, what, why)
		}
		warnings = append(warnings, fmt.Sprintf("check of %s failed: %s", what, why))
	}
	return warnings, nil
}

// fileSystems tells what is wrong with a guest's file systems.
func fileSystems(ctx context.Context, h source.Hypervisor, machine string, c site.Health, say func(string)) string {
	found, err := h.FileSystems(ctx, machine)
	if err != nil {
		return err.Error()
	}
	seen := false
	for _, f := range found {
		if c.Mounted != "" && f.Mounted != c.Mounted {
			continue
		}
		seen = true
		if f.Total == 0 {
			continue
		}
		free := int(100 * (f.Total - f.Used) / f.Total)
		say(fmt.Sprintf("check: %s (%s) has %d %% free", f.Mounted, f.Kind, free))
		if free < c.Free {
			return fmt.Sprintf("%s has %d %% free, less than %d %%", f.Mounted, free, c.Free)
		}
	}
	if c.Mounted != "" && !seen {
		return "nothing is mounted at " + c.Mounted
	}
	return ""
}

// saying quotes what a command said, on one line.
func saying(output string) string {
	output = strings.Join(strings.Fields(output), " ")
	if output == "" {
		return ""
	}
	if len(output) > 500 {
		output = strings.ToValidUTF8(output[:500], "") + " …"
	}
	return ": " + output
}
