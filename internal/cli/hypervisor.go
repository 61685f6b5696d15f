package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/export"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

func hypervisorCommand() *cli.Command {
	return noun("hypervisor", "hosts that run guests",
		hypervisorListCommand(), hypervisorAddCommand(), hypervisorProbeCommand(),
		&cli.Command{Name: "around", Usage: "show what stands around a hypervisor's guests, as it was each day: networks, storage pools, the names of secrets", ArgsUsage: "HYPERVISOR",
			Description: "What changed is kept for over a year: whoever brings guests back to a host that is new needs it. -o json has the definitions.", Flags: []cli.Flag{output()},
			Action: calls([]string{"a hypervisor's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				things, err := k.Around(ctx, c.Args().First())
				if err != nil {
					return err
				}
				return show(c, things, func(w io.Writer) {
					if len(things) == 0 {
						fmt.Fprintln(w, "nothing is known yet: the service asks in its first minute, and then once a day")
						return
					}
					var rows [][]string
					for _, t := range things {
						rows = append(rows, []string{t.Kind, t.Name, moment(&t.Since), moment(&t.Seen)})
					}
					table(w, []string{"KIND", "NAME", "SO SINCE", "LAST SEEN"}, rows)
				})
			})},
		&cli.Command{Name: "find", Usage: "ask every hypervisor for its guests", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				found, err := k.FindMachines(ctx)
				if err != nil {
					return err
				}
				silent := 0
				err = show(c, found, func(w io.Writer) {
					for _, f := range found {
						if f.Error != "" {
							fmt.Fprintf(w, "✗ %s: %s\n", f.Hypervisor, f.Error)
							continue
						}
						fmt.Fprintf(w, "✓ %s: %d guests\n", f.Hypervisor, f.Machines)
						for _, name := range f.Copies {
							fmt.Fprintf(w, "! %s: another hypervisor has a guest of the same UUID; it counts as one machine, so give one of them another UUID\n", name)
						}
					}
				})
				for _, f := range found {
					if f.Error != "" {
						silent++
					}
				}
				if err == nil && silent > 0 {
					err = fmt.Errorf("%d of %d hypervisors did not answer", silent, len(found))
				}
				return err
			})})
}

func hypervisorListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list hypervisors, and how each stands", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			all, err := k.Hypervisors(ctx)
			if err != nil {
				return err
			}
			return show(c, all, func(w io.Writer) {
				var rows [][]string
				for _, h := range all {
					state := "✓ answers"
					switch {
					case h.Error != "":
						state = "✗ " + h.Error
					case h.Heard == nil:
						state = "not asked yet"
					}
					room := "–"
					if h.Total > 0 {
						room = fmt.Sprintf("%s of %s", size(h.Free), size(h.Total))
					}
					rows = append(rows, []string{h.Name, reached(h), orDash(h.Version), fmt.Sprint(h.Machines), room, moment(h.Heard), state})
				}
				table(w, []string{"HYPERVISOR", "REACHED", "VERSION", "GUESTS>", "FREE", "LAST HEARD", "STATE"}, rows)
			})
		})}
}

// reached says in short how a hypervisor is reached.
func reached(h wire.Hypervisor) string {
	u, err := url.Parse(h.URI)
	switch {
	case err != nil || h.Kind != site.Libvirt:
		return h.Kind + " " + h.URI
	case u.Host == "":
		return "on this host"
	}
	_, way, _ := strings.Cut(u.Scheme, "+")
	if u.User.Username() != "" {
		return fmt.Sprintf("%s %s@%s", way, u.User.Username(), u.Host)
	}
	return way + " " + u.Host
}

