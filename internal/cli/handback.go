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

// restoreExportCommand has an appliance take an export back.
func restoreExportCommand() *cli.Command {
	return &cli.Command{Name: "export", Usage: "have an appliance take back what it exported; all that it has is replaced", ArgsUsage: "IMAGE",
		Description: "It first shows what comes back, and asks for the appliance's name, unless that is fresh. An export of another release or build is refused before anything begins.",
		Flags: []cli.Flag{output(), waitFlag(), &cli.StringFlag{Name: "machine", Usage: "by this appliance; by default the one of which the image is"},
			&cli.StringFlag{Name: "typed", Usage: "the appliance's name, where nobody can be asked"},
			&cli.BoolFlag{Name: "preview", Usage: "only show what would be done"}},
		Action: calls([]string{"an image's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			id, err := pickImage(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			b := wire.HandbackBody{Machine: c.String("machine")}
			p, err := k.PreviewHandback(ctx, id, b)
			if err != nil {
				return err
			}
			if c.Bool("preview") {
				return show(c, p, func(w io.Writer) { handbackDetails(w, id, p) })
			}
			if c.String("output") != "json" {
				handbackDetails(c.Root().Writer, id, p)
			}
			if b.Confirm = p.Machine; !p.Fresh {
				if err := typed(c.String("typed"), p.Machine, fmt.Sprintf("All that %s has is replaced by what it was on %s", p.Machine, moment(&p.Taken))); err != nil {
					return err
				}
			}
			run, err := k.HandBack(ctx, id, b)
			if err != nil {
				return err
			}
			return started(ctx, c, k, run)
		})}
}

func handbackDetails(w io.Writer, id string, p wire.HandbackPreview) {
	now := "all that it has now is replaced"
	if p.Fresh {
		now = "it is fresh"
	}
	fmt.Fprintf(w, "%s takes back image %s, of %s: %s %s, build %s, exported by %s on node %s, %s in one file; %s\n\n", p.Machine, id, moment(&p.Taken), p.Product, p.Release, p.Build, p.By, orDash(p.Node), size(p.Bytes), now)
	var rows [][]string
	for _, part := range p.Parts {
		kind := "optional"
		if part.Mandatory {
			kind = "mandatory"
		}
		rows = append(rows, []string{part.Name, size(part.Bytes), kind, orDash(part.About)})
	}
	table(w, []string{"PART", "SIZE>", "", "ABOUT"}, rows)
	if len(p.LeftOut) > 0 {
		fmt.Fprintf(w, "  left out: %s\n", strings.Join(p.LeftOut, ", "))
	}
	for _, n := range p.Notices {
		fmt.Fprintf(w, "  ! %s\n", n)
	}
}
