package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/core/when"
	"keenlodge/internal/private"
	"keenlodge/internal/wire"
)

// Host is what is done on the service's own host, with no service asked.
type Host struct {
	// NewToken makes a token in a lodge's database.
	NewToken func(ctx context.Context, database, name string, grants []right.Grant, good time.Duration) (secret string, expires time.Time, err error)
	// NewKey puts a new key into the file that opens the vault, DropOldKeys leaves only the newest; state is the service's folder.
	NewKey      func(ctx context.Context, database, state string) (file string, err error)
	DropOldKeys func(ctx context.Context, database, state string) (dropped int, err error)
	// MakeRescue writes a rescue medium, and tells which kernel is on it.
	MakeRescue func(ctx context.Context, m RescueMedium) (kernel string, err error)
}

func databaseFlag(usage string) cli.Flag {
	return &cli.StringFlag{Name: "database", Usage: usage, Sources: cli.EnvVars("KEENLODGE_DATABASE")}
}

const roleHelp = "Roles: viewer (reads; no secrets, no contents of images), operator (runs, proofs, pins, restores to new names), restorer (gets back what images hold), " +
	"administrator (everything). Each may be narrowed: \"operator of policies nightly-*\", \"viewer of machines web-*; tags tier=gold\", \"restorer of places north-pier\"."

func tokenCommand(host Host) *cli.Command {
	return noun("token", "what people and programs sign in with",
		tokenNewCommand(host), tokenListCommand(), tokenRenewCommand(), tokenRevokeCommand(), tokenShowCommand())
}

// handing are flags of what a token's secret goes to, and how long it is good for.
func handing() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "for", Usage: "how long it is good for, at the most 400 days", Value: "90 days"},
		&cli.StringFlag{Name: "to", Usage: "file that the token is written to, readable for you alone; by default it is shown, once"},
	}
}

func tokenNewCommand(host Host) *cli.Command {
	return &cli.Command{Name: "new", Usage: "make a token", ArgsUsage: "NAME (on this host it may be left out)", DisableSliceFlagSeparator: true, // a role phrase has commas
		Description: roleHelp + "\n\nOn the service's own host, --on-this-host makes one whatever has been lost: it needs the database, and no token.",
		Flags: append(handing(),
			&cli.StringSliceFlag{Name: "role", Usage: "what it may do, several times for more; on this host administrator by default"},
			&cli.BoolFlag{Name: "on-this-host", Usage: "make it in the database, without a token and without the service"},
			databaseFlag("with --on-this-host: PostgreSQL URL, without its password")),
		Action: func(ctx context.Context, c *cli.Command) error {
			name, roles := c.Args().First(), c.StringSlice("role")
			if c.Bool("on-this-host") && c.Args().Len() == 0 {
				return newOnHost(ctx, c, host, hostToken(time.Now()), roles)
			}
			if err := arguments(c, "a name for it"); err != nil {
				return err
			}
			if c.Bool("on-this-host") {
				return newOnHost(ctx, c, host, name, roles)
			}
			if len(roles) == 0 {
				return wrongUse("say what it may do: --role %s", suggest.List(right.Roles))
			}
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			t, err := k.NewToken(ctx, name, wire.TokenSpec{Roles: roles, TokenTime: wire.TokenTime{For: c.String("for")}})
			if err != nil {
				return err
			}
			return handOver(c, t.Name, t.Secret, t.Expires)
		}}
}

// hostToken is the name of a token that is made on this host without one: that of the host, and the second.
func hostToken(now time.Time) string {
	host, err := os.Hostname()
	if err != nil {
		host = "host"
	}
	host = strings.Trim(regexp.MustCompile(`[^a-z0-9.-]+`).ReplaceAllString(strings.ToLower(host), "-"), ".-")
	return fmt.Sprintf("%.40s-%s", host, now.UTC().Format("20060102-150405"))
}