// hypervisorFlags describe how one is reached.
func hypervisorFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "uri", Usage: "libvirt address: qemu:///system, qemu+ssh://user@host/system or qemu+tls://host/system; of other kinds a folder or https://host:port"},
		&cli.StringFlag{Name: "kind", Usage: "how it is spoken to: libvirt, qemu, islet, skerry, sound, or agent for servers whose agents call the lodge", Value: site.Libvirt},
		&cli.StringFlag{Name: "host-key", Usage: "by SSH: the host's public key (ssh-ed25519 AAAA…), from: ssh-keyscan HOST; by default what the service's known_hosts files say"},
		&cli.StringFlag{Name: "key-file", Usage: "private key that signs in, a path on the service's host; by SSH its agent's keys by default"},
		&cli.StringFlag{Name: "cert-file", Usage: "by TLS: the service's certificate, a path on its host"},
		&cli.StringFlag{Name: "secret-file", Usage: "by HTTPS: a file that holds NAME:SECRET to sign in with, of mode 0600, a path on the service's host"},
		&cli.StringFlag{Name: "ca-file", Usage: "by TLS: the certificate of the authority that the hypervisor's is from, a path on the service's host"},
		&cli.StringFlag{Name: "twin", Usage: "of an appliance: the address of its other node, where it has two"},
		&cli.StringFlag{Name: "passphrase-file", Usage: "of an appliance: a file of mode 0600 with the passphrase that its exports are encrypted with, a path on the service's host; more is said in the site file"},
		&cli.StringFlag{Name: "place", Usage: "where it is, by a name of your own such as harbour-office; roles can be narrowed to places"},
		&cli.StringFlag{Name: "pool", Usage: "storage pool for restored disks; by default its first active one"},
		output(),
	}
}

func hypervisorFrom(c *cli.Command) site.Hypervisor {
	kind := c.String("kind")
	if kind == site.Libvirt {
		kind = "" // the default is not written down
	}
	var exports *export.Settings
	if file := c.String("passphrase-file"); file != "" {
		exports = &export.Settings{PassphraseFile: file}
	}
	return site.Hypervisor{Twin: c.String("twin"), Export: exports, Kind: kind, URI: c.String("uri"), HostKey: c.String("host-key"), KeyFile: c.String("key-file"), CertFile: c.String("cert-file"), CAFile: c.String("ca-file"), SecretFile: c.String("secret-file"), Place: c.String("place"), Pool: c.String("pool")}
}

func hypervisorAddCommand() *cli.Command {
	return &cli.Command{Name: "add", Usage: "try a hypervisor, step by step, and add it to the site", ArgsUsage: "HYPERVISOR",
		Description: "If a step fails, nothing is added, and it says what to do. The files are the service's: it reads them, not this command.",
		Flags:       append(hypervisorFlags(), &cli.BoolFlag{Name: "anyway", Usage: "add it although a step failed: it is not up yet, say"}),
		Action: calls([]string{"a name for it"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			if c.String("uri") == "" && c.String("kind") != site.Agents {
				return wrongUse("say where it is: --uri qemu+ssh://user@host/system")
			}
			name := c.Args().First()
			added, err := k.AddHypervisor(ctx, name, wire.HypervisorAddition{Spec: hypervisorFrom(c), Anyway: c.Bool("anyway")})
			if err != nil {
				return err
			}
			err = show(c, added, func(w io.Writer) {
				stepTable(w, added.Steps)
				if added.Added {
					guests := "no guests yet"
					if n := len(added.Machines); n > 0 {
						guests = fmt.Sprintf("%d guests: %s", n, strings.Join(added.Machines, ", "))
					}
					fmt.Fprintf(w, "added hypervisor %s with %s\n", name, guests)
				}
			})
			switch {
			case err != nil:
				return err
			case !added.Added:
				return fmt.Errorf("hypervisor %s is not added; mend what failed and try again, or add it as it is: --anyway", name)
			case probe.Worst(added.Steps) != probe.OK:
				return errWarned
			}
			return nil
		})}
}

func hypervisorProbeCommand() *cli.Command {
	return &cli.Command{Name: "probe", Usage: "try a hypervisor before it is used, or one of the site", ArgsUsage: "[HYPERVISOR]", Flags: hypervisorFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 || c.Args().Len() == 1 == (c.String("uri") != "") {
				return wrongUse("%s takes the name of a hypervisor, or flags that say how one is reached", c.FullName())
			}
			k, err := connect(ctx, c)
			if err != nil {
				return err
			}
			name, spec := c.Args().First(), (*site.Hypervisor)(nil)
			if name == "" {
				new := hypervisorFrom(c)
				name, spec = "new", &new
			}
			steps, err := k.ProbeHypervisor(ctx, name, spec)
			if err != nil {
				return err
			}
			if err := show(c, steps, func(w io.Writer) { stepTable(w, steps) }); err != nil {
				return err
			}
			return howTried(steps, "this hypervisor can't be used as it is")
		}}
}
