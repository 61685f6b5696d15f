package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"keenlodge/internal/wire"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
)

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// calls makes an action that talks to the lodge; arguments names the words that must follow the verb.
func calls(words []string, act func(ctx context.Context, c *cli.Command, k *client.Client) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if err := arguments(c, words...); err != nil {
			return err
		}
		k, err := connect(c)
		if err != nil {
			return err
		}
		return act(ctx, c, k)
	}
}

func noun(name, usage string, verbs ...*cli.Command) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, Commands: verbs}
}

func machineCommand() *cli.Command {
	return noun("machine", "what is protected", &cli.Command{
		Name: "list", Usage: "list machines", Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "unprotected", Usage: "only those that no policy covers"}},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			machines, err := k.Machines(ctx)
			if err != nil {
				return err
			}
			if c.Bool("unprotected") {
				machines = slices.DeleteFunc(machines, func(m wire.Machine) bool { return len(m.CoveredBy) > 0 || m.State == "gone" })
			}
			images, err := k.Images(ctx, wire.ImageFilter{})
			if err != nil {
				return err
			}
			newest := map[string]wire.Image{}
			for _, m := range slices.Backward(images) {
				if m.State == "usable" {
					newest[m.Machine] = m
				}
			}
			return show(c, machines, func(w io.Writer) {
				var rows [][]string
				for _, m := range machines {
					var total int64
					for _, d := range m.Disks {
						total += d.Size
					}
					last := "none"
					if i, ok := newest[m.Name]; ok {
						last = moment(&i.Taken)
					}
					rows = append(rows, []string{m.Name, m.Hypervisor, string(m.State), fmt.Sprint(len(m.Disks)), size(total), last, orDash(strings.Join(m.CoveredBy, " ")), tagList(m.Tags)})
				}
				if c.Bool("unprotected") && len(rows) == 0 {
					fmt.Fprintln(w, "every machine is covered by a policy")
					return
				}
				table(w, []string{"MACHINE", "HYPERVISOR", "STATE", "DISKS>", "SIZE>", "NEWEST IMAGE", "POLICIES", "TAGS"}, rows)
			})
		}),
	})
}

