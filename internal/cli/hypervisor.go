package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
)

func hypervisorCommand() *cli.Command {
	return noun("hypervisor", "hosts that run guests",
		&cli.Command{Name: "list", Usage: "list hypervisors", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				s, err := k.Site(ctx)
				if err != nil {
					return err
				}
				return show(c, s.Hypervisors, func(w io.Writer) {
					var rows [][]string
					for _, name := range sorted(s.Hypervisors) {
						rows = append(rows, []string{name, s.Hypervisors[name].URI, orDash(s.Hypervisors[name].Pool)})
					}
					table(w, []string{"HYPERVISOR", "URI", "POOL"}, rows)
				})
			})},
		&cli.Command{Name: "around", Usage: "show what stands around a hypervisor's guests, as it was each day: networks, storage pools, the names of secrets", ArgsUsage: "HYPERVISOR",
			Description: "What changed is kept for over a year: whoever brings guests back to a host that is new needs it. -o json has the definitions.", Flags: []cli.Flag{output()},
			Action: calls([]string{"a hypervisor's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				things, err := k.Around(ctx, c.Args().First())
				if err != nil {
					return err
				}
				return show(c, things, func(w io.Writer) {
					if len(things) == 0 {
						fmt.Fprintln(w, "nothing is known yet: the service asks in its first minute, and then once a day")
						return
					}
					var rows [][]string
					for _, t := range things {
						rows = append(rows, []string{t.Kind, t.Name, moment(&t.Since), moment(&t.Seen)})
					}
					table(w, []string{"KIND", "NAME", "SO SINCE", "LAST SEEN"}, rows)
				})
			})},
		&cli.Command{Name: "find", Usage: "ask every hypervisor for its guests", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				found, err := k.FindMachines(ctx)
				if err != nil {
					return err
				}
				silent := 0
				err = show(c, found, func(w io.Writer) {
					for _, f := range found {
						if f.Error != "" {
							fmt.Fprintf(w, "✗ %s: %s\n", f.Hypervisor, f.Error)
							continue
						}
						fmt.Fprintf(w, "✓ %s: %d guests\n", f.Hypervisor, f.Machines)
						for _, name := range f.Copies {
							fmt.Fprintf(w, "! %s: another hypervisor has a guest of the same UUID; it counts as one machine, so give one of them another UUID\n", name)
						}
					}
				})
				for _, f := range found {
					if f.Error != "" {
						silent++
					}
				}
				if err == nil && silent > 0 {
					err = fmt.Errorf("%d of %d hypervisors did not answer", silent, len(found))
				}
				return err
			})})
}
