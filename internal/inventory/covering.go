package inventory

import (
	"context"
	"fmt"
	"slices"

	"keenlodge/internal/core/site"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/records"
)

// AskFor asks the sources that a policy may need for their machines, and records them. What they said some seconds ago will do, unless fresh.
func (inv *Inventory) AskFor(ctx context.Context, s site.Site, policy site.Policy, fresh bool) ([]Answer, error) {
	names, err := inv.SourcesOf(ctx, s, policy)
	if err != nil {
		return nil, err
	}
	answers := inv.Ask(ctx, s, fresh, names...)
	if _, err := inv.Record(ctx, answers); err != nil {
		return nil, err
	}
	more, err := inv.AskMore(ctx, s, policy, fresh, names)
	return append(answers, more...), err
}

// AskMore asks the sources that a policy turns out to need beside those that were asked: a machine that is gone there, or off, may be elsewhere.
func (inv *Inventory) AskMore(ctx context.Context, s site.Site, policy site.Policy, fresh bool, asked []string) ([]Answer, error) {
	names, err := inv.SourcesOf(ctx, s, policy)
	if err != nil {
		return nil, err
	}
	names = slices.DeleteFunc(names, func(name string) bool { return slices.Contains(asked, name) })
	answers := inv.Ask(ctx, s, fresh, append([]string{}, names...)...)
	_, err = inv.Record(ctx, answers)
	return answers, err
}

// Tasks makes tasks of machines that a policy covers.
func Tasks(machines []records.Machine, policy site.Policy) []records.Task {
	tasks := make([]records.Task, len(machines))
	for i, m := range machines {
		tasks[i] = records.Task{Machine: m.Label, MachineID: m.ID, Guest: m.Name, Hypervisor: m.Hypervisor, Store: policy.Store}
	}
	return tasks
}

// Missing lists what keeps machines from being captured that a policy covers: their source is silent, or nobody has them.
func (inv *Inventory) Missing(ctx context.Context, name string, policy site.Policy, silent map[string]string) (missing []error, err error) {
	machines, err := inv.rec.Machines(ctx)
	if err != nil {
		return nil, err
	}
	var known []string
	have := map[string]bool{}
	for _, m := range machines {
		if !m.Live() {
			continue
		}
		known = append(known, m.Label)
		have[m.Name], have[m.Hypervisor+"/"+m.Name] = true, true
		if why, ok := silent[m.Hypervisor]; ok && policy.Selects(m.Hypervisor, m.Name, m.Tags) {
			missing = append(missing, fmt.Errorf("machine %s can't be backed up: %s", m.Label, why))
		}
	}
	for _, exact := range policy.Exact() {
		if !have[exact] {
			missing = append(missing, fmt.Errorf("policy %s names machine %q, which no hypervisor has%s", name, exact, suggest.Hint(exact, known)))
		}
	}
	return missing, nil
}
