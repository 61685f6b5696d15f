package lodge

import (
	"context"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/core/machine"
	"keenlodge/internal/meeting"
	"keenlodge/internal/records"
)

// together is a group of which a run takes its machines in one moment.
type together struct {
	*meeting.Meeting
	group  string
	labels map[string]string // of its machines, by their identities
}

// meet has machines wait for each other that are to be taken in one moment: the members of groups, as far as the policy covers them and they run.
func (k *backup) meet(ctx context.Context) error {
	if len(k.policy.Together) == 0 {
		return nil
	}
	covered, err := k.l.Inventory.Covered(ctx, k.policy)
	if err != nil {
		return err
	}
	for _, group := range k.policy.Together {
		g := together{group: group, labels: map[string]string{}}
		var ids []string
		for _, m := range covered {
			named := func(word string) bool { return word == m.Name || word == m.Label || word == m.Hypervisor+"/"+m.Name }
			if m.State == machine.Running && slices.ContainsFunc(k.site.Groups[group].Machines, named) {
				ids, g.labels[m.ID] = append(ids, m.ID), m.Label
			}
		}
		g.Meeting = meeting.Of(ids)
		k.together, k.order.Meetings = append(k.together, g), append(k.order.Meetings, g.Meeting)
	}
	return nil
}

// leave says that a task's machine has been taken, or is not.
func (k *backup) leave(t records.Task) {
	for _, g := range k.together {
		g.Leave(t.MachineID)
	}
}

// tellMoments tells which groups are of one moment, and warns of those that are not.
func (k *backup) tellMoments(ctx context.Context) {
	for _, g := range k.together {
		came, apart, all := g.Came()
		var names, others []string
		for id, label := range g.labels {
			if slices.Contains(came, id) {
				names = append(names, label)
			} else {
				others = append(others, label)
			}
		}
		slices.Sort(names)
		slices.Sort(others)
		switch {
		case all && len(others) == 0:
			k.Log(ctx, "", "group %s is of one moment: %s stood still together, the last of them %s after the first", g.group, strings.Join(names, ", "), apart.Round(time.Millisecond))
		case len(others) > 0:
			k.Warn(ctx, "", "group %s is not of one moment: %s did not stand still with the others", g.group, strings.Join(others, ", "))
		case len(g.labels) > 1:
			k.Warn(ctx, "", "group %s is not of one moment: its machines did not stand still within %s of each other; may as many be captured at once as it has members?", g.group, meeting.Patience)
		}
	}
}
