package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/wire"
)

func auditCommand() *cli.Command {
	return noun("audit", "the trail: what was done, by whom", auditListCommand(), auditVerifyCommand())
}

func auditListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list changes and refusals, newest first", Flags: append(pageFlags(50), output(),
		&cli.StringFlag{Name: "who", Usage: "by the holder of one token"}, &cli.StringFlag{Name: "did", Usage: "one operation, such as run-policy"},
		&cli.StringFlag{Name: "to", Usage: "to what has a path that begins with this, such as policies/nightly-guests"},
		&cli.StringFlag{Name: "since", Usage: "from a day or moment on, or for so long: 2026-12-01, 2026-12-01T06:00:00Z, \"2 days\""},
		&cli.StringFlag{Name: "until", Usage: "before a day or moment"},
		&cli.StringFlag{Name: "result", Usage: "with one result: " + suggest.List(deed.Results)},
		&cli.BoolFlag{Name: "lines", Usage: "one JSON object a line, for programs that collect logs"}),
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
			var err error
			if f.Since, err = momentFrom("since", c.String("since"), true); err != nil {
				return err
			}
			if f.Until, err = momentFrom("until", c.String("until"), false); err != nil {
				return err
			}
			deeds, more, err := k.Trail(ctx, f)
			if err != nil {
				return err
			}
			if c.Bool("lines") {
				e := json.NewEncoder(c.Root().Writer)
				for _, d := range deeds {
					if err := e.Encode(d); err != nil {
						return err
					}
				}
				return nil
			}
			return show(c, deeds, func(w io.Writer) {
				var rows [][]string
				for _, d := range deeds {
					rows = append(rows, []string{moment(&d.At), orDash(d.Who), orDash(d.Address), d.Verb, strings.TrimPrefix(d.Target, apiRoot), orDash(d.Reason), string(d.Result), orDash(d.Why)})
				}
				table(w, []string{"WHEN", "WHO", "FROM", "DID", "TO", "REASON", "RESULT", "WHY"}, rows)
				moreLine(w, more, len(deeds))
			})
		})}
}

// apiRoot is what all paths of the interface begin with.
const apiRoot = "/api/v1/"

func auditVerifyCommand() *cli.Command {
	return &cli.Command{Name: "verify", Usage: "look whether the trail is as it was written: nothing taken out, changed, cut off, or put back to an earlier time",
		Description: "Each line has the digest of the one before it; each minute the chains are woven together, and every store keeps that of each day.", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			v, err := k.VerifyTrail(ctx)
			if err != nil {
				return err
			}
			if err := show(c, v, func(w io.Writer) { trailCheck(w, v) }); err != nil {
				return err
			}
			if len(v.Found) > 0 {
				return fmt.Errorf("the trail is not as it was written: %d findings", len(v.Found))
			}
			return nil
		})}
}

func trailCheck(w io.Writer, v wire.TrailCheck) {
	mark := "✓"
	if len(v.Found) > 0 {
		mark = "✗"
	}
	fmt.Fprintf(w, "%s lines: %d, in chains: %d, woven together: %d times\n", mark, v.Lines, v.Chains, v.Weaves)
	if v.Before > 0 {
		fmt.Fprintf(w, "! lines from before there were chains, which nothing vouches for: %d\n", v.Before)
	}
	for _, s := range v.Stores {
		if s.Error != "" {
			fmt.Fprintf(w, "! store %s could not be asked: %s\n", s.Store, s.Error)
			continue
		}
		fmt.Fprintf(w, "✓ store %s keeps what it was on each day: %d\n", s.Store, s.Weaves)
	}
	for _, f := range v.Found {
		fmt.Fprintf(w, "✗ %s\n", f)
	}
}