func newOnHost(ctx context.Context, c *cli.Command, host Host, name string, roles []string) error {
	if c.String("database") == "" {
		return wrongUse("name the service's database: --database, or KEENLODGE_DATABASE")
	}
	if len(roles) == 0 {
		roles = []string{string(right.Administrator)}
	}
	grants, err := right.ParseGrants(roles)
	if err != nil {
		return usageError{err}
	}
	good, err := when.ParseSpan(c.String("for"))
	if err != nil {
		return usageError{err}
	}
	secret, expires, err := host.NewToken(ctx, c.String("database"), name, grants, good)
	if err != nil {
		return err
	}
	return handOver(c, name, secret, expires)
}

// handOver shows a token's secret, once, or writes it to a file.
func handOver(c *cli.Command, name, secret string, expires time.Time) error {
	w := c.Root().Writer
	if file := c.String("to"); file != "" {
		if err := private.Write(file, secret+"\n"); err != nil {
			return fmt.Errorf("token %s was made, and could not be written: %w; revoke or renew it: keenlodge token renew %s", name, err, name)
		}
		fmt.Fprintf(w, "✓ token %s is in %s, good until %s\n", name, file, moment(&expires))
		return nil
	}
	if isTerminal(w) {
		fmt.Fprintf(os.Stderr, "Token %s, good until %s. It is shown this once:\n", name, moment(&expires))
	}
	fmt.Fprintln(w, secret)
	return nil
}

func tokenListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list tokens; what they open doors with is never shown again", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			tokens, err := k.Tokens(ctx)
			if err != nil {
				return err
			}
			return show(c, tokens, func(w io.Writer) {
				var rows [][]string
				for _, t := range tokens {
					state := "✓ good"
					switch {
					case t.Revoked != nil:
						state = "✗ revoked " + moment(t.Revoked)
					case !t.Live:
						state = "✗ expired"
					}
					roles := strings.Join(t.Roles, " · ")
					if t.Scope == "calendar" {
						roles = "the calendar feed"
					}
					used := "never"
					if t.Used != nil {
						used = moment(t.Used) + " from " + t.From
					}
					rows = append(rows, []string{t.Name, roles, orDash(t.MadeBy), moment(&t.Expires), used, fmt.Sprint(t.Sessions), state})
				}
				table(w, []string{"TOKEN", "ROLES", "MADE BY", "GOOD UNTIL", "LAST USED", "BROWSERS>", "STATE"}, rows)
			})
		})}
}

func tokenRenewCommand() *cli.Command {
	return &cli.Command{Name: "renew", Usage: "give a token another secret and more time; what opened doors before opens none any more", ArgsUsage: "NAME", Flags: handing(),
		Action: calls([]string{"a token's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			t, err := k.RenewToken(ctx, c.Args().First(), wire.TokenTime{For: c.String("for")})
			if err != nil {
				return err
			}
			return handOver(c, t.Name, t.Secret, t.Expires)
		})}
}

func tokenRevokeCommand() *cli.Command {
	return &cli.Command{Name: "revoke", Usage: "end a token and its browsers' sessions, at once", ArgsUsage: "NAME",
		Action: calls([]string{"a token's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			t, err := k.RevokeToken(ctx, c.Args().First())
			if err != nil {
				return err
			}
			fmt.Fprintf(c.Root().Writer, "✓ token %s opens nothing any more\n", t.Name)
			return nil
		})}
}

func tokenShowCommand() *cli.Command {
	return &cli.Command{Name: "show", Usage: "show who you are to the lodge, and what you may do", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			me, err := k.Me(ctx)
			if err != nil {
				return err
			}
			return show(c, me, func(w io.Writer) {
				fmt.Fprintf(w, "You are %s, until %s.\nRoles: %s\n", me.Name, moment(&me.Expires), strings.Join(me.Roles, " · "))
				if len(me.Needs) == 0 {
					fmt.Fprintln(w, "You may do everything.")
					return
				}
				fmt.Fprintf(w, "You may: %s\n", suggest.List(me.May))
			})
		})}
}

