package proof

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/plain"
	"keenlodge/internal/reader"
)

// checksOf are the programs that an image's policy wants to accept what was written out of it.
func (pr *Proofs) checksOf(ctx context.Context, m *image.Manifest) ([]expect.RestoredCheck, error) {
	s, err := pr.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	checks := expect.ChecksOf(s.Policies[m.Policy].Restored, m.Machine, m.Tags)
	if why := reader.Able(); len(checks) > 0 && (pr.stores.OnHost || why != nil) {
		return nil, errors.Join(fmt.Errorf("policy %s wants %s to be run on what is written out of %s, which is done in a reader guest, and this host has none; install what it lacks, or take restored out of the policy", m.Policy, checks[0].Command[0], m.Machine), why)
	}
	return checks, nil
}

// checkInside has the file systems of disks checked by their own tools, and their data by the machine's own programs, in a reader guest.
func (pr *Proofs) checkInside(ctx context.Context, disks []reader.Disk, checks []expect.RestoredCheck) (evidence []string, err error) {
	if why := reader.Able(); pr.stores.OnHost || why != nil {
		return []string{"its file systems were not checked by their own tools, which is done in reader guests, and this host has none"}, nil
	}
	g, err := pr.stores.Reader(ctx, disks, len(checks) > 0)
	if err != nil {
		return nil, err
	}
	defer g.Close()
	for _, f := range g.Opened().FileSystems {
		said, err := checkSystem(ctx, g, f)
		if err != nil {
			return evidence, err
		}
		evidence = append(evidence, said)
	}
	for _, c := range checks {
		said, err := runCheck(ctx, g, c)
		if err != nil {
			return evidence, err
		}
		evidence = append(evidence, said)
	}
	return evidence, nil
}

// checkSystem has a file system checked by its own tool.
func checkSystem(ctx context.Context, g *reader.Guest, f reader.FileSystem) (string, error) {
	if f.Refused {
		return "", failed{fmt.Errorf("%s (%s): %s", f.Name, f.Format, f.Why)}
	}
	if f.Why != "" {
		return f.Name + ": not checked: " + f.Why, nil
	}
	c, err := g.Check(ctx, f.Name)
	switch {
	case err != nil:
		return "", errors.Join(err, g.Trouble())
	case c.Tool == "":
		return fmt.Sprintf("%s: %s is checked by no tool that this host has", f.Name, f.Format), nil
	case !c.Clean:
		return "", failed{fmt.Errorf("%s: %s finds damage in it: %s", f.Name, c.Tool, c.Said)}
	}
	return fmt.Sprintf("%s: %s, clean by %s", f.Name, f.Format, c.Tool), nil
}

// runCheck has a program of the machine's own say what it thinks of the machine's data.
func runCheck(ctx context.Context, g *reader.Guest, c expect.RestoredCheck) (string, error) {
	name := strings.Join(c.Command, " ")
	x, err := g.Execute(ctx, reader.Execute{Command: c.Command, Limit: c.Limit()})
	if err != nil {
		return "", errors.Join(fmt.Errorf("%s: %w", name, err), g.Trouble())
	}
	last := plain.LastLine(x.Said, 400)
	switch {
	case g.Trouble() != nil:
		return "", fmt.Errorf("%s: %w", name, g.Trouble())
	case x.Late:
		return "", failed{fmt.Errorf("%s: it had not ended after %s; it said last: %s", name, c.Limit(), last)}
	case x.Code != 0:
		return "", failed{fmt.Errorf("%s: it ended with %d: %s", name, x.Code, last)}
	case !strings.Contains(x.Said, c.Expect):
		return "", failed{fmt.Errorf("%s: %q is not in what it says: %s", name, c.Expect, last)}
	case last == "":
		return name + ": it ended with 0", nil
	}
	return name + ": " + last, nil
}