func hypervisorCommand() *cli.Command {
	return noun("hypervisor", "hosts that run guests",
		&cli.Command{Name: "list", Usage: "list hypervisors", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				s, err := k.Site(ctx)
				if err != nil {
					return err
				}
				return show(c, s.Hypervisors, func(w io.Writer) {
					var rows [][]string
					for _, name := range sorted(s.Hypervisors) {
						rows = append(rows, []string{name, s.Hypervisors[name].URI, orDash(s.Hypervisors[name].Pool)})
					}
					table(w, []string{"HYPERVISOR", "URI", "POOL"}, rows)
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
						for _, name := range f.Taken {
							fmt.Fprintf(w, "! %s: left out, another hypervisor has a guest of that name\n", name)
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

// started tells that a run began, or follows it if asked to wait.
func started(ctx context.Context, c *cli.Command, k *client.Client, run wire.Run) error {
	if c.Bool("wait") {
		return follow(ctx, c, k, run.ID)
	}
	return show(c, run, func(w io.Writer) {
		fmt.Fprintf(w, "run %s is queued; see it with: keenlodge run watch %s\n", run.ID, run.ID)
	})
}

// pickRun finds a run by the beginning of its name; without a word it is the newest.
func pickRun(ctx context.Context, c *cli.Command, k *client.Client) (string, error) {
	if c.Args().Len() > 1 {
		return "", wrongUse("%s takes one run; %d were given", c.FullName(), c.Args().Len())
	}
	runs, err := k.Runs(ctx, 1000)
	if err != nil {
		return "", err
	}
	if c.Args().Len() == 0 {
		if len(runs) == 0 {
			return "", fmt.Errorf("there is no run yet; start one with: keenlodge policy run POLICY")
		}
		return runs[0].ID, nil
	}
	known := make([]string, len(runs))
	for i, r := range runs {
		known[i] = r.ID
	}
	return pick("run", c.Args().First(), known)
}

func runCommand() *cli.Command {
	// The word after these verbs may be left out, so they check it themselves.
	one := func(act func(ctx context.Context, c *cli.Command, k *client.Client, id string) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error {
			k, err := connect(c)
			if err != nil {
				return err
			}
			id, err := pickRun(ctx, c, k)
			if err != nil {
				return err
			}
			return act(ctx, c, k, id)
		}
	}
	return noun("run", "carryings-out of policies, proofs and restores",
		&cli.Command{Name: "list", Usage: "list runs, newest first", Flags: []cli.Flag{output(), &cli.IntFlag{Name: "limit", Value: 20, Usage: "how many"}},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				runs, err := k.Runs(ctx, c.Int("limit"))
				if err != nil {
					return err
				}
				return show(c, runs, func(w io.Writer) {
					var rows [][]string
					for _, r := range runs {
						var read, stored int64
						machines := []string{}
						for _, t := range r.Tasks {
							read, stored = read+t.Done, stored+t.Stored
							machines = append(machines, t.Machine)
						}
						rows = append(rows, []string{r.ID, stateWords(r.State), string(r.Kind), orDash(r.Policy), causeWords(r), startedOrWaits(r), between(r.Started, r.Ended), size(read), size(stored), orDash(strings.Join(machines, " "))})
					}
					table(w, []string{"RUN", "RESULT", "KIND", "POLICY", "CAUSE", "STARTED", "TOOK>", "MOVED>", "STORED>", "MACHINES"}, rows)
				})
			})},
		&cli.Command{Name: "show", Usage: "show a run; the newest if none is named", ArgsUsage: "[RUN]", Flags: []cli.Flag{output()},
			Action: one(func(ctx context.Context, c *cli.Command, k *client.Client, id string) error {
				r, err := k.Run(ctx, id)
				if err != nil {
					return err
				}
				return show(c, r, func(w io.Writer) { runDetails(ctx, w, k, r) })
			})},
		&cli.Command{Name: "watch", Usage: "show a run until it is over; the newest if none is named", ArgsUsage: "[RUN]", Flags: []cli.Flag{output()},
			Action: one(follow)},
		&cli.Command{Name: "cancel", Usage: "end a run: guests are thawed and all is cleared at once", ArgsUsage: "RUN",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "reason", Usage: "why"}},
			Action: calls([]string{"a run"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickRun(ctx, c, k)
				if err != nil {
					return err
				}
				run, err := k.CancelRun(ctx, id, c.String("reason"))
				if err != nil {
					return err
				}
				if run, err = waitFor(ctx, k, run.ID); err != nil {
					return err
				}
				return show(c, run, func(w io.Writer) { fmt.Fprintf(w, "run %s is %s: %s\n", run.ID, run.State, run.Error) })
			})},
		&cli.Command{Name: "log", Usage: "show a run's log; the newest if none is named", ArgsUsage: "[RUN]", Flags: []cli.Flag{output()},
			Action: one(func(ctx context.Context, c *cli.Command, k *client.Client, id string) error {
				log, err := k.RunLog(ctx, id)
				if err != nil {
					return err
				}
				return show(c, log, func(w io.Writer) {
					for _, l := range log {
						fmt.Fprintf(w, "%s  %-16s %s\n", moment(&l.At), orDash(l.Machine), l.Text)
					}
				})
			})})
}

// pickImage finds an image by the beginning of its name.
func pickImage(ctx context.Context, k *client.Client, word string) (string, error) {
	images, err := k.Images(ctx, wire.ImageFilter{Gone: true})
	if err != nil {
		return "", err
	}
	known := make([]string, len(images))
	for i, m := range images {
		known[i] = m.ID
	}
	return pick("image", word, known)
}

func imageCommand() *cli.Command {
	wait := &cli.BoolFlag{Name: "wait", Aliases: []string{"w"}, Usage: "show it until it is over"}
	named := []string{"an image's name"}
	return noun("image", "machines at a moment, restorable",
		&cli.Command{Name: "list", Usage: "list images, newest first",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "machine", Usage: "of one machine"}, &cli.StringFlag{Name: "policy", Usage: "of one policy"},
				&cli.StringFlag{Name: "store", Usage: "in one store"}, &cli.BoolFlag{Name: "gone", Usage: "those that rotation dropped, too"}},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				images, err := k.Images(ctx, wire.ImageFilter{Machine: c.String("machine"), Policy: c.String("policy"), Store: c.String("store"), Gone: c.Bool("gone")})
				if err != nil {
					return err
				}
				return show(c, images, func(w io.Writer) {
					var rows [][]string
					for _, m := range images {
						state := string(m.State)
						if m.Gone != nil {
							state = "gone"
						} else if m.Pinned {
							state += ", pinned"
						}
						rows = append(rows, []string{m.ID, m.Machine, moment(&m.Taken), state, string(m.Capture), orDash(m.Consistency), standing(m), size(m.Size), size(m.Read), size(m.Stored), m.Store, orDash(m.Policy)})
					}
					table(w, []string{"IMAGE", "MACHINE", "TAKEN", "STATE", "CAPTURE", "CONSISTENCY", "PROVEN", "DISKS>", "READ>", "STORED>", "STORE", "POLICY"}, rows)
				})
			})},
		&cli.Command{Name: "show", Usage: "show an image and its proofs", ArgsUsage: "IMAGE", Flags: []cli.Flag{output()},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				m, err := k.Image(ctx, id)
				if err != nil {
					return err
				}
				return show(c, m, func(w io.Writer) { imageDetails(w, m) })
			})},
		&cli.Command{Name: "prove", Usage: "prove that an image can be trusted", ArgsUsage: "IMAGE",
			Flags: []cli.Flag{output(), wait, &cli.StringFlag{Name: "level", Value: "read", Usage: "read: every block matched; mount: file systems opened, files read, ledger checked"}},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				level, err := pick("level", image.Level(c.String("level")), image.Provable)
				if err != nil {
					return usageError{err}
				}
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				run, err := k.Prove(ctx, id, level)
				if err != nil {
					return err
				}
				return started(ctx, c, k, run)
			})},
		&cli.Command{Name: "pin", Usage: "keep rotation away from an image", ArgsUsage: "IMAGE",
			Flags: []cli.Flag{output(), &cli.StringFlag{Name: "note", Usage: "why, such as: before the harbour upgrade"}},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				m, err := k.PinImage(ctx, id, c.String("note"))
				if err != nil {
					return err
				}
				return show(c, m, func(w io.Writer) { fmt.Fprintf(w, "image %s of %s is pinned\n", m.ID, m.Machine) })
			})},
		&cli.Command{Name: "unpin", Usage: "let rotation have an image again", ArgsUsage: "IMAGE", Flags: []cli.Flag{output()},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				m, err := k.UnpinImage(ctx, id)
				if err != nil {
					return err
				}
				return show(c, m, func(w io.Writer) { fmt.Fprintf(w, "image %s of %s is not pinned\n", m.ID, m.Machine) })
			})},
		imageHistoryCommand(), imageUndropCommand(), imageFoldCommand(),
		&cli.Command{Name: "restore", Usage: "make a guest from an image", ArgsUsage: "IMAGE",
			Flags: []cli.Flag{output(), wait, &cli.StringFlag{Name: "as", Usage: "name of the guest to make", Required: true},
				&cli.StringFlag{Name: "hypervisor", Usage: "where; by default where the machine lived"}, &cli.StringFlag{Name: "pool", Usage: "storage pool for its disks"},
				&cli.BoolFlag{Name: "start", Usage: "power it on and wait for its guest agent"},
				&cli.BoolFlag{Name: "replace", Usage: "allow a guest of that name, which must be off, to be defined anew; its old disks stay"}},
			Action: calls(named, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				id, err := pickImage(ctx, k, c.Args().First())
				if err != nil {
					return err
				}
				run, err := k.Restore(ctx, id, wire.RestoreBody{As: c.String("as"), Hypervisor: c.String("hypervisor"), Pool: c.String("pool"), Start: c.Bool("start"), Replace: c.Bool("replace")})
				if err != nil {
					return err
				}
				return started(ctx, c, k, run)
			})})
}

