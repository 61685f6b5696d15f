package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/core/when"
)

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
