// Package all has every kind of stand-in, and the command that runs one.
package all

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/standin"
	_ "keenlodge/internal/standin/islet"  // a kind of stand-in
	_ "keenlodge/internal/standin/skerry" // a kind of stand-in
	_ "keenlodge/internal/standin/sound"  // a kind of stand-in
)

// Command is "keenlodge standin".
func Command() *cli.Command {
	kinds := standin.Kinds()
	var says strings.Builder
	for _, name := range slices.Sorted(maps.Keys(kinds)) {
		fmt.Fprintf(&says, "  %-10s %s\n", name, kinds[name])
	}
	return &cli.Command{
		Name: "standin", Usage: "run a small simulated outside system, to try the lodge with", ArgsUsage: "KIND",
		Description: "Kinds:\n" + says.String() + "\nIt listens on loopback and keeps all that it has in its folder, where it leaves what it is signed in to with (secret) and its certificate (certificate.pem). docs/stand-ins.md describes what it says, and how it is made to fail.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "folder", Usage: "where all of it lies; made if need be", Required: true},
			&cli.StringFlag{Name: "listen", Usage: "address of loopback to listen on", Value: "127.0.0.1:7461"},
			&cli.DurationFlag{Name: "pace", Usage: "how long a task takes at least", Value: 200 * time.Millisecond},
			&cli.DurationFlag{Name: "lag", Usage: "for how long lists may lack what was just made"},
			&cli.DurationFlag{Name: "session", Usage: "how long a caller stays signed in", Value: 15 * time.Minute},
			&cli.FloatFlag{Name: "rate", Usage: "how many calls are answered in a second; those beyond are refused with 429; 0 for any number"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			o := standin.Options{Folder: c.String("folder"), Listen: c.String("listen"), Pace: c.Duration("pace"), Lag: c.Duration("lag"), Session: c.Duration("session"), Rate: c.Float("rate")}
			return standin.Serve(ctx, c.Args().First(), o, func(address string) {
				fmt.Fprintf(c.Root().Writer, "%s at https://%s\n", c.Args().First(), address)
			})
		},
	}
}