func sessionCommand() *cli.Command {
	return noun("session", "browsers that are signed in",
		&cli.Command{Name: "list", Usage: "list the browsers that are signed in: with your token, or all if you may end them", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				sessions, err := k.Sessions(ctx)
				if err != nil {
					return err
				}
				return show(c, sessions, func(w io.Writer) {
					var rows [][]string
					for _, s := range sessions {
						rows = append(rows, []string{s.ID, s.Token, s.Address, moment(&s.Made), moment(&s.Used), moment(&s.Expires), orDash(s.Browser)})
					}
					table(w, []string{"SESSION", "TOKEN", "FROM", "SINCE", "LAST USED", "AT THE LATEST UNTIL", "BROWSER"}, rows)
				})
			})},
		&cli.Command{Name: "end", Usage: "sign a browser out, or all of them", ArgsUsage: "[SESSION]",
			Flags: []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "all browsers that are signed in with your token"}, &cli.BoolFlag{Name: "everybody", Usage: "all browsers, with whatever token"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				if many := c.Bool("all") || c.Bool("everybody"); c.Args().Len() > 1 || c.Args().Present() == many {
					return wrongUse("%s takes a session's ID, or --all, or --everybody", c.FullName())
				}
				k, err := connect(ctx, c)
				if err != nil {
					return err
				}
				if id := c.Args().First(); id != "" {
					if err := k.EndSession(ctx, id); err != nil {
						return err
					}
					fmt.Fprintf(c.Root().Writer, "✓ session %s has ended\n", id)
					return nil
				}
				ended, err := k.EndSessions(ctx, c.Bool("everybody"))
				if err != nil {
					return err
				}
				fmt.Fprintf(c.Root().Writer, "✓ sessions ended: %d\n", ended.Sessions)
				return nil
			}})
}

func signInCommand() *cli.Command {
	return &cli.Command{Name: "sign-in", Usage: "try your token, and keep it in a file that you alone can read",
		Description: "It asks for the token, or reads it from --from. The file is that of --token-file. A lodge with an authority of its own is pinned by its\nfingerprint the first time, and recognised from then on.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "file that holds the token; - is standard input"},
			&cli.StringFlag{Name: "fingerprint", Usage: "what the lodge's authority must show, from the service's log or keenlodge authority show; by default you are asked"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := arguments(c); err != nil {
				return err
			}
			token, err := tokenFrom(c.String("from"))
			if err != nil {
				return err
			}
			k, err := meet(ctx, c, token, c.String("fingerprint"))
			if err != nil {
				return err
			}
			me, err := k.Me(ctx)
			if err != nil {
				return err
			}
			if err := private.Write(c.String("token-file"), token+"\n"); err != nil {
				return fmt.Errorf("keep your token: %w", err)
			}
			fmt.Fprintf(c.Root().Writer, "✓ you are %s until %s: %s\n", me.Name, moment(&me.Expires), strings.Join(me.Roles, " · "))
			return nil
		}}
}

func tokenFrom(file string) (string, error) {
	switch file {
	case "":
		return ask("your token")
	case "-":
		body, err := io.ReadAll(io.LimitReader(os.Stdin, 4096))
		if err != nil {
			return "", err
		}
		return filled(strings.TrimSpace(string(body)), "your token", "standard input")
	}
	return secretWord(file, "", "your token")
}

func signOutCommand() *cli.Command {
	return &cli.Command{Name: "sign-out", Usage: "forget your token on this computer; it stays good, see: keenlodge token revoke",
		Action: func(_ context.Context, c *cli.Command) error {
			if err := arguments(c); err != nil {
				return err
			}
			file := c.String("token-file")
			if err := os.Remove(file); err != nil {
				return fmt.Errorf("forget your token: %w", err)
			}
			fmt.Fprintf(c.Root().Writer, "✓ %s is gone\n", file)
			return nil
		}}
}
