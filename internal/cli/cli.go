// Package cli is the command line: noun, then verb. It talks to the service through its HTTP interface; only "rotation
// try", "rotation draw" and the verbs of schedule compute by themselves, and "store extract" reads a store's folder.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"keenlodge/internal/client"
	"keenlodge/internal/core/suggest"
	"keenlodge/internal/wire"
)

// Exit codes.
const (
	exitFailed = 1
	exitUsage  = 2
	exitWarned = 3
)

// usageError is a call that can't be understood.
type usageError struct{ error }

func wrongUse(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// errWarned is a run that is done with warnings; they have been shown.
var errWarned = errors.New("done with warnings")

// Main runs the command line and returns the exit code. host is what is done with no service asked; more are commands that other faces
// bring, which take flags, and the arguments that they name.
func Main(ctx context.Context, args []string, host Host, more ...*cli.Command) int {
	return execute(ctx, newApp(os.Stdout, host, more...), args, os.Stderr)
}

// newApp is the tree of commands, which write to out.
func newApp(out io.Writer, host Host, more ...*cli.Command) *cli.Command {
	app := &cli.Command{
		Writer:                out,
		Name:                  "keenlodge",
		Usage:                 "schedules, keeps and proves images of whole machines",
		Version:               strings.TrimPrefix(wire.Program, "keenlodge "),
		EnableShellCompletion: true,
		Suggest:               true,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		OnUsageError:          func(_ context.Context, _ *cli.Command, err error, _ bool) error { return usageError{err} },
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "url", Usage: "where the lodge is", Value: "http://" + wire.DefaultAddress, Sources: cli.EnvVars("KEENLODGE_URL")},
			&cli.StringFlag{Name: "token-file", Usage: "file that holds your token", Value: defaultTokenFile(), Sources: cli.EnvVars("KEENLODGE_TOKEN_FILE")},
			&cli.StringFlag{Name: "reason", Usage: "why you do what changes something, for the trail", Sources: cli.EnvVars("KEENLODGE_REASON")},
		},
		Commands: append([]*cli.Command{
			machineCommand(), hypervisorCommand(), storeCommand(), policyCommand(), copyCommand(), snapshotCommand(), promiseCommand(), groupCommand(), drillCommand(), runCommand(), imageCommand(), restoreCommand(), rotationCommand(),
			scheduleCommand(), webhookCommand(), calendarCommand(), siteCommand(), tokenCommand(host), sessionCommand(), authorityCommand(), agentCommand(), vaultCommand(host), rescueCommand(host), auditCommand(), signInCommand(), signOutCommand(),
		}, more...),
	}
	for _, c := range more {
		act, takes := c.Action, strings.Fields(c.ArgsUsage)
		c.Action = func(ctx context.Context, c *cli.Command) error {
			if err := arguments(c, takes...); err != nil {
				return err
			}
			return act(ctx, c)
		}
	}
	prepare(app)
	return app
}

// execute runs a command, tells an error on a writer of its own, and returns the exit code.
func execute(ctx context.Context, app *cli.Command, args []string, told io.Writer) int {
	args, err := expand(app, args)
	if err == nil {
		err = app.Run(ctx, args)
	}
	var wrong usageError
	switch {
	case err == nil:
		return 0
	case errors.Is(err, errWarned):
		return exitWarned
	case errors.As(err, &wrong):
		fmt.Fprintf(told, "keenlodge: %v\n", err)
		return exitUsage
	}
	fmt.Fprintf(told, "keenlodge: %v\n", err)
	return exitFailed
}

// prepare gives every command what all have in common.
func prepare(c *cli.Command) {
	for _, sub := range c.Commands {
		sub.OnUsageError = c.OnUsageError
		if len(sub.Commands) > 0 && sub.Action == nil {
			sub.Action = func(_ context.Context, c *cli.Command) error {
				if c.Args().Len() == 0 {
					return wrongUse("%s: a verb is missing; it takes %s", c.FullName(), strings.Join(names(c), ", "))
				}
				return wrongUse("%s: %q is not a verb of it%s", c.FullName(), c.Args().First(), suggest.Hint(c.Args().First(), names(c)))
			}
		}
		prepare(sub)
	}
}

func names(c *cli.Command) []string {
	var out []string
	for _, sub := range c.Commands {
		if !sub.Hidden && sub.Name != "help" && sub.Name != "completion" {
			out = append(out, sub.Name)
		}
	}
	return out
}

