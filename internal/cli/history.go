package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/wire"
)

// imageHistoryCommand lists what is gone.
func imageHistoryCommand() *cli.Command {
	return &cli.Command{Name: "history", Usage: "list dropped images, why they went, and which can be brought back",
		Flags: append(pageFlags(200), output(), &cli.StringFlag{Name: "machine", Usage: "of one machine"}, &cli.StringFlag{Name: "policy", Usage: "of one policy"}, &cli.StringFlag{Name: "store", Usage: "in one store"}),
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			gone, more, err := k.Images(ctx, wire.ImageFilter{Machine: c.String("machine"), Policy: c.String("policy"), Store: c.String("store"), OnlyGone: true, Page: pageFrom(c)})
			if err != nil {
				return err
			}
			s, err := k.Site(ctx)
			if err != nil {
				return err
			}
			return show(c, gone, func(w io.Writer) {
				var rows [][]string
				for _, m := range gone {
					back := "no"
					if m.InStore && !m.Leaving {
						until := m.Gone.Add(s.Stores[m.Store].GraceTime())
						back = "until " + moment(&until)
					}
					rows = append(rows, []string{m.ID, m.Machine, string(m.Capture), moment(&m.Taken), moment(m.Gone), size(m.Stored), m.Store, orDash(m.Policy), back, m.GoneWhy})
				}
				table(w, []string{"IMAGE", "MACHINE", "CAPTURE", "TAKEN", "GONE SINCE", "STORED>", "STORE", "POLICY", "COMES BACK", "WHY IT WENT"}, rows)
				moreLine(w, more, len(gone))
			})
		})}
}

func imageUndropCommand() *cli.Command {
	return &cli.Command{Name: "undrop", Usage: "bring a dropped image back, and all that it leans on", ArgsUsage: "IMAGE", Flags: []cli.Flag{output()},
		Action: calls([]string{"an image's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			back, err := k.UndropImage(ctx, id)
			if err != nil {
				return err
			}
			return show(c, back, func(w io.Writer) {
				fmt.Fprintf(w, "✓ back: %s\nthe next rotation drops what its rule still lets go; pin it, or change the rule\n", strings.Join(back, ", "))
			})
		})}
}

func imageFoldCommand() *cli.Command {
	return &cli.Command{Name: "fold", Usage: "join an image with the full one that it leans on, so that it stands alone (open layout)", ArgsUsage: "IMAGE",
		Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "wait", Aliases: []string{"w"}, Usage: "show it until it is over"}},
		Action: calls([]string{"an image's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			run, err := k.FoldImage(ctx, id)
			if err != nil {
				return err
			}
			return started(ctx, c, k, run)
		})}
}
