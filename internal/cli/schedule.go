package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/when"
	"keenlodge/internal/wire"
)

func scheduleCommand() *cli.Command {
	flags := func(count int) []cli.Flag {
		return []cli.Flag{output(), &cli.StringFlag{Name: "zone", Usage: "tz database name", Value: "UTC"},
			&cli.StringFlag{Name: "from", Usage: "moment to start from (RFC 3339); now if not given"}, &cli.IntFlag{Name: "count", Value: count, Usage: "how many"}}
	}
	return noun("schedule", "when runs start",
		&cli.Command{Name: "next", Usage: "show the next moments of a schedule, with no lodge", ArgsUsage: `"PHRASE"`, Flags: flags(5),
			Action: func(_ context.Context, c *cli.Command) error {
				s, from, err := scheduleOf(c)
				if err != nil {
					return err
				}
				out := struct {
					Times []string `json:"times"`
				}{[]string{}}
				for at := from; len(out.Times) < c.Int("count"); {
					if at = s.Next(at); at.IsZero() {
						break
					}
					out.Times = append(out.Times, at.Format(time.RFC3339))
				}
				return show(c, out, func(w io.Writer) {
					for _, at := range out.Times {
						fmt.Fprintln(w, at)
					}
					if len(out.Times) == 0 {
						fmt.Fprintf(w, "no moment of the clock: %s\n", s.Words())
					}
				})
			}},
		&cli.Command{Name: "explain", Usage: "say what a schedule means, with no lodge", ArgsUsage: `"PHRASE"`, Flags: flags(5),
			Action: func(_ context.Context, c *cli.Command) error {
				s, from, err := scheduleOf(c)
				if err != nil {
					return err
				}
				e := s.Explain(from, c.Int("count"))
				return show(c, e, func(w io.Writer) { explained(w, e) })
			}})
}

func explained(w io.Writer, e when.Explanation) {
	fmt.Fprintf(w, "%s\n\n", e.Words)
	for _, row := range [][2]string{{"phrase", e.Phrase}, {"RFC 5545", strings.ReplaceAll(e.RFC5545, "\n", "\n          ")}} {
		if row[1] != "" {
			fmt.Fprintf(w, "%-9s %s\n", row[0], row[1])
		}
	}
	for i, at := range e.Next {
		head := ""
		if i == 0 {
			head = "next"
		}
		fmt.Fprintf(w, "%-9s %s\n", head, at.Format("Mon 2006-01-02 15:04:05 -07:00 MST"))
	}
	for _, note := range e.Notes {
		fmt.Fprintf(w, "! %s\n", note)
	}
}

// scheduleOf reads the schedule, zone and moment of a call.
func scheduleOf(c *cli.Command) (s when.Schedule, from time.Time, err error) {
	if err := arguments(c, `a phrase in quotes, such as "every day at 23:00"`); err != nil {
		return s, from, err
	}
	zone, err := time.LoadLocation(c.String("zone"))
	if err != nil {
		return s, from, wrongUse("zone %q is not in the tz database; write for example Europe/Lisbon", c.String("zone"))
	}
	from = time.Now()
	if text := c.String("from"); text != "" {
		if from, err = time.Parse(time.RFC3339, text); err != nil {
			return s, from, wrongUse("from %q is not a moment; write for example 2026-02-10T12:00:00Z", text)
		}
	}
	if n := c.Int("count"); n < 1 || n > 10000 {
		return s, from, wrongUse("count %d: a number from 1 to 10000 is needed", n)
	}
	if s, err = when.Parse(c.Args().First(), zone); err != nil {
		err = usageError{err}
	}
	return s, from, err
}

// pausedWords tells of a pause.
func pausedWords(p wire.Pause) string {
	text := "paused"
	if p.Until != nil {
		text += " until " + moment(p.Until)
	}
	if p.By != "" {
		text += " by " + p.By
	}
	if p.Why != "" {
		text += ": " + p.Why
	}
	return text
}

func webhookCommand() *cli.Command {
	named := func(act func(ctx context.Context, c *cli.Command, k *client.Client, name string) error) cli.ActionFunc {
		return calls([]string{"a webhook's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			s, err := k.Site(ctx)
			if err != nil {
				return err
			}
			name, err := pick("webhook", c.Args().First(), sorted(s.Webhooks))
			if err != nil {
				return err
			}
			return act(ctx, c, k, name)
		})
	}
	return noun("webhook", "addresses that are told of runs",
		&cli.Command{Name: "list", Usage: "list webhooks", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				s, err := k.Site(ctx)
				if err != nil {
					return err
				}
				return show(c, s.Webhooks, func(w io.Writer) {
					var rows [][]string
					for _, name := range sorted(s.Webhooks) {
						rows = append(rows, []string{name, s.Webhooks[name].URL, suggest.List(s.Webhooks[name].Events)})
					}
					table(w, []string{"WEBHOOK", "ADDRESS", "EVENTS"}, rows)
				})
			})},
		&cli.Command{Name: "key", Usage: "make a new key with which events are signed, and show it once", ArgsUsage: "WEBHOOK", Flags: []cli.Flag{output()},
			Action: named(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
				key, err := k.NewWebhookKey(ctx, name)
				if err != nil {
					return err
				}
				return show(c, key, func(w io.Writer) { fmt.Fprintln(w, key.Key) })
			})},
		&cli.Command{Name: "try", Usage: "send a test event", ArgsUsage: "WEBHOOK",
			Action: named(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
				if err := k.TryWebhook(ctx, name); err != nil {
					return err
				}
				fmt.Fprintf(c.Root().Writer, "✓ %s took the test event\n", name)
				return nil
			})})
}

func calendarCommand() *cli.Command {
	return noun("calendar", "past and coming runs as a calendar feed", &cli.Command{
		Name: "address", Usage: "make a new address to subscribe to; an older one ends", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			address, err := k.NewCalendar(ctx)
			if err != nil {
				return err
			}
			return show(c, map[string]string{"address": address}, func(w io.Writer) { fmt.Fprintln(w, address) })
		})})
}
