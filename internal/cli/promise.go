package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/wire"
)

func promiseCommand() *cli.Command {
	return noun("promise", "what policies owe their machines, and what of it is kept",
		&cli.Command{Name: "list", Usage: "list machines to which something is owed, with what is not kept",
			Flags: append(pageFlags(200), output(), &cli.StringFlag{Name: "standing", Usage: "only machines of which the worst stands so: kept, overdue, impossible, failed"}, &cli.StringFlag{Name: "machine", Usage: "only this machine, with all that is owed to it"}),
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				standing := ""
				if c.IsSet("standing") {
					s, err := pick("standing", promise.Standing(c.String("standing")), promise.Standings)
					if err != nil {
						return usageError{err}
					}
					standing = string(s)
				}
				found, more, err := k.Promises(ctx, standing, c.String("machine"), pageFrom(c))
				if err != nil {
					return err
				}
				slices.SortStableFunc(found, func(a, b wire.OwedMachine) int {
					return slices.Index(promise.Standings, b.Standing) - slices.Index(promise.Standings, a.Standing)
				})
				return show(c, found, func(w io.Writer) {
					promiseTable(w, found, c.IsSet("machine"))
					moreLine(w, more, len(found))
				})
			})})
}

var standingSigns = map[promise.Standing]string{promise.Kept: "✓", promise.Overdue: "!", promise.Failed: "✗", promise.Impossible: "–"}

// promiseTable shows each machine with its worst, or whole.
func promiseTable(w io.Writer, found []wire.OwedMachine, whole bool) {
	var rows [][]string
	for _, m := range found {
		name, owed, status := m.Machine, m.Promise, m.Status
		shown := 0
		for _, i := range m.Items {
			if !whole && i.Standing == promise.Kept {
				continue
			}
			rows = append(rows, []string{name, standingSigns[i.Standing] + " " + string(i.Standing), i.Clause, i.Why, owed})
			name, owed = "", ""
			shown++
		}
		if shown == 0 {
			rows = append(rows, []string{name, standingSigns[promise.Kept] + " " + string(promise.Kept), "all", status, owed})
		}
	}
	table(w, []string{"MACHINE", "STANDS", "WHAT", "WHY", "OWED"}, rows)
	if whole && len(found) == 1 {
		fmt.Fprintf(w, "\n%s: %s\n", found[0].Machine, strings.TrimSpace(found[0].Status))
	}
}
