package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/wire"
)

// pickPlanned finds a policy, or a copy rule, by the beginning of its name.
func pickPlanned(ctx context.Context, k *client.Client, word string) (string, error) {
	s, err := k.Site(ctx)
	if err != nil {
		return "", err
	}
	return pick("policy or copy rule", word, append(sorted(s.Policies), sorted(s.Copies)...))
}

// pickPolicy finds a policy by the beginning of its name.
func pickPolicy(ctx context.Context, k *client.Client, word string) (string, error) {
	s, err := k.Site(ctx)
	if err != nil {
		return "", err
	}
	return pick("policy", word, sorted(s.Policies))
}

func policyCommand() *cli.Command {
	return noun("policy", "what to protect, how, when, where, and for how long", policyListCommand(), policyRunCommand(), policyRehearseCommand(),
		policyForecastCommand(), policyPauseCommand(), policyGatherCommand(), policyResumeCommand())
}

// onPolicy makes an action on the policy that is named.
func onPolicy(act func(ctx context.Context, c *cli.Command, k *client.Client, name string) error) cli.ActionFunc {
	return calls([]string{"a policy's name"}, func(ctx context.Context, c *cli.Command, k *client.Client) error {
		name, err := pickPolicy(ctx, k, c.Args().First())
		if err != nil {
			return err
		}
		return act(ctx, c, k, name)
	})
}

func policyListCommand() *cli.Command {
	return &cli.Command{Name: "list", Usage: "list policies", Flags: []cli.Flag{output()},
		Action: calls(nil, func(ctx context.Context, c *cli.Command, k *client.Client) error {
			policies, err := k.Policies(ctx)
			if err != nil {
				return err
			}
			return show(c, policies, func(w io.Writer) {
				var rows [][]string
				for _, p := range policies {
					var when []string
					for _, s := range p.Schedules {
						when = append(when, s.When)
					}
					next := moment(p.NextDue)
					if p.Paused != nil {
						next = "paused"
					}
					into := p.Store
					if p.Scope == image.InPlace {
						into = "in place"
					}
					rows = append(rows, []string{p.Name, orDash(strings.Join(p.Covers, " ")), into, orDash(strings.Join(when, ", ")), next, p.Rotation})
				}
				table(w, []string{"POLICY", "COVERS", "STORE", "SCHEDULES", "NEXT RUN", "ROTATION"}, rows)
				for _, p := range policies {
					if p.Paused != nil {
						fmt.Fprintf(w, "! %s: %s\n", p.Name, pausedWords(*p.Paused))
					}
					if p.Notice != "" {
						fmt.Fprintf(w, "! %s: %s\n", p.Name, p.Notice)
					}
				}
			})
		})}
}

func policyRunCommand() *cli.Command {
	return &cli.Command{Name: "run", Usage: "start a run by hand", ArgsUsage: "POLICY",
		Flags: []cli.Flag{output(), &cli.BoolFlag{Name: "wait", Aliases: []string{"w"}, Usage: "show the run until it is over"},
			&cli.StringFlag{Name: "note", Usage: "what it is for, such as: before the harbour upgrade"}},
		Action: onPolicy(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			run, err := k.RunPolicy(ctx, name, c.String("note"))
			if err != nil {
				return err
			}
			return started(ctx, c, k, run)
		})}
}

func policyRehearseCommand() *cli.Command {
	return &cli.Command{Name: "rehearse", Usage: "do everything that a run does but write, and tell what would go wrong", ArgsUsage: "POLICY",
		Description: "It ends with 0 if a run would go well, with 3 if it would go with warnings, and with 1 if not.",
		Flags:       []cli.Flag{output(), &cli.BoolFlag{Name: "freeze", Usage: "freeze and thaw the guests, too"}},
		Action: onPolicy(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			r, err := k.RehearsePolicy(ctx, name, wire.RehearseRequest{Freeze: c.Bool("freeze")})
			if err != nil {
				return err
			}
			return rehearsal(ctx, c, k, name, r)
		})}
}

