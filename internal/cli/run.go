package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/wire"
)

// started tells that a run began, or follows it if asked to wait.
func started(ctx context.Context, c *cli.Command, k *client.Client, run wire.Run) error {
	if c.Bool("wait") {
		return follow(ctx, c, k, run.ID)
	}
	return show(c, run, func(w io.Writer) {
		fmt.Fprintf(w, "run %s is queued; see it with: keenlodge run watch %s\n", run.ID, run.ID)
	})
}

// pickRun finds a run by the beginning of its name; without a word it is the newest.
func pickRun(ctx context.Context, c *cli.Command, k *client.Client) (string, error) {
	if c.Args().Len() > 1 {
		return "", wrongUse("%s takes one run; %d were given", c.FullName(), c.Args().Len())
	}
	word := c.Args().First()
	runs, _, err := k.Runs(ctx, wire.RunFilter{ID: word, Page: wire.Page{Limit: 5}})
	if err != nil {
		return "", err
	}
	if word == "" {
		if len(runs) == 0 {
			return "", fmt.Errorf("there is no run yet; start one with: keenlodge policy run POLICY")
		}
		return runs[0].ID, nil
	}
	known := make([]string, len(runs))
	for i, r := range runs {
		known[i] = r.ID
	}
	if len(known) == 0 {
		return "", fmt.Errorf("no run is called %q; look at: keenlodge run list", word)
	}
	return pick("run", word, known)
}

func runCommand() *cli.Command {
	// The word after these verbs may be left out, so they check it themselves.
	one := func(act func(ctx context.Context, c *cli.Command, k *client.Client, id string) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error {
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			id, err := pickRun(ctx, c, k)
			if err != nil {
				return err
			}
			return act(ctx, c, k, id)
		}
	}
	return noun("run", "carryings-out of policies, proofs and restores",
		&cli.Command{Name: "list", Usage: "list runs, newest first", Flags: append(pageFlags(20), output(), &cli.StringFlag{Name: "policy", Usage: "of one policy"}, &cli.StringFlag{Name: "kind", Usage: "of one kind: " + suggest.List(run.Kinds)}),
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				f := wire.RunFilter{Policy: c.String("policy"), Page: pageFrom(c)}
				if word := c.String("kind"); word != "" {
					kind, err := pick("kind of run", run.Kind(word), run.Kinds)
					if err != nil {
						return usageError{err}
					}
					f.Kind = string(kind)
				}
				runs, more, err := k.Runs(ctx, f)
				if err != nil {
					return err
				}
				return show(c, runs, func(w io.Writer) {
					var rows [][]string
					for _, r := range runs {
						machines := []string{}
						for _, t := range r.Tasks {
							machines = append(machines, t.Machine)
						}
						if more := r.Machines - len(r.Tasks); more > 0 {
							machines = append(machines, fmt.Sprintf("and %d more", more))
						}
						rows = append(rows, []string{r.ID, stateWords(r.State), string(r.Kind), orDash(r.Policy), causeWords(r), startedOrWaits(r), elapsed(r.Started, r.Ended), size(r.Moved), size(r.Stored), orDash(strings.Join(machines, " "))})
					}
					table(w, []string{"RUN", "RESULT", "KIND", "POLICY", "CAUSE", "STARTED", "TOOK>", "MOVED>", "STORED>", "MACHINES"}, rows)
					moreLine(w, more, len(runs))
				})
			})},
		&cli.Command{Name: "show", Usage: "show a run; the newest if none is named", ArgsUsage: "[RUN]",
			Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "unread", Usage: "list the files that could not be read as they were"}},
			Action: one(func(ctx context.Context, c *cli.Command, k *client.Client, id string) error {
				if c.Bool("unread") {
					return showUnread(ctx, c, k, id)
				}
				r, err := k.Run(ctx, id)
				if err != nil {
					return err
				}
				return show(c, r, func(w io.Writer) { runDetails(ctx, w, k, r) })
			})},
		&cli.Command{Name: "watch", Usage: "show a run until it is over; the newest if none is named", ArgsUsage: "[RUN]", Flags: []cli.Flag{output()},
			Action: one(follow)},
		&cli.Command{Name: "cancel", Usage: "end a run: guests are thawed and all is cleared at once", ArgsUsage: "RUN",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "reason", Usage: "why"}},
			Action: calls([]string{"a run"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickRun(ctx, c, k)
				if err != nil {
					return err
				}
				run, err := k.CancelRun(ctx, id, c.String("reason"))
				if err != nil {
					return err
				}
				if run, err = waitFor(ctx, k, run.ID); err != nil {
					return err
				}
				return show(c, run, func(w io.Writer) { fmt.Fprintf(w, "run %s is %s: %s\n", run.ID, run.State, run.Error) })
			})},
		&cli.Command{Name: "log", Usage: "show a run's log; the newest if none is named", ArgsUsage: "[RUN]", Flags: []cli.Flag{output()},
			Action: one(func(ctx context.Context, c *cli.Command, k *client.Client, id string) error {
				log, err := k.RunLog(ctx, id)
				if err != nil {
					return err
				}
				return show(c, log, func(w io.Writer) {
					for _, l := range log {
						fmt.Fprintf(w, "%s  %-16s %s\n", moment(&l.At), orDash(l.Machine), l.Text)
					}
				})
			})})
}
