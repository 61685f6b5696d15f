package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/cycle"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/wire"
)

func rotationCommand() *cli.Command {
	return noun("rotation", "which images of a set stay", rotationPreviewCommand(), rotationConfirmCommand(), rotationTryCommand(), rotationDrawCommand())
}

func rotationTryCommand() *cli.Command {
	return &cli.Command{Name: "try", Usage: "plan the rotation that a JSON file describes, with no lodge", ArgsUsage: "FILE", Flags: []cli.Flag{output()},
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
		}}
}

func rotationPreviewCommand() *cli.Command {
	return &cli.Command{Name: "preview", Usage: "show what the next rotation of a policy would do", ArgsUsage: "POLICY",
		Flags: []cli.Flag{output(), &cli.StringFlag{Name: "rule", Usage: "try another rotation phrase"}},
		Action: calls([]string{"a policy's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			name, err := pickPlanned(ctx, k, c.Args().First())
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
					previewSet(w, s)
				}
				if len(sets) == 0 {
					fmt.Fprintf(w, "policy %s has no image yet\n", name)
				}
			})
		})}
}

func previewSet(w io.Writer, s wire.SetPreview) {
	apart := ""
	if s.SeparateSet {
		apart = ", images made by hand"
	}
	where, what := s.Store, "images"
	if s.Scope == image.InPlace {
		where, what = "place", "snapshots"
		if s.Store != "" {
			where = s.Store
		}
	}
	fmt.Fprintf(w, "%s in %s%s, by %q\n", s.Machine, where, apart, s.Rule)
	var rows [][]string
	drops := 0
	for _, m := range s.Images {
		sign := map[rotation.Verdict]string{rotation.Keep: "✓", rotation.Held: "!", rotation.Drop: "✗"}[m.Verdict]
		if m.Verdict == rotation.Drop {
			drops++
		}
		why := m.Why
		if m.Store != "" && m.Store != s.Store {
			why += "; it lies in " + m.Store
		}
		rows = append(rows, []string{"  " + m.ID, moment(&m.Taken), string(m.Capture), orDash(m.Base), size(m.Stored), sign + " " + string(m.Verdict), why})
	}
	table(w, []string{"  " + strings.ToUpper(what[:len(what)-1]), "TAKEN", "CAPTURE", "LEANS ON", "STORED>", "VERDICT", "WHY"}, rows)
	if drops > 0 {
		fmt.Fprintf(w, "%d of %d %s would go, which took %s\n", drops, len(s.Images), what, size(s.Gives))
	}
	guardLine(w, s.Guard)
}

func guardLine(w io.Writer, guard string) {
	if guard != "" {
		fmt.Fprintf(w, "! the guard would hold this back: %s\n", guard)
	}
}

func rotationConfirmCommand() *cli.Command {
	return &cli.Command{Name: "confirm", Usage: "let a rotation happen that the guard holds back", ArgsUsage: "POLICY",
		Description: "It shows what goes and asks. What goes is what was shown: if that has changed meanwhile, nothing is dropped.",
		Flags:       []cli.Flag{output(), &cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
		Action: calls([]string{"a policy's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			name, err := pickPlanned(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			sets, err := k.PreviewRotation(ctx, name, "")
			if err != nil {
				return err
			}
			drops := []string{}
			for _, s := range sets {
				if c.String("output") != "json" {
					previewSet(os.Stderr, s)
				}
				for _, m := range s.Images {
					if m.Verdict == rotation.Drop {
						drops = append(drops, m.ID)
					}
				}
			}
			if len(drops) == 0 {
				return errors.New("nothing would go, so there is nothing to confirm")
			}
			if !c.Bool("yes") {
				if err := confirm(fmt.Sprintf("Drop %d images of policy %s", len(drops), name)); err != nil {
					return err
				}
			}
			gone, err := k.ConfirmRotation(ctx, name, drops)
			if err != nil {
				return err
			}
			return show(c, gone, func(w io.Writer) {
				fmt.Fprintf(w, "✓ %d images are dropped; bring one back with: keenlodge image undrop IMAGE\n", len(gone))
			})
		})}
}

func rotationDrawCommand() *cli.Command {
	return &cli.Command{Name: "draw", Usage: "draw which image stays when, as SVG, with no lodge",
		Description: "It plays one image a night, with every run going well, and writes the picture to standard output.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "rule", Usage: "rotation phrase", Value: "newest 7"}, &cli.StringFlag{Name: "cycle", Usage: "cycle phrase", Value: "always full"},
			&cli.StringFlag{Name: "capture", Usage: "incremental or differential: what lies between full ones", Value: "incremental"},
			&cli.BoolFlag{Name: "fold", Usage: "fold full images that may go into the one after them"},
			&cli.BoolFlag{Name: "pooled", Usage: "in a pooled store, where every image stands alone"},
			&cli.IntFlag{Name: "nights", Usage: "how many", Value: 21}, &cli.StringFlag{Name: "from", Usage: "the first night (2026-02-01)", Value: "2026-02-01"}},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return wrongUse("%s takes flags only", c.FullName())
			}
			p := rotation.Scenario{Capture: image.Capture(c.String("capture")), Leans: !c.Bool("pooled"), Fold: c.Bool("fold"), Nights: c.Int("nights")}
			var err error
			if p.Rule, err = rotation.Parse(c.String("rule")); err != nil {
				return usageError{err}
			}
			if p.Cycle, err = cycle.Parse(c.String("cycle")); err != nil {
				return usageError{err}
			}
			if p.First, err = time.Parse(time.DateOnly, c.String("from")); err != nil {
				return wrongUse("from %q is not a day; write for example 2026-02-01", c.String("from"))
			}
			p.First = p.First.Add(23 * time.Hour)
			if p.Capture, err = pick("capture", p.Capture, image.Captures[1:]); err != nil {
				return usageError{err}
			}
			if p.Nights < 1 || p.Nights > 120 {
				return wrongUse("nights %d: a number from 1 to 120 is needed", p.Nights)
			}
			_, err = io.WriteString(c.Root().Writer, drawSimulation(p))
			return err
		}}
}
