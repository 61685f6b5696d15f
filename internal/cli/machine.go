package cli

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/machine"
	"keenlodge/internal/core/rotation"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

func machineCommand() *cli.Command {
	return noun("machine", "what is protected", &cli.Command{
		Name: "list", Usage: "list machines", Flags: append(pageFlags(200), output(), &cli.BoolFlag{Name: "unprotected", Usage: "only those that no policy covers"},
			&cli.StringFlag{Name: "hypervisor", Usage: "of one hypervisor"}, &cli.StringFlag{Name: "text", Usage: "whose name has this in it"}),
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			f := wire.MachineFilter{Hypervisor: c.String("hypervisor"), Text: c.String("text"), Page: pageFrom(c)}
			unprotected := c.Bool("unprotected")
			if unprotected {
				f.Limit = 0 // which of them no policy covers shows in the whole list
			}
			machines, more, err := k.Machines(ctx, f)
			if err != nil {
				return err
			}
			if unprotected {
				machines = slices.DeleteFunc(machines, func(m wire.Machine) bool { return len(m.CoveredBy) > 0 || m.State == machine.Gone || m.Retired != nil })
			}
			return show(c, machines, func(w io.Writer) {
				if unprotected && len(machines) == 0 {
					fmt.Fprintln(w, "every machine is covered by a policy")
					return
				}
				machineTable(w, machines)
				moreLine(w, more, len(machines))
			})
		})}, machineRetireCommand(), machineUnretireCommand(), machineContinueCommand(), machineEnrollCommand(), machineDismissCommand(), machinePartsCommand())
}

func machineTable(w io.Writer, machines []wire.Machine) {
	var rows [][]string
	for _, m := range machines {
		var total int64
		for _, d := range m.Disks {
			total += d.Size
		}
		last, state := "none", string(m.State)
		if m.Newest != nil {
			last = moment(&m.Newest.Taken)
		}
		if m.Retired != nil {
			state = "retired"
		}
		rows = append(rows, []string{m.Label, m.Hypervisor, state, fmt.Sprint(len(m.Disks)), size(total), last, orDash(strings.Join(m.CoveredBy, " ")), tagList(m.Tags)})
	}
	table(w, []string{"MACHINE", "HYPERVISOR", "STATE", "DISKS>", "SIZE>", "NEWEST IMAGE", "POLICIES", "TAGS"}, rows)
	for _, m := range machines {
		if m.AlsoOn != "" {
			fmt.Fprintf(w, "! %s: hypervisor %s has a machine of the same UUID, too; a copied definition needs a UUID of its own\n", m.Label, m.AlsoOn)
		}
		if m.Notice != "" {
			fmt.Fprintf(w, "! %s: %s\n", m.Label, m.Notice)
		}
	}
}

// pickMachine finds a machine by its label, name or identity, or by the beginning of its label.
func pickMachine(ctx context.Context, k *client.Client, word string) (string, error) {
	machines, more, err := k.Machines(ctx, wire.MachineFilter{Text: word, Page: wire.Page{Limit: 200}})
	if err != nil {
		return "", err
	}
	var labels []string
	for _, m := range machines {
		if strings.HasPrefix(m.Label, word) {
			labels = append(labels, m.Label)
		}
	}
	if more || len(labels) == 0 {
		return word, nil // the lodge knows names and identities, too, and says what is nearest
	}
	return pick("machine", word, labels)
}

