package cli

import (
	"context"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/wire"
)

func auditCommand() *cli.Command {
	return noun("audit", "the trail: what was done, by whom",
		&cli.Command{Name: "list", Usage: "list changes and refusals, newest first", Flags: append(pageFlags(50), output(),
			&cli.StringFlag{Name: "who", Usage: "by the holder of one token"}, &cli.StringFlag{Name: "did", Usage: "one operation, such as run-policy"},
			&cli.StringFlag{Name: "to", Usage: "to what has a path that begins with this, such as policies/nightly-guests"},
			&cli.StringFlag{Name: "result", Usage: "with one result: " + suggest.List(deed.Results)}),
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				f := wire.DeedFilter{Who: c.String("who"), Verb: c.String("did"), Page: pageFrom(c)}
				if to := c.String("to"); to != "" {
					f.Target = apiRoot + strings.TrimPrefix(strings.TrimPrefix(to, apiRoot), "/")
				}
				if word := c.String("result"); word != "" {
					result, err := pick("result", deed.Result(word), deed.Results)
					if err != nil {
						return usageError{err}
					}
					f.Result = string(result)
				}
				deeds, more, err := k.Trail(ctx, f)
				if err != nil {
					return err
				}
				return show(c, deeds, func(w io.Writer) {
					var rows [][]string
					for _, d := range deeds {
						rows = append(rows, []string{moment(&d.At), d.Who, d.Address, d.Verb, strings.TrimPrefix(d.Target, apiRoot), string(d.Result), orDash(d.Why)})
					}
					table(w, []string{"WHEN", "WHO", "FROM", "DID", "TO", "RESULT", "WHY"}, rows)
					moreLine(w, more, len(deeds))
				})
			})})
}

// apiRoot is what all paths of the interface begin with.
const apiRoot = "/api/v1/"
