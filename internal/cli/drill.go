package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/drill"
	"keenlodge/internal/core/when"
	"keenlodge/internal/wire"
)

func drillCommand() *cli.Command {
	return noun("drill", "bring machines back as if they were lost, and measure it",
		&cli.Command{Name: "run", Usage: "bring groups or machines back in closed networks, from their newest images", ArgsUsage: "[GROUP|MACHINE]...",
			Flags: []cli.Flag{output(), waitFlag(), &cli.BoolFlag{Name: "whole-site", Usage: "all groups, and each other machine by itself"},
				&cli.BoolFlag{Name: "together", Usage: "the machines start in one closed network, in their order, though they are no group"},
				&cli.BoolFlag{Name: "write-out", Usage: "write their disks out whole first, as a restore does; otherwise they start on disks that stay in the store"},
				&cli.StringFlag{Name: "note", Usage: "what it is for"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				k, err := connect(ctx, c)
				if err != nil {
					return err
				}
				run, err := k.StartDrill(ctx, wire.DrillOrder{Names: c.Args().Slice(), Whole: c.Bool("whole-site"), Together: c.Bool("together"), WriteOut: c.Bool("write-out"), Note: c.String("note")})
				if err != nil {
					return err
				}
				if !c.Bool("wait") {
					return started(ctx, c, k, run)
				}
				var ended error
				if c.String("output") == "json" {
					_, ended = waitFor(ctx, k, run.ID)
				} else {
					ended = follow(ctx, c, k, run.ID)
				}
				d, err := k.Drill(ctx, run.ID)
				if err == nil {
					err = show(c, d, func(w io.Writer) { drillText(w, d) })
				}
				if ended == nil && err == nil {
					ended = drillVerdict(d)
				}
				return errors.Join(ended, err)
			}},
		&cli.Command{Name: "list", Usage: "list drills, newest first", Flags: append(pageFlags(50), output()),
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				found, more, err := k.Drills(ctx, pageFrom(c))
				if err != nil {
					return err
				}
				return show(c, found, func(w io.Writer) {
					var rows [][]string
					for _, d := range found {
						rows = append(rows, []string{d.Run, moment(&d.Began), d.Of, d.Sum.Standing.Sign() + " " + drillAnswer(d)})
					}
					table(w, []string{"DRILL", "BEGAN", "OF", "WHAT CAME BACK"}, rows)
					moreLine(w, more, len(found))
				})
			})},
		&cli.Command{Name: "show", Usage: "show what a drill measured, against what is owed", ArgsUsage: "DRILL", Flags: []cli.Flag{output()},
			Action: calls([]string{"a drill's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				d, err := k.Drill(ctx, c.Args().First())
				if err != nil {
					return err
				}
				return show(c, d, func(w io.Writer) { drillText(w, d) })
			})},
		&cli.Command{Name: "page", Usage: "save a drill as a page of HTML that stands alone and prints well, with its pictures", ArgsUsage: "DRILL",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "into", Usage: "folder for the file", Value: "."}},
			Action: calls([]string{"a drill's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id := c.Args().First()
				body, err := k.DrillPage(ctx, id)
				if err != nil {
					return err
				}
				if err := os.MkdirAll(c.String("into"), 0o755); err != nil {
					return err
				}
				file := filepath.Join(c.String("into"), "drill-"+filepath.Base(id)+".html")
				if err := os.WriteFile(file, body, 0o600); err != nil {
					return err
				}
				return show(c, map[string]string{"file": file}, func(w io.Writer) { fmt.Fprintln(w, file) })
			})})
}

// drillVerdict is an error for a drill that not all came back from as owed.
func drillVerdict(d wire.Drill) error {
	switch d.Sum.Standing {
	case drill.Back:
		return nil
	case drill.Old, drill.Late:
		return errWarned
	}
	return fmt.Errorf("not all of %s came back; look at: keenlodge drill show %s", d.Of, d.Run)
}

// drillAnswer is a drill in one line.
func drillAnswer(d wire.Drill) string {
	if d.Ended == nil {
		return "not over, or ended in the middle: " + d.Sum.String()
	}
	return d.Sum.String()
}

func drillText(w io.Writer, d wire.Drill) {
	fmt.Fprintf(w, "\ndrill %s of %s, %s, %s\n%s\n\n", d.Run, d.Of, d.Way, moment(&d.Began), drillAnswer(d))
	var rows [][]string
	for _, m := range d.Machines {
		back, old := "–", "–"
		if m.Held > 0 {
			back, old = when.Short(m.Held), when.Short(m.Age)
		}
		rows = append(rows, []string{m.Machine, orDash(m.Group), m.Standing.Sign() + " " + string(m.Standing), back, owedSpan(m.Owed.Back > 0, when.Short(m.Owed.Back)), old, owedSpan(m.Owed.Age > 0, when.Short(m.Owed.Age)), orDash(m.Image), m.Why})
	}
	table(w, []string{"MACHINE", "GROUP", "STANDS", "BACK>", "OWED>", "DATA WAS OLD>", "OWED>", "IMAGE", "WHY"}, rows)
}

// owedSpan is what is owed, where something is.
func owedSpan(owed bool, text string) string {
	if !owed {
		return "–"
	}
	return text
}