// standing is an image's best passed proof; a failed one outranks all.
func standing(m wire.Image) string {
	switch {
	case m.Failed:
		return "✗ failed"
	case m.Proven != "":
		return "✓ " + string(m.Proven)
	}
	return "–"
}

// captureWords tells how an image was read, and why so.
func captureWords(m wire.Image) string {
	text := string(m.Capture) + ", scope " + string(m.Scope)
	if m.Since != "" {
		text += ", changes since image " + m.Since
	}
	if m.CaptureWhy != "" {
		text += "; " + m.CaptureWhy
	}
	return text
}

func pinWords(m wire.Image) string {
	switch {
	case !m.Pinned:
		return "no"
	case m.PinNote == "":
		return "yes"
	}
	return "yes: " + m.PinNote
}

func imageDetails(w io.Writer, m wire.ProvenImage) {
	state := string(m.State)
	if m.Gone != nil {
		state = fmt.Sprintf("gone since %s: %s", moment(m.Gone), m.GoneWhy)
	}
	var disks []string
	for _, d := range m.Disks {
		disks = append(disks, fmt.Sprintf("%s %s", d.Target, size(d.Size)))
	}
	for _, row := range [][2]string{
		{"image", m.ID}, {"machine", m.Machine}, {"taken", moment(&m.Taken)}, {"state", state}, {"policy", orDash(m.Policy)}, {"store", m.Store},
		{"capture", captureWords(m.Image)}, {"leans on", orDash(m.Base)}, {"note", orDash(m.Note)}, {"pinned", pinWords(m.Image)}, {"took", time.Duration(m.Took).Round(100 * time.Millisecond).String()}, {"consistency", orDash(m.Consistency)}, {"frozen for", frozen(m.Frozen)},
		{"disks", orDash(strings.Join(disks, ", "))}, {"read", size(m.Read)}, {"new to the store", size(m.Fresh)}, {"stored", size(m.Stored)}, {"run", orDash(m.Run)},
	} {
		fmt.Fprintf(w, "%-18s %s\n", row[0], row[1])
	}
	if len(m.Proofs) == 0 {
		fmt.Fprintf(w, "\nnot proven yet; prove it with: keenlodge image prove %s --level mount --wait\n", m.ID)
	}
	for _, p := range m.Proofs {
		sign, word := "✓", "passed"
		if !p.Passed {
			sign, word = "✗", "failed"
		}
		fmt.Fprintf(w, "\n%s proof by %s %s on %s, after %s, by %s\n", sign, p.Level, word, moment(&p.Ended), p.Ended.Sub(p.Began).Round(100*time.Millisecond), p.Program)
		for _, e := range p.Evidence {
			fmt.Fprintf(w, "  %s\n", e)
		}
		if p.Error != "" {
			fmt.Fprintf(w, "  %s\n", p.Error)
		}
	}
}

