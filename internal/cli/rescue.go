package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/wire"
)

// RescueMedium says what a rescue medium is to know, and as what it is wanted: as an ISO image in a file, as files for a network in a folder, "" for not so.
type RescueMedium struct {
	Lodge, Pin string
	ISO, Net   string
}

func rescueCommand(host Host) *cli.Command {
	return noun("rescue", "get a machine back from nothing: media that it boots from, and codes for them", rescueMakeCommand(host), rescueCodeCommand())
}

func rescueMakeCommand(host Host) *cli.Command {
	return &cli.Command{Name: "make", Usage: "write a medium from which an empty machine gets itself back", ArgsUsage: "FILE.iso",
		Description: "The file is an ISO image for a disc, and as it is for a USB stick (copy it onto the stick as a whole). It boots by a PC's BIOS and by UEFI, with a kernel of this host. With --net the same is written as files for a network: have them served by HTTP (keenlodge serve --rescue FOLDER) and let the firmware's iPXE load boot.ipxe. No secret is on a medium: who boots from it has a code (keenlodge rescue code), or the key to a store.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "lodge", Usage: "address of the lodge that it proposes; by default this client's"},
			&cli.StringFlag{Name: "net", Usage: "folder for the files for a network, in place of an ISO image or with it"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			w := RescueMedium{Lodge: c.String("lodge"), ISO: c.Args().First(), Net: c.String("net")}
			if c.Args().Len() > 1 || w.ISO == "" && w.Net == "" {
				return wrongUse("%s takes the file to write, or --net with a folder", c.FullName())
			}
			if w.Lodge == "" {
				w.Lodge = c.String("url")
			}
			address, _, encrypted, err := addressOf(w.Lodge)
			if err != nil {
				return err
			}
			if encrypted {
				pins, err := knownLodges(c).pins(address)
				if err != nil {
					return err
				}
				if len(pins) > 0 {
					w.Pin = pins[0]
				}
			}
			kernel, err := host.MakeRescue(ctx, w)
			if err != nil {
				return err
			}
			if w.ISO != "" {
				info, err := os.Stat(w.ISO)
				if err != nil {
					return err
				}
				fmt.Fprintf(c.Root().Writer, "✓ %s: %s, with kernel %s\n", w.ISO, size(info.Size()), kernel)
			}
			if w.Net != "" {
				fmt.Fprintf(c.Root().Writer, "✓ %s: files for starting over a network, with kernel %s\n", w.Net, kernel)
			}
			if strings.Contains(kernel, "cloud") {
				fmt.Fprintln(c.Root().Writer, "  ! this host's only kernel is one for clouds: it knows a hypervisor's hardware and little else; install linux-image-amd64 here for media that real machines boot")
			}
			return nil
		}}
}

func rescueCodeCommand() *cli.Command {
	return &cli.Command{Name: "code", Usage: "have a code made with which a rescue medium gets images, once",
		Flags: []cli.Flag{output(), &cli.StringSliceFlag{Name: "machine", Usage: "only images of this machine, or of those that a pattern fits; several times for more"},
			&cli.StringFlag{Name: "for", Usage: "how long it may wait until it is used", Value: "1 hour"},
			&cli.BoolFlag{Name: "save", Usage: "the medium may save a machine, too"}},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			role := "restorer"
			if names := c.StringSlice("machine"); len(names) > 0 {
				role += " of machines " + strings.Join(names, ", ")
			}
			roles := []string{role}
			if c.Bool("save") {
				roles = append(roles, "operator")
			}
			t, err := k.NewToken(ctx, "rescue-"+strings.ToLower(rand.Text()[:8]), wire.TokenSpec{Roles: roles, Once: true, TokenTime: wire.TokenTime{For: c.String("for")}})
			if err != nil {
				return err
			}
			if c.String("output") == "json" {
				return show(c, t, nil)
			}
			fmt.Fprintf(c.Root().Writer, "%s\n", spaced(t.Secret))
			fmt.Fprintf(os.Stderr, "Type it on the rescue medium until %s. It is good once, as %s, and what it opens then ends after a day: keenlodge token list has it as %s.\n", moment(&t.Expires), strings.Join(roles, " and "), t.Name)
			return nil
		})}
}

// spaced is a code in groups that the eye keeps apart.
func spaced(code string) string {
	if len(code) != 12 {
		return code
	}
	return code[:4] + "-" + code[4:8] + "-" + code[8:]
}