func machineRetireCommand() *cli.Command {
	return &cli.Command{Name: "retire", Usage: "end what was taken down on purpose: no policy covers it, and its images are kept by a rule of their own", ArgsUsage: "MACHINE",
		Description: "It shows what the rule lets go and asks. What is dropped can be brought back for as long as its store's grace.",
		Flags:       []cli.Flag{output(), &cli.StringFlag{Name: "keep", Usage: "rotation phrase for its images", Value: "newest 1"}, &cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
		Action: calls([]string{"a machine"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			name, err := pickMachine(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			body := wire.RetireBody{Keep: c.String("keep"), Try: true}
			if !c.Bool("yes") {
				sets, err := k.RetireMachine(ctx, name, body)
				if err != nil {
					return err
				}
				for _, s := range sets {
					previewSet(os.Stderr, s)
				}
				if err := confirm("Retire machine " + name); err != nil {
					return err
				}
			}
			body.Try = false
			sets, err := k.RetireMachine(ctx, name, body)
			if err != nil {
				return err
			}
			return show(c, sets, func(w io.Writer) {
				stay, went := 0, 0
				for _, s := range sets {
					for _, m := range s.Images {
						if m.Verdict == rotation.Drop {
							went++
						} else {
							stay++
						}
					}
				}
				fmt.Fprintf(w, "machine %s is retired; %d images stay by %q, %d are dropped; take it back with: keenlodge machine unretire %[1]s\n", name, stay, body.Keep, went)
			})
		})}
}

func machineUnretireCommand() *cli.Command {
	return &cli.Command{Name: "unretire", Usage: "take a retirement back", ArgsUsage: "MACHINE",
		Action: calls([]string{"a machine"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			name, err := pickMachine(ctx, k, c.Args().First())
			if err != nil {
				return err
			}
			if err := k.UnretireMachine(ctx, name); err != nil {
				return err
			}
			fmt.Fprintf(c.Root().Writer, "machine %s is not retired any more; policies that select it cover it again\n", name)
			return nil
		})}
}

func machineContinueCommand() *cli.Command {
	return &cli.Command{Name: "continue", Usage: "say that a machine is the one that another was, so that their images are of one machine", ArgsUsage: "NEW OLD",
		Description: "For a machine that was made anew, with another UUID. OLD is gone; it may be named by its identity.", Flags: []cli.Flag{output()},
		Action: calls([]string{"the machine that is there", "the one that it was"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			var names [2]string
			for i := range names {
				var err error
				if names[i], err = pickMachine(ctx, k, c.Args().Get(i)); err != nil {
					return err
				}
			}
			m, err := k.ContinueMachine(ctx, names[0], names[1])
			if err != nil {
				return err
			}
			return show(c, m, func(w io.Writer) {
				fmt.Fprintf(w, "machine %s goes on as %s, with the images of both\n", m.Label, m.ID)
			})
		})}
}

func machineEnrollCommand() *cli.Command {
	return &cli.Command{Name: "enroll", Usage: "have a server join, within an hour, with a word that is shown once", ArgsUsage: "NAME",
		Description: "It prints what to type on the server. One that was dismissed, or installed anew, is the same machine as before, and goes on with its images.",
		Flags:       []cli.Flag{output(), &cli.StringFlag{Name: "source", Usage: "the source of the site that it is one of", Value: site.Servers}},
		Action: calls([]string{"a name for it"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			name := c.Args().First()
			a, err := k.Authority(ctx)
			if err != nil {
				return err
			}
			word, err := k.AdmitAgent(ctx, name, c.String("source")) // last, for it is told once
			if err != nil {
				return err
			}
			return show(c, word, func(w io.Writer) {
				address := c.String("url")
				if u, err := url.Parse(address); err == nil && word.Port != 0 {
					address = "https://" + net.JoinHostPort(u.Hostname(), fmt.Sprint(word.Port))
				}
				fmt.Fprintf(w, "On the server, until %s:\n\n  keenlodge agent join %s --lodge %s --fingerprint %s\n\nand when it asks, the word:\n\n  %s\n\nThen keep it running there: keenlodge agent run\n", moment(&word.Until), name, address, a.Fingerprint, word.Word)
			})
		})}
}

func machineDismissCommand() *cli.Command {
	return &cli.Command{Name: "dismiss", Usage: "end a server's agent, at once; the server's images stay", ArgsUsage: "NAME",
		Action: calls([]string{"a server's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			if err := k.RevokeAgent(ctx, c.Args().First()); err != nil {
				return err
			}
			fmt.Fprintf(c.Root().Writer, "✓ server %s is dismissed: its agent opens nothing any more, and its images stay; take it back with: keenlodge machine enroll %[1]s\n", c.Args().First())
			return nil
		})}
}
