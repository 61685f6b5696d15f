package capture

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/selection"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
	"keenlodge/internal/source"
)

// errUnhealthy marks a guest whose condition keeps it from being captured.
var errUnhealthy = errors.New("the guest did not pass its check")

// preflight makes sure that a machine is to be captured: it is the active member of its pair, and in health. A [run.Skip] says that it
// is not.
func (c *Captures) preflight(ctx context.Context, h source.Source, policy site.Policy, t *runs.Task) error {
	if policy.Active == nil && len(policy.Checks) == 0 {
		return nil
	}
	m, err := c.rec.Machine(ctx, t.MachineID)
	if err != nil {
		return err
	}
	if err := t.Begin(ctx, "checking the guest"); err != nil {
		return err
	}
	var inside source.Insider
	if len(policy.Checks) > 0 || policy.Active.Tags == "" { // tags tell without the machine
		if inside, err = source.As[source.Insider](h, "ask a machine from inside"); err != nil {
			return err
		}
	}
	if why := standby(ctx, inside, policy, m, t); why != "" {
		return run.Skip{Why: why}
	}
	return healthy(ctx, inside, policy, m, t)
}

// standby returns why a machine is not the active member of its pair, or "" if it is. A guest that can't be asked is taken for the
// active one: better one image too many than none.
func standby(ctx context.Context, h source.Insider, policy site.Policy, m records.Machine, t *runs.Task) string {
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
		t.Caution(ctx, "it could not be asked whether it is the active member, so it is captured: %v", err)
		return ""
	}
	if code != 0 {
		return fmt.Sprintf("it is not the active member of its pair: %s ended with %d%s", command[0], code, quoteOutput(output))
	}
	return ""
}

// healthy carries a policy's checks out. What failed and only warns is a warning of the task; what stops it is the error.
func healthy(ctx context.Context, h source.Insider, policy site.Policy, m records.Machine, t *runs.Task) error {
	if m.State != machine.Running && len(policy.Checks) > 0 {
		t.Log(ctx, "check: it is %s, so nothing in it can be asked", m.State)
		return nil
	}
	for _, c := range policy.Checks {
		what, why := "", ""
		if len(c.Command) > 0 {
			what = "command " + strings.Join(c.Command, " ")
			code, output, err := h.Execute(ctx, m.Name, c.Command, c.Limit())
			if err != nil {
				why = err.Error()
			} else if t.Log(ctx, "check: %s ended with %d%s", what, code, quoteOutput(output)); code != 0 {
				why = fmt.Sprintf("it ended with %d%s", code, quoteOutput(output))
			}
		} else {
			what = "file systems"
			why = fileSystems(ctx, h, m.Name, c, t)
		}
		if why == "" {
			continue
		}
		if c.Stops() {
			return fmt.Errorf("%w: %s: %s", errUnhealthy, what, why)
		}
		t.Warn("check of %s failed: %s", what, why)
	}
	return nil
}

// fileSystems returns what is wrong with a guest's file systems.
func fileSystems(ctx context.Context, h source.Insider, name string, c site.Health, t *runs.Task) string {
	found, err := h.FileSystems(ctx, name)
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
		t.Log(ctx, "check: %s (%s) has %d %% free", f.Mounted, f.Kind, free)
		if free < c.Free {
			return fmt.Sprintf("%s has %d %% free, less than %d %%", f.Mounted, free, c.Free)
		}
	}
	if c.Mounted != "" && !seen {
		return "nothing is mounted at " + c.Mounted
	}
	return ""
}

// quoteOutput quotes what a command printed, on one line.
func quoteOutput(output string) string {
	output = strings.Join(strings.Fields(output), " ")
	if output == "" {
		return ""
	}
	if len(output) > 500 {
		output = strings.ToValidUTF8(output[:500], "") + " …"
	}
	return ": " + output
}