// rehearsal waits for a rehearsal and shows what it found.
func rehearsal(ctx context.Context, c *cli.Command, k *client.Client, name string, r wire.Run) error {
	r, err := waitFor(ctx, k, r.ID)
	if err != nil {
		return err
	}
	var found wire.Rehearsal
	if len(r.Result) == 0 {
		return fmt.Errorf("rehearsal %s ended as %s: %s", r.ID, r.State, r.Error)
	}
	if err := json.Unmarshal(r.Result, &found); err != nil {
		return err
	}
	if err := show(c, found, func(w io.Writer) { rehearsed(w, name, found) }); err != nil {
		return err
	}
	for _, t := range r.Tasks {
		if t.Error != "" {
			return fmt.Errorf("%s: %s", t.Machine, t.Error)
		}
	}
	switch r.State {
	case run.Done:
		return nil
	case run.Warned:
		return errWarned
	}
	return fmt.Errorf("rehearsal of %s: %s", name, r.Error)
}

func rehearsed(w io.Writer, name string, r wire.Rehearsal) {
	var rows [][]string
	for _, check := range r.Checks {
		sign := map[wire.Verdict]string{wire.OK: "✓", wire.Warned: "!", wire.Failed: "✗"}[check.State]
		rows = append(rows, []string{sign, check.What, check.On, check.Text})
	}
	table(w, []string{"", "WHAT", "ON", "RESULT"}, rows)
	fmt.Fprintf(w, "\na run of %s would read %s, add about %s and drop %d images; nothing was written\n", name, size(r.Reads), size(r.Adds), len(r.Drops))
}

func policyPauseCommand() *cli.Command {
	return &cli.Command{Name: "pause", Usage: "keep a policy from running", ArgsUsage: "POLICY",
		Flags: pauseFlags(), Action: onPolicy(pause("policy"))}
}

func policyGatherCommand() *cli.Command {
	return &cli.Command{Name: "gather", Usage: "take a policy's images along from its former stores into its store", ArgsUsage: "POLICY",
		Description: "For a policy whose entry names former stores (formerly:). Each image is copied, and then dropped where it was, unless it is pinned or locked.",
		Flags:       []cli.Flag{output()},
		Action: onPolicy(func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
			run, err := k.GatherPolicy(ctx, name)
			if err != nil {
				return err
			}
			var r wire.CopyResult
			if _, err := finish(ctx, c, k, run, &r); err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) { fmt.Fprintf(w, "✓ %s\n", r.Says()) })
		})}
}

func pauseFlags() []cli.Flag {
	return []cli.Flag{output(), &cli.StringFlag{Name: "reason", Usage: "why, such as: the harbour upgrade"},
		&cli.StringFlag{Name: "until", Usage: "day or moment at which it goes on by itself (2026-12-01, 2026-12-01T06:00:00Z)"}}
}

// pause keeps a policy, or a copy rule, from running; kind is which.
func pause(kind string) func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
	return func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
		body := wire.PauseBody{Why: c.String("reason")}
		if text := c.String("until"); text != "" {
			until, err := momentFrom("until", text, false)
			if err != nil {
				return err
			}
			body.Until = &until
		}
		p, err := k.PausePolicy(ctx, name, body)
		if err != nil {
			return err
		}
		return show(c, p, func(w io.Writer) {
			fmt.Fprintf(w, "%s %s is %s; go on with: keenlodge %s resume %[2]s\n", words[kind], name, pausedWords(p), kind)
		})
	}
}

// words are what the nouns are called of what runs by itself.
var words = map[string]string{"policy": "policy", "copy": "copy rule"}

func policyResumeCommand() *cli.Command {
	return &cli.Command{Name: "resume", Usage: "let a paused policy run again", ArgsUsage: "POLICY",
		Action: onPolicy(resume("policy"))}
}

// resume lets a paused policy, or copy rule, run again; kind is which.
func resume(kind string) func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
	return func(ctx context.Context, c *cli.Command, k *client.Client, name string) error {
		if err := k.ResumePolicy(ctx, name); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "%s %s goes on; what came due meanwhile was skipped\n", words[kind], name)
		return nil
	}
}
