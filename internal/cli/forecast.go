package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/forecast"
	"keenlodge/internal/wire"
)

func policyForecastCommand() *cli.Command {
	return &cli.Command{Name: "forecast", Usage: "show coming runs, the images that will exist, and the space that they take", ArgsUsage: "[POLICY or RULE ...]",
		Description: "Without a name it shows all policies and copy rules.",
		Flags: []cli.Flag{output(), &cli.IntFlag{Name: "days", Value: 30, Usage: "how many, from 1 to 400"},
			&cli.StringFlag{Name: "png", Usage: "write it as a picture into this file, too"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			var names []string
			for _, word := range c.Args().Slice() {
				name, err := pickPlanned(ctx, k, word)
				if err != nil {
					return err
				}
				names = append(names, name)
			}
			return forecastShown(ctx, c, k, names)
		}}
}

func forecastShown(ctx context.Context, c *cli.Command, k *client.Client, names []string) error {
	f, err := k.Forecast(ctx, names, c.Int("days"))
	if err != nil {
		return err
	}
	if file := c.String("png"); file != "" {
		picture, err := drawForecast(f)
		if err != nil {
			return err
		}
		if err := os.WriteFile(file, picture, 0o644); err != nil {
			return fmt.Errorf("write the picture to %s: %w", filepath.Clean(file), err)
		}
	}
	return show(c, f, func(w io.Writer) { forecastTables(w, f) })
}

// spanned tells a range of bytes.
func spanned(r forecast.Range) string {
	low, likely, high := size(max(0, r.Low)), size(max(0, r.Likely)), size(r.High)
	if low == high {
		return likely
	}
	return fmt.Sprintf("%s (%s to %s)", likely, low, high)
}

// dropped tells how many images go, or that the guard keeps them.
func dropped(d forecast.Day) string {
	if d.Held {
		return fmt.Sprintf("! %d, guard", d.Dropped)
	}
	return fmt.Sprint(d.Dropped)
}

func forecastTables(w io.Writer, f wire.Forecast) {
	for i, p := range f.Policies {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, p.Policy)
		var rows [][]string
		for _, d := range p.Days {
			var at []string
			var adds forecast.Range
			for _, r := range d.Runs {
				text := r.At.Format("15:04")
				if r.Full > 0 {
					text += " full"
				}
				if len(at) < 4 {
					at = append(at, text)
				} else if len(at) == 4 {
					at = append(at, fmt.Sprintf("and %d more", len(d.Runs)-4))
				}
				adds = forecast.Range{Low: adds.Low + r.Adds.Low, Likely: adds.Likely + r.Adds.Likely, High: adds.High + r.Adds.High}
			}
			day, err := time.Parse(time.DateOnly, d.Date)
			if err != nil {
				continue // the lodge writes days so
			}
			added := "–"
			if len(d.Runs) > 0 {
				added = spanned(adds)
			}
			rows = append(rows, []string{"  " + day.Format("Mon 2006-01-02"), orDash(strings.Join(at, ", ")), added, dropped(d), fmt.Sprint(d.Images), spanned(d.Taken)})
		}
		table(w, []string{"  DAY", "RUNS", "ADDS>", "DROPS>", "IMAGES>", "TAKEN>"}, rows)
	}
	for _, s := range f.Stores {
		if len(s.Free) == 0 {
			fmt.Fprintf(w, "\nstore %s does not tell how much is free\n", s.Store)
			continue
		}
		fmt.Fprintf(w, "\nstore %s: %s free on the last day; ", s.Store, spanned(s.Free[len(s.Free)-1]))
		switch floor := "its floor of " + size(s.Floor); {
		case s.Hit != "":
			fmt.Fprintf(w, "✗ %s is hit on %s, and at worst on %s\n", floor, s.Hit, s.HitEarly)
		case s.HitEarly != "":
			fmt.Fprintf(w, "! %s is not hit by the likely course, but at worst on %s\n", floor, s.HitEarly)
		default:
			fmt.Fprintf(w, "✓ %s is not hit\n", floor)
		}
	}
	for _, o := range f.Proofs {
		sign := "✓"
		if !o.Kept {
			sign = "✗"
		}
		fmt.Fprintf(w, "%s proofs by %s are owed to %d machines: %s\n", sign, o.Level, o.Machines, o.Why)
	}
	for _, c := range f.Crowds {
		fmt.Fprintf(w, "! %s: from %s until %s %d machines of %s meet where %d are captured at once; some wait\n", c.On, c.From.Format("2006-01-02 15:04"), c.Until.Format("15:04"),
			c.Machines, strings.Join(c.Policies, ", "), c.Allowed)
	}
	for _, p := range f.Policies {
		if slices.ContainsFunc(p.Days, func(d forecast.Day) bool { return d.Held }) {
			fmt.Fprintf(w, "! %s: the guard will hold its rotation back; look at: keenlodge rotation preview %[1]s\n", p.Policy)
		}
	}
	for _, text := range f.Unreached {
		fmt.Fprintf(w, "! %s\n", text)
	}
	if len(f.Guessed) > 0 {
		fmt.Fprintf(w, "! too little is known for more than a guess: %s\n", strings.Join(f.Guessed, ", "))
	}
}
