package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"keenlodge/internal/core/chunk"
)

// Secrets come from a file, the environment or a prompt, never from an argument: arguments are there for every account to see.

// secretWord finds a secret: in a file, if one is named; in the environment, if it is there; else by asking.
func secretWord(file, variable, what string) (string, error) {
	if file != "" {
		body, err := os.ReadFile(file)
		if err != nil {
			return "", fmt.Errorf("%s: %w", what, err)
		}
		return filled(strings.TrimRight(string(body), "\r\n"), what, "file "+file)
	}
	if v, ok := os.LookupEnv(variable); ok {
		return filled(v, what, variable)
	}
	return ask(what)
}

func filled(v, what, where string) (string, error) {
	if v == "" {
		return "", fmt.Errorf("%s: %s is empty", what, where)
	}
	return v, nil
}

// newSecretWord is secretWord for one that is chosen now: it asks twice.
func newSecretWord(file, variable, what string) (string, error) {
	one, err := secretWord(file, variable, what)
	if _, given := os.LookupEnv(variable); err != nil || file != "" || given {
		return one, err
	}
	two, err := ask(what + " again")
	if err == nil && one != two {
		err = errors.New("the two differ; nothing was done")
	}
	return one, err
}

// ask prompts on the terminal without an echo.
func ask(what string) (string, error) {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", fmt.Errorf("%s: there is no terminal to ask on; name a file that holds it, or set the environment variable (see --help)", what)
	}
	fmt.Fprintf(os.Stderr, "%s: ", what)
	body, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	if err != nil {
		return "", err
	}
	return filled(string(body), what, "what was typed")
}

// confirm asks for a yes on the terminal.
func confirm(question string) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return wrongUse("there is no terminal to ask on; write --yes if the warning was understood")
	}
	fmt.Fprintf(os.Stderr, "%s? Type yes: ", question)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil || strings.TrimSpace(line) != "yes" {
		return errors.New("nothing was done")
	}
	return nil
}

// typed has the person type a name, unless it was given.
func typed(given, name, what string) error {
	if given == "" {
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return wrongUse("there is no terminal to ask on; write --typed %s if it is meant", name)
		}
		fmt.Fprintf(os.Stderr, "%s. Type its name: ", what)
		line, err := bufio.NewReader(os.Stdin).ReadString('\n')
		if err != nil {
			return err
		}
		given = strings.TrimSpace(line)
	}
	if given != name {
		return fmt.Errorf("%q is not %q; nothing was done", given, name)
	}
	return nil
}

// openerFlags name what opens a sealed store.
func openerFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "passphrase-file", Usage: "file with the passphrase; else KEENLODGE_PASSPHRASE, or a prompt"},
		&cli.StringFlag{Name: "identity-file", Usage: "file with an age identity, in place of a passphrase"},
	}
}

// openerFrom finds what opens a sealed store; a new passphrase is asked for twice.
func openerFrom(c *cli.Command, isNew bool) (chunk.Opener, error) {
	if file := c.String("identity-file"); file != "" {
		body, err := os.ReadFile(file)
		return chunk.Opener{Identity: string(body)}, err
	}
	word := secretWord
	if isNew {
		word = newSecretWord
	}
	passphrase, err := word(c.String("passphrase-file"), "KEENLODGE_PASSPHRASE", "passphrase of the store")
	return chunk.Opener{Passphrase: passphrase}, err
}