// expand replaces abbreviated nouns and verbs by their full names: any unique prefix will do. A call for help asks for
// that of the command, whatever stands between the two.
func expand(app *cli.Command, args []string) ([]string, error) {
	out, path, err := expandPath(app, args)
	own := out
	if end := slices.Index(out, "--"); end >= 0 {
		own = out[:end]
	}
	if err == nil && (slices.Contains(own, "--help") || slices.Contains(own, "-h")) {
		return slices.Concat(out[:1], path, []string{"--help"}), nil
	}
	return out, err
}

// expandPath also tells which of the words are the noun and the verb.
func expandPath(app *cli.Command, args []string) (out, path []string, err error) {
	out = slices.Clone(args)
	at := app
	for i := 1; i < len(out) && len(at.Commands) > 0; i++ {
		word := out[i]
		if strings.HasPrefix(word, "-") {
			// A global flag's value is the next word unless it is joined by "=".
			if at == app && !strings.Contains(word, "=") && slices.Contains([]string{"url", "token-file", "reason"}, strings.TrimLeft(word, "-")) {
				i++
			}
			continue
		}
		var fits []*cli.Command
		for _, sub := range at.Commands {
			if sub.Name == word {
				fits = []*cli.Command{sub}
				break
			}
			if strings.HasPrefix(sub.Name, word) && !sub.Hidden {
				fits = append(fits, sub)
			}
		}
		switch {
		case len(fits) == 1:
			out[i], at = fits[0].Name, fits[0]
			path = append(path, out[i])
		case len(fits) > 1:
			var which []string
			for _, f := range fits {
				which = append(which, f.Name)
			}
			return nil, nil, wrongUse("%q may mean %s; write more of it", word, strings.Join(which, " or "))
		case at == app && word != "help" && word != "completion":
			return nil, nil, wrongUse("%q is not a command%s", word, suggest.Hint(word, names(app)))
		default:
			return out, path, nil // the noun's own action says what is wrong
		}
	}
	return out, path, nil
}

func defaultTokenFile() string {
	folder, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(folder, "keenlodge", "token")
}

// connect makes a client from the global flags.
func connect(ctx context.Context, c *cli.Command) (*client.Client, error) {
	file := c.String("token-file")
	body, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read your token: %w; sign in with: keenlodge sign-in, or name its file in KEENLODGE_TOKEN_FILE", err)
	}
	k, err := reach(ctx, c, strings.TrimSpace(string(body)))
	if err != nil {
		return nil, err
	}
	k.Reason = strings.Join(strings.Fields(c.String("reason")), " ") // a header has one line
	return k, nil
}

// output is the flag of commands that print for people or for programs.
func output() cli.Flag {
	return &cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "table, or json for programs", Value: "table", Validator: func(s string) error {
		if s != "table" && s != "json" {
			return fmt.Errorf(`%q is not a form of output; write table or json`, s)
		}
		return nil
	}}
}

// show prints v as JSON if that is asked for, and otherwise as people prints it.
func show(c *cli.Command, v any, people func(w io.Writer)) error {
	w := c.Root().Writer
	if c.String("output") != "json" {
		people(w)
		return nil
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// arguments checks how many words follow a verb.
func arguments(c *cli.Command, what ...string) error {
	if n := c.Args().Len(); n != len(what) {
		if len(what) == 0 {
			return wrongUse("%s takes no argument; %q was given", c.FullName(), c.Args().First())
		}
		return wrongUse("%s takes %s; %d were given", c.FullName(), strings.Join(what, " and "), n)
	}
	return nil
}

// pick finds the one name that a word is, or begins.
func pick[T ~string](kind string, word T, known []T) (T, error) {
	var fits []T
	for _, k := range known {
		if k == word {
			return k, nil
		}
		if strings.HasPrefix(string(k), string(word)) {
			fits = append(fits, k)
		}
	}
	switch len(fits) {
	case 1:
		return fits[0], nil
	case 0:
		return "", fmt.Errorf("no %s is called %q%s", kind, word, suggest.Hint(word, known))
	}
	return "", fmt.Errorf("%s %q may be %s; write more of it", kind, word, suggest.List(fits[:min(4, len(fits))]))
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func sorted[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// calls makes an action that talks to the lodge; arguments names the words that must follow the verb.
func calls(words []string, act func(ctx context.Context, c *cli.Command, k *client.Client) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		if err := arguments(c, words...); err != nil {
			return err
		}
		k, err := connect(ctx, c)
		if err != nil {
			return err
		}
		return act(ctx, c, k)
	}
}

func noun(name, usage string, verbs ...*cli.Command) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, Commands: verbs}
}