func siteCommand() *cli.Command {
	return noun("site", "everything that the lodge is configured with",
		&cli.Command{Name: "show", Usage: "write the site file", Flags: []cli.Flag{output()},
			Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				s, err := k.Site(ctx)
				if err != nil {
					return err
				}
				text, err := s.Encode()
				if err != nil {
					return err
				}
				return show(c, s, func(w io.Writer) { w.Write(text) })
			})},
		&cli.Command{Name: "apply", Usage: "show what a site file changes, and do it", ArgsUsage: "FILE",
			Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "try", Usage: "only show it"}},
			Action: calls([]string{"a site file"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
				file := c.Args().First()
				text, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				s, err := site.Parse(file, text)
				if err != nil {
					return err
				}
				out, err := k.ApplySite(ctx, s, c.Bool("try"))
				if err != nil {
					return fmt.Errorf("%s: %w; nothing was changed", file, err)
				}
				return show(c, out, func(w io.Writer) {
					for _, change := range out.Changes {
						sign := map[string]string{"add": "+", "remove": "-", "change": "~"}[change.What]
						fmt.Fprintf(w, "%s %s %s", sign, change.Kind, change.Name)
						if change.Detail != "" {
							fmt.Fprintf(w, ": %s", change.Detail)
						}
						fmt.Fprintln(w)
					}
					for _, line := range out.Rotation {
						fmt.Fprintf(w, "! %s at its next rotation\n", line)
					}
					for _, line := range out.Warnings {
						fmt.Fprintf(w, "! %s\n", line)
					}
					switch {
					case len(out.Changes) == 0:
						fmt.Fprintln(w, "the site is so already; nothing changes")
					case c.Bool("try"):
						fmt.Fprintln(w, "only tried; nothing was changed")
					default:
						fmt.Fprintln(w, "✓ done")
					}
				})
			})})
}
