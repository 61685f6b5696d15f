package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/wire"
)

func copyCommand() *cli.Command {
	force := func() cli.Flag {
		return &cli.BoolFlag{Name: "force", Usage: "the newest image of each machine, although it is not due yet"}
	}
	return noun("copy", "rules that keep images of one store in another as well",
		&cli.Command{Name: "list", Usage: "list copy rules, and what they have to do", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				rules, err := k.Copies(ctx)
				if err != nil {
					return err
				}
				return show(c, rules, func(w io.Writer) { copyRules(w, rules) })
			})},
		&cli.Command{Name: "images", Usage: "show what a rule does with each image that it selects, and why", ArgsUsage: "RULE", Flags: []cli.Flag{output(), force()},
			Action: onRule(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
				found, err := k.CopyImages(ctx, name, c.Bool("force"))
				if err != nil {
					return err
				}
				return show(c, found, func(w io.Writer) {
					var rows [][]string
					for _, v := range found {
						does := "–"
						if v.Copy {
							does = "copy"
						}
						rows = append(rows, []string{v.Image, v.Machine, moment(&v.Taken), orDash(v.Policy), size(v.Stored), does, v.Why})
					}
					table(w, []string{"IMAGE", "MACHINE", "TAKEN", "POLICY", "STORED>", "DOES", "WHY"}, rows)
				})
			})},
		&cli.Command{Name: "run", Usage: "start a run by hand: what is due is copied", ArgsUsage: "RULE",
			Flags: []cli.Flag{output(), force(), &cli.BoolFlag{Name: "wait", Aliases: []string{"w"}, Usage: "show the run until it is over"}},
			Action: onRule(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
				r, err := k.RunCopy(ctx, name, c.Bool("force"), false)
				if err != nil {
					return err
				}
				return started(ctx, c, k, r)
			})},
		&cli.Command{Name: "rehearse", Usage: "do everything that a run does but write, and tell what would go wrong", ArgsUsage: "RULE", Flags: []cli.Flag{output(), force()},
			Description: "It ends with 0 if a run would go well, with 3 if it would go with warnings, and with 1 if not.",
			Action: onRule(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
				r, err := k.RunCopy(ctx, name, c.Bool("force"), true)
				if err != nil {
					return err
				}
				return rehearsal(ctx, c, k, name, r)
			})},
		copyExportCommand(), copyImportCommand(),
		&cli.Command{Name: "pause", Usage: "keep a rule from running", ArgsUsage: "RULE", Flags: pauseFlags(), Action: onRule(pause("copy"))},
		&cli.Command{Name: "resume", Usage: "let a paused rule run again", ArgsUsage: "RULE", Action: onRule(resume("copy"))})
}

// onRule makes an action on the copy rule that is named.
func onRule(act func(ctx context.Context, c *cli.Command, k *client.Client, name string) error) cli.ActionFunc {
	return calls([]string{"a copy rule's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
		s, err := k.Site(ctx)
		if err != nil {
			return err
		}
		name, err := pick("copy rule", c.Args().First(), sorted(s.Copies))
		if err != nil {
			return err
		}
		return act(ctx, c, k, name)
	})
}

func copyRules(w io.Writer, rules []wire.Copy) {
	var rows [][]string
	for _, r := range rules {
		next := moment(r.NextDue)
		if r.Paused != nil {
			next = "paused"
		}
		waiting := "none"
		if r.Behind != nil {
			waiting = fmt.Sprintf("%d since %s", r.Waiting, moment(r.Behind))
		}
		rows = append(rows, []string{r.Name, r.From + " → " + r.To, string(cmp.Or(r.Images, "each")), fmt.Sprint(r.Copies), waiting, orDash(strings.Join(r.Says, "; ")), next, r.Rotation})
	}
	table(w, []string{"RULE", "WAY", "IMAGES", "COPIES>", "WAITING", "WHEN", "NEXT RUN", "ROTATION"}, rows)
	for _, r := range rules {
		if r.Paused != nil {
			fmt.Fprintf(w, "! %s: %s\n", r.Name, pausedWords(*r.Paused))
		}
		if r.Notice != "" {
			fmt.Fprintf(w, "! %s: %s\n", r.Name, r.Notice)
		}
	}
}
