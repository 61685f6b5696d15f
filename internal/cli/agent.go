package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/agent"
	"keenlodge/internal/client"
)

func agentCommand() *cli.Command {
	return noun("agent", "our program on a server", agentAdmitCommand(), agentListCommand(), agentRevokeCommand(), agentJoinCommand(), agentRunCommand())
}

func agentAdmitCommand() *cli.Command {
	return &cli.Command{Name: "admit", Usage: "have a server's agent join, within an hour, with a word that is shown once", ArgsUsage: "NAME", Flags: []cli.Flag{output()},
		Action: calls([]string{"a name for it"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			name := c.Args().First()
			a, err := k.Authority(ctx)
			if err != nil {
				return err
			}
			word, err := k.AdmitAgent(ctx, name) // last, for it is told once
			if err != nil {
				return err
			}
			return show(c, word, func(w io.Writer) {
				fmt.Fprintf(w, "On the server, until %s:\n\n  keenlodge agent join %s --lodge %s --fingerprint %s\n\nand when it asks, the word:\n\n  %s\n", moment(&word.Until), name, c.String("url"), a.Fingerprint, word.Word)
			})
		})}
}

func agentListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list servers' agents, and until when they are certified", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			agents, err := k.Agents(ctx)
			if err != nil {
				return err
			}
			return show(c, agents, func(w io.Writer) {
				var rows [][]string
				for _, a := range agents {
					state := "✓ joined"
					switch {
					case a.Revoked != nil:
						state = "✗ revoked " + moment(a.Revoked)
					case a.Key == "" && a.JoiningUntil != nil:
						state = "may join until " + moment(a.JoiningUntil)
					case a.Key == "":
						state = "✗ never joined"
					}
					rows = append(rows, []string{a.Name, orDash(a.Address), moment(a.Seen), moment(a.Ends), state})
				}
				table(w, []string{"AGENT", "ADDRESS", "LAST SEEN", "CERTIFIED UNTIL", "STATE"}, rows)
			})
		})}
}

func agentRevokeCommand() *cli.Command {
	return &cli.Command{Name: "revoke", Usage: "end an agent, at once", ArgsUsage: "NAME",
		Action: calls([]string{"an agent's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			if err := k.RevokeAgent(ctx, c.Args().First()); err != nil {
				return err
			}
			fmt.Fprintf(c.Root().Writer, "✓ agent %s opens nothing any more\n", c.Args().First())
			return nil
		})}
}

func agentFolder() cli.Flag {
	return &cli.StringFlag{Name: "folder", Usage: "where the agent's identity lies", Value: "/var/lib/keenlodge-agent", Sources: cli.EnvVars("KEENLODGE_AGENT_FOLDER")}
}

func agentJoinCommand() *cli.Command {
	return &cli.Command{Name: "join", Usage: "on a server: join a lodge", ArgsUsage: "NAME", Description: "An administrator has it admitted first: keenlodge agent admit NAME.",
		Flags: []cli.Flag{agentFolder(),
			&cli.StringFlag{Name: "lodge", Usage: "its address, such as https://lodge.brindle.example:7433", Required: true},
			&cli.StringFlag{Name: "fingerprint", Usage: "of its authority", Required: true},
			&cli.StringFlag{Name: "word-file", Usage: "file with the word; by default you are asked"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := arguments(c, "a name"); err != nil {
				return err
			}
			word, err := secretWord(c.String("word-file"), "KEENLODGE_JOIN_WORD", "the word")
			if err != nil {
				return err
			}
			id, err := agent.Join(ctx, c.String("folder"), c.String("lodge"), c.String("fingerprint"), c.Args().First(), word)
			if err != nil {
				return err
			}
			ends := id.Ends()
			fmt.Fprintf(c.Root().Writer, "✓ this server is agent %s, certified until %s; keenlodge agent run has that renewed\n", id.Name(), moment(&ends))
			return nil
		}}
}

func agentRunCommand() *cli.Command {
	return &cli.Command{Name: "run", Usage: "on a server: be its agent; for now it keeps its certificate renewed", Flags: []cli.Flag{agentFolder()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := arguments(c); err != nil {
				return err
			}
			id, err := agent.Open(c.String("folder"))
			if err != nil {
				return err
			}
			return id.Keep(ctx, slog.New(slog.NewTextHandler(os.Stderr, nil)))
		}}
}
