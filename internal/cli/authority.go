package cli

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/private"
)

func authorityCommand() *cli.Command {
	return noun("authority", "the lodge's own certificate authority",
		&cli.Command{Name: "show", Usage: "show its fingerprint, and that of the one which comes next", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				a, err := k.Authority(ctx)
				if err != nil {
					return err
				}
				return show(c, a, func(w io.Writer) {
					spare := "in the vault; take it out: keenlodge authority spare --to FILE"
					if !a.Spare {
						spare = "taken out of the vault"
					}
					fmt.Fprintf(w, "fingerprint  %s\nnext         %s\nits key      %s\nends         %s\nrenewed      %d times\n", a.Fingerprint, a.Next, spare, moment(&a.Ends), a.Renewed)
				})
			})},
		&cli.Command{Name: "spare", Usage: "take the key of the next authority out of the vault, to be kept elsewhere",
			Description: "Whoever steals the vault then can't follow when the authority is renewed. Without the file a renewal makes everybody sign in anew.",
			Flags:       []cli.Flag{&cli.StringFlag{Name: "to", Usage: "file that it is written to, readable for you alone", Required: true}},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				file := c.String("to")
				if _, err := os.Stat(file); err == nil {
					return fmt.Errorf("file %s exists; name another", file)
				}
				if err := private.Write(file, ""); err != nil { // before the key leaves the vault
					return fmt.Errorf("take the spare key out: %w; it stays in the vault", err)
				}
				spare, err := k.TakeSpare(ctx)
				if err != nil {
					os.Remove(file)
					return err
				}
				if err := private.Write(file, spare.Key); err != nil {
					return fmt.Errorf("%w; here it is, for it is nowhere else:\n%s", err, spare.Key)
				}
				fmt.Fprintf(c.Root().Writer, "✓ the key is in %s, and nowhere else; keep it off this network\n", file)
				return nil
			})},
		&cli.Command{Name: "renew", Usage: "have the next authority take the place of the one that is: its key was lost or stolen, or it ends",
			Description: "Clients and agents that pinned this one follow by themselves.",
			Flags:       []cli.Flag{&cli.StringFlag{Name: "spare", Usage: "file with the key of the next one, if it was taken out of the vault"}},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				spare := ""
				if file := c.String("spare"); file != "" {
					body, err := os.ReadFile(file)
					if err != nil {
						return fmt.Errorf("read the spare key: %w; nothing was renewed", err)
					}
					spare = string(body)
				}
				a, err := k.RenewAuthority(ctx, spare)
				if err != nil {
					return err
				}
				fmt.Fprintf(c.Root().Writer, "✓ the authority is %s from now on\n", a.Fingerprint)
				return nil
			})})
}
