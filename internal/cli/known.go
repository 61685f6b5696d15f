package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"keenlodge/internal/client"
	"keenlodge/internal/pinned"
	"keenlodge/internal/private"
)

// known are the lodges whose authorities were pinned: a file beside that of the token, with a line for each: its address, the fingerprint of
// its authority, and that of the one which comes next.
type known struct{ file string }

func knownLodges(c *cli.Command) known {
	return known{filepath.Join(filepath.Dir(c.String("token-file")), "known-lodges")}
}

// pins are those of an address, nil for one that is not known.
func (k known) pins(address string) ([]string, error) {
	lines, err := k.lines()
	for _, line := range lines {
		if words := strings.Fields(line); len(words) > 1 && words[0] == address {
			return words[1:], nil
		}
	}
	return nil, err
}

func (k known) lines() ([]string, error) {
	body, err := os.ReadFile(k.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read the lodges that are known here: %w", err)
	}
	return strings.Split(strings.TrimSpace(string(body)), "\n"), nil
}

// keep keeps the pins of an address, in place of those before.
func (k known) keep(address string, pins ...string) error {
	lines, err := k.lines()
	if err != nil {
		return err
	}
	lines = slices.DeleteFunc(lines, func(line string) bool { return line == "" || strings.HasPrefix(line, address+" ") })
	lines = append(lines, strings.Join(append([]string{address}, pins...), " "))
	slices.Sort(lines)
	if err := private.Write(k.file, strings.Join(lines, "\n")+"\n"); err != nil {
		return fmt.Errorf("keep the fingerprint of the lodge at %s: %w", address, err)
	}
	return nil
}

// addressOf is the host and port of a lodge's URL, and whether it speaks TLS.
func addressOf(text string) (address, host string, encrypted bool, err error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return "", "", false, wrongUse("%q is no address of a lodge; write for example https://lodge.brindle.example:7433", text)
	}
	return u.Host, u.Hostname(), u.Scheme == "https", nil
}

// reach makes a client of the lodge at --url, which trusts it by its pin. After one that was renewed, the pin follows.
func reach(ctx context.Context, c *cli.Command, token string) (*client.Client, error) {
	k := client.New(c.String("url"), token)
	address, host, encrypted, err := addressOf(c.String("url"))
	if err != nil || !encrypted {
		return k, err
	}
	lodges := knownLodges(c)
	pins, err := lodges.pins(address)
	if err != nil {
		return nil, err
	}
	met := ""
	k.Trust(pinned.Config(host, pins, func(fingerprint string) { met = fingerprint }))
	if pins == nil {
		return k, nil
	}
	a, err := k.Authority(ctx)
	if err == nil && met != "" && !slices.Equal(pins, []string{a.Fingerprint, a.Next}) && slices.Contains(pins, a.Fingerprint) {
		err = lodges.keep(address, a.Fingerprint, a.Next)
	}
	var refused *client.Problem
	if errors.As(err, &refused) {
		return k, nil // the call itself will say it
	}
	return k, err
}

// meet has a person compare a lodge's fingerprint when it is met for the first time, or was made anew, and pins it. given is one that was
// told beforehand, or "".
func meet(ctx context.Context, c *cli.Command, token, given string) (*client.Client, error) {
	address, host, encrypted, err := addressOf(c.String("url"))
	if err != nil || !encrypted {
		return client.New(c.String("url"), token), err
	}
	if given != "" {
		if err := pinned.Check(given); err != nil {
			return nil, usageError{err}
		}
	}
	lodges := knownLodges(c)
	pins, err := lodges.pins(address)
	if err != nil {
		return nil, err
	}
	config := pinned.Config(host, pins, nil)
	conn, err := (&tls.Dialer{Config: config}).DialContext(ctx, "tcp", address)
	var unknown *pinned.Unknown
	switch {
	case err == nil:
		conn.Close()
	case errors.As(err, &unknown) && unknown.Fingerprint != "":
		switch {
		case given == "":
			if unknown.Pinned != nil {
				fmt.Fprintln(os.Stderr, "!", unknown)
			}
			if err := confirm(fmt.Sprintf("The authority of %s has the fingerprint\n  %s\nThe service's log has it, too. Is it the same", address, unknown.Fingerprint)); err != nil {
				return nil, err
			}
		case given != unknown.Fingerprint:
			return nil, fmt.Errorf("%s shows the fingerprint %s, and not %s", address, unknown.Fingerprint, given)
		}
		pins = []string{unknown.Fingerprint}
	default:
		return nil, fmt.Errorf("reach %s: %w", address, err)
	}
	k := client.New(c.String("url"), token)
	k.Trust(pinned.Config(host, pins, nil))
	if pins == nil {
		return k, nil // an authority that this computer knows
	}
	a, err := k.Authority(ctx)
	if err != nil {
		return nil, err
	}
	return k, lodges.keep(address, a.Fingerprint, a.Next)
}
