package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/agent"
	"keenlodge/internal/agent/parts"
	"keenlodge/internal/agent/tree"
	"keenlodge/internal/client"
	"keenlodge/internal/wire"
)

func agentCommand() *cli.Command {
	return noun("agent", "our program on a server", agentListCommand(), agentJoinCommand(), agentRunCommand(), agentPartsCommand())
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
		Flags: []cli.Flag{agentFolder(), settingsFlag(),
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
			if err := installParts(c, c.String("settings")); err != nil {
				return err
			}
			ends := id.Ends()
			fmt.Fprintf(c.Root().Writer, "✓ this server is agent %s, certified until %s; keenlodge agent run has that renewed\n", id.Name(), moment(&ends))
			return nil
		}}
}

func agentRunCommand() *cli.Command {
	return &cli.Command{Name: "run", Usage: "on a server: be its agent, which calls the lodge and answers what that asks", Flags: []cli.Flag{agentFolder(),
		&cli.StringSliceFlag{Name: "disk", Usage: "offer this disk, by name or path; several times for more; by default all that stay in the server", Sources: cli.EnvVars("KEENLODGE_AGENT_DISKS")},
		&cli.StringSliceFlag{Name: "path", Usage: "offer the files below this path; several times for more; by default all", Sources: cli.EnvVars("KEENLODGE_AGENT_PATHS")}, settingsFlag(),
		&cli.StringSliceFlag{Name: "writable", Usage: "let the lodge put files back at and below this path, / for everywhere; several times for more; by default nowhere", Sources: cli.EnvVars("KEENLODGE_AGENT_WRITABLE")}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := arguments(c); err != nil {
				return err
			}
			for _, p := range c.StringSlice("writable") {
				if !filepath.IsAbs(p) {
					return fmt.Errorf("--writable %s: it must be an absolute path", p)
				}
			}
			folder := c.String("folder")
			id, err := agent.Open(folder)
			if err != nil {
				return err
			}
			log := slog.New(slog.NewTextHandler(os.Stderr, nil))
			a, err := agent.New(agent.Offer{Disks: c.StringSlice("disk"), Files: tree.Offer{Paths: c.StringSlice("path"), Settings: c.String("settings")}, Writable: c.StringSlice("writable")}, folder, log)
			if err != nil {
				return err
			}
			return agent.Run(ctx, id, a, log)
		}}
}

func settingsFlag() cli.Flag {
	return &cli.StringFlag{Name: "settings", Usage: "where parts of the system state and commands lie, which only root may write to", Value: parts.Folder, Sources: cli.EnvVars("KEENLODGE_AGENT_SETTINGS")}
}

func agentPartsCommand() *cli.Command {
	return &cli.Command{Name: "parts", Usage: "on a server: show the parts of its system state, with their sizes", Flags: []cli.Flag{output(), settingsFlag(),
		&cli.BoolFlag{Name: "install", Usage: "first put those that come with the program into the folder; what is there stays as it is"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := arguments(c); err != nil {
				return err
			}
			if c.Bool("install") {
				if err := installParts(c, c.String("settings")); err != nil {
					return err
				}
			}
			told, err := tree.Parts(ctx, tree.Offer{Settings: c.String("settings")}, true)
			if err != nil {
				return err
			}
			out := []wire.Part{}
			for _, p := range told.Parts {
				out = append(out, wire.Part(p))
			}
			return show(c, out, func(w io.Writer) { drawParts(w, out, true) })
		}}
}

// installParts puts parts and commands into a folder of this server, and names those that are new.
func installParts(c *cli.Command, folder string) error {
	made, err := parts.Install(folder)
	if len(made) > 0 && c.String("output") != "json" {
		fmt.Fprintf(c.Root().Writer, "✓ %d files that say what the system state is are in %s\n", len(made), folder)
	}
	return err
}
