package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/site"
)

func siteCommand() *cli.Command {
	return noun("site", "everything that the lodge is configured with",
		&cli.Command{Name: "show", Usage: "write the site file", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				s, err := k.Site(ctx)
				if err != nil {
					return err
				}
				text, err := s.Encode()
				if err != nil {
					return err
				}
				return show(c, s, func(w io.Writer) { w.Write(text) })
			})},
		&cli.Command{Name: "apply", Usage: "show what a site file changes, and do it", ArgsUsage: "FILE",
			Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "try", Usage: "only show it"}},
			Action: calls([]string{"a site file"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				file := c.Args().First()
				text, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				s, err := site.Parse(file, text)
				if err != nil {
					return err
				}
				out, err := k.ApplySite(ctx, s, c.Bool("try"))
				if err != nil {
					return fmt.Errorf("%s: %w; nothing was changed", file, err)
				}
				return show(c, out, func(w io.Writer) {
					for _, change := range out.Changes {
						sign := map[string]string{"add": "+", "remove": "-", "change": "~"}[change.What]
						switch named := change.Kind + " " + change.Name; {
						case change.Detail == "":
							fmt.Fprintln(w, sign, named)
						case strings.HasPrefix(change.Detail, change.Kind+":"): // a setting of the site itself
							fmt.Fprintln(w, sign, change.Detail)
						default:
							fmt.Fprintf(w, "%s %s: %s\n", sign, named, change.Detail)
						}
					}
					for _, line := range out.Rotation {
						fmt.Fprintf(w, "! %s at its next rotation\n", line)
					}
					for _, line := range out.Warnings {
						fmt.Fprintf(w, "! %s\n", line)
					}
					switch {
					case len(out.Changes) == 0:
						fmt.Fprintln(w, "the site is so already; nothing changes")
					case c.Bool("try"):
						fmt.Fprintln(w, "only tried; nothing was changed")
					default:
						fmt.Fprintln(w, "✓ done")
					}
				})
			})})
}
