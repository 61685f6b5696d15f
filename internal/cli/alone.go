package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/when"
)

func rotationCommand() *cli.Command {
	return noun("rotation", "which images of a set stay",
		&cli.Command{Name: "try", Usage: "plan the rotation that a JSON file describes, with no lodge", ArgsUsage: "FILE", Flags: []cli.Flag{output()},
			Action: func(_ context.Context, c *cli.Command) error {
				if err := arguments(c, "a file"); err != nil {
					return err
				}
				body, err := os.ReadFile(c.Args().First())
				if err != nil {
					return err
				}
				plan, err := rotation.Try(body)
				if err != nil {
					return fmt.Errorf("%s: %w", c.Args().First(), err)
				}
				return show(c, plan, func(w io.Writer) {
					var rows [][]string
					for _, d := range plan.Decisions {
						rows = append(rows, []string{d.ID, string(d.Verdict), d.Why})
					}
					table(w, []string{"IMAGE", "VERDICT", "WHY"}, rows)
					guardLine(w, plan.Guard)
				})
			}},
		&cli.Command{Name: "preview", Usage: "show what the next rotation of a policy would do", ArgsUsage: "POLICY",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "rule", Usage: "try another rotation phrase"}},
			Action: calls([]string{"a policy's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				name, err := pickPolicy(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				sets, err := k.PreviewRotation(ctx, name, c.String("rule"))
				if err != nil {
					return err
				}
				return show(c, sets, func(w io.Writer) {
					for i, s := range sets {
						if i > 0 {
							fmt.Fprintln(w)
						}
						fmt.Fprintf(w, "%s in %s\n", s.Machine, s.Store)
						var rows [][]string
						for _, m := range s.Images {
							rows = append(rows, []string{"  " + m.ID, moment(&m.Taken), size(m.Stored), string(m.Verdict), m.Why})
						}
						table(w, []string{"  IMAGE", "TAKEN", "STORED>", "VERDICT", "WHY"}, rows)
						guardLine(w, s.Guard)
					}
				})
			})})
}

func guardLine(w io.Writer, guard string) {
	if guard != "" {
		fmt.Fprintf(w, "! the guard would hold this back: %s\n", guard)
	}
}

func scheduleCommand() *cli.Command {
	return noun("schedule", "when runs start", &cli.Command{
		Name: "next", Usage: "show the next moments of a schedule phrase, with no lodge", ArgsUsage: `"PHRASE"`,
		Flags: []cli.Flag{output(), &cli.StringFlag{Name: "zone", Usage: "tz database name", Value: "UTC"},
			&cli.StringFlag{Name: "from", Usage: "moment to start from (RFC 3339); now if not given"}, &cli.IntFlag{Name: "count", Value: 5, Usage: "how many"}},
		Action: func(_ context.Context, c *cli.Command) error {
			if err := arguments(c, `a phrase in quotes, such as "every day at 23:00"`); err != nil {
				return err
			}
			zone, err := time.LoadLocation(c.String("zone"))
			if err != nil {
				return wrongUse("zone %q is not in the tz database; write for example Europe/Lisbon", c.String("zone"))
			}
			at := time.Now()
			if from := c.String("from"); from != "" {
				if at, err = time.Parse(time.RFC3339, from); err != nil {
					return wrongUse("from %q is not a moment; write for example 2026-02-10T12:00:00Z", from)
				}
			}
			if n := c.Int("count"); n < 1 || n > 10000 {
				return wrongUse("count %d: a number from 1 to 10000 is needed", n)
			}
			s, err := when.Parse(c.Args().First(), zone)
			if err != nil {
				return usageError{err}
			}
			var out struct {
				Times []string `json:"times"`
			}
			for range c.Int("count") {
				at = s.Next(at)
				out.Times = append(out.Times, at.Format(time.RFC3339))
			}
			return show(c, out, func(w io.Writer) { fmt.Fprintln(w, strings.Join(out.Times, "\n")) })
		},
	})
}
