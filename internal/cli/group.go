package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
)

func groupCommand() *cli.Command {
	return noun("group", "machines that need each other",
		&cli.Command{Name: "list", Usage: "list groups, with the newest image of each machine", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				groups, err := k.Groups(ctx)
				if err != nil {
					return err
				}
				return show(c, groups, func(w io.Writer) {
					var rows [][]string
					for _, g := range groups {
						for i, m := range g.Members {
							name := ""
							if i == 0 {
								name = g.Name
							}
							proven := string(m.Proven)
							if m.Failed {
								proven = "✗ failed"
							} else if proven != "" {
								proven = "✓ " + proven
							}
							rows = append(rows, []string{name, fmt.Sprint(i + 1), m.Machine, orDash(m.Image), moment(m.Taken), orDash(proven), m.Why})
						}
					}
					table(w, []string{"GROUP", "STARTS>", "MACHINE", "IMAGE", "TAKEN", "PROVEN", "WHY"}, rows)
				})
			})},
		&cli.Command{Name: "prove", Usage: "start a group's machines from their newest images, in order and in one closed network", ArgsUsage: "GROUP", Flags: []cli.Flag{output(), waitFlag()},
			Action: calls([]string{"a group"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				run, err := k.ProveGroup(ctx, c.Args().First())
				if err != nil {
					return err
				}
				return started(ctx, c, k, run)
			})})
}
