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
	return noun("agent", "our program on a server", agentListCommand(), agentJoinCommand(), agentRunCommand())
}

func agentListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list servers' agents, and how each stands", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			agents, err := k.Agents(ctx)
			if err != nil {
				return err
			}
			return show(c, agents, func(w io.Writer) {
				var rows [][]string
				for _, a := range agents {
					state := "✓ connected"
					switch {
					case a.Revoked != nil:
						state = "✗ dismissed " + moment(a.Revoked)
					case a.Key == "" && a.JoiningUntil != nil:
						state = "may join until " + moment(a.JoiningUntil)
					case a.Key == "":
						state = "✗ never joined"
					case !a.Connected:
						state = "! it does not call"
					}
					rows = append(rows, []string{a.Name, a.Source, orDash(a.Address), orDash(a.System), orDash(a.Program), moment(a.Ends), state})
				}
				table(w, []string{"SERVER", "SOURCE", "ADDRESS", "SYSTEM", "AGENT", "CERTIFIED UNTIL", "STATE"}, rows)
			})
		})}
}

func agentFolder() cli.Flag {
	return &cli.StringFlag{Name: "folder", Usage: "where the agent's identity lies", Value: "/var/lib/keenlodge-agent", Sources: cli.EnvVars("KEENLODGE_AGENT_FOLDER")}
}

func agentJoinCommand() *cli.Command {
	return &cli.Command{Name: "join", Usage: "on a server: join a lodge", ArgsUsage: "NAME", Description: "An administrator has it enrolled first: keenlodge machine enroll NAME.",
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
	return &cli.Command{Name: "run", Usage: "on a server: be its agent, which calls the lodge and answers what that asks", Flags: []cli.Flag{agentFolder(),
		&cli.StringSliceFlag{Name: "disk", Usage: "offer this disk, by name or path; several times for more; by default all that stay in the server", Sources: cli.EnvVars("KEENLODGE_AGENT_DISKS")}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := arguments(c); err != nil {
				return err
			}
			folder := c.String("folder")
			id, err := agent.Open(folder)
			if err != nil {
				return err
			}
			log := slog.New(slog.NewTextHandler(os.Stderr, nil))
			a, err := agent.New(agent.Offer{Disks: c.StringSlice("disk")}, folder, log)
			if err != nil {
				return err
			}
			return agent.Run(ctx, id, a, log)
		}}
}
