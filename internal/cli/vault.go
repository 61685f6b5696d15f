package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
)

func vaultCommand(host Host) *cli.Command {
	here := []cli.Flag{
		databaseFlag("PostgreSQL URL, without its password"),
		&cli.StringFlag{Name: "state", Usage: "the service's folder on this host", Value: "/var/lib/keenlodge", Sources: cli.EnvVars("KEENLODGE_STATE")},
	}
	needsDatabase := func(c *cli.Command) error {
		if err := arguments(c); err != nil {
			return err
		}
		if c.String("database") == "" {
			return wrongUse("name the service's database: --database, or KEENLODGE_DATABASE")
		}
		return nil
	}
	return noun("vault", "what the lodge keeps secret, and the key that opens it",
		&cli.Command{Name: "new-key", Usage: "put a new key into this host's key file, before the old one; the service need not be stopped", Flags: here,
			Description: "To change the key: new-key on one host; copy the file to the lodge's other hosts; reseal; then drop-old-keys on one host, and copy the file again.",
			Action: func(ctx context.Context, c *cli.Command) error {
				if err := needsDatabase(c); err != nil {
					return err
				}
				file, err := host.NewKey(ctx, c.String("database"), c.String("state"))
				if err != nil {
					return err
				}
				fmt.Fprintf(c.Root().Writer, "✓ %s has a new key, and the old one still; go on with: keenlodge vault reseal\n", file)
				return nil
			}},
		&cli.Command{Name: "reseal", Usage: "seal all secrets with the newest key", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				r, err := k.ResealVault(ctx)
				if err != nil {
					return err
				}
				return show(c, r, func(w io.Writer) {
					fmt.Fprintf(w, "✓ secrets sealed anew: %d; the old key opens none of them. Go on with: keenlodge vault drop-old-keys\n", r.Resealed)
				})
			})},
		&cli.Command{Name: "drop-old-keys", Usage: "leave only the newest key in this host's key file, if it opens all secrets", Flags: here,
			Action: func(ctx context.Context, c *cli.Command) error {
				if err := needsDatabase(c); err != nil {
					return err
				}
				n, err := host.DropOldKeys(ctx, c.String("database"), c.String("state"))
				if err != nil {
					return err
				}
				fmt.Fprintf(c.Root().Writer, "✓ old keys dropped: %d\n", n)
				return nil
			}})
}
