package service

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"keenlodge/internal/access"
	"keenlodge/internal/cli"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/right"
	"keenlodge/internal/records"
	"keenlodge/internal/rescue/making"
	"keenlodge/internal/trail"
	"keenlodge/internal/vault"
)

// Host has what is done on the service's host, with no service asked: whoever can open the database, and read the key file, is the lodge's
// administrator. The trail has what was done.
var Host = cli.Host{NewToken: newToken, NewKey: newKey, DropOldKeys: dropOldKeys, MakeRescue: makeRescue}

// makeRescue writes a rescue medium.
func makeRescue(ctx context.Context, m cli.RescueMedium) (kernel string, err error) {
	executable, err := os.Executable()
	if err != nil {
		return "", err
	}
	made, err := making.Make(ctx, making.Wish{Program: executable, Lodge: m.Lodge, Pin: m.Pin})
	if err == nil && m.ISO != "" {
		err = made.ISO(ctx, m.ISO)
	}
	if err == nil && m.Net != "" {
		err = made.Net(m.Net)
	}
	return made.Version, err
}

// keyFile is where the key of the vault is: a credential of systemd, or a file in the state folder.
func keyFile(state string) string {
	if folder := os.Getenv("CREDENTIALS_DIRECTORY"); folder != "" {
		if file := filepath.Join(folder, "lodge-key"); exists(file) {
			return file
		}
	}
	return filepath.Join(state, "lodge-key")
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}

// onHost does something with the records, and has it in the trail.
func onHost(ctx context.Context, database, verb, target string, do func(rec *records.Records, log *slog.Logger, who string) error) error {
	rec, err := records.Open(ctx, database)
	if err != nil {
		return err
	}
	defer rec.Close()
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	who := "this host"
	if u, err := user.Current(); err == nil {
		who += " (" + u.Username + ")"
	}
	begun, err := trail.New(rec, log).Begin(ctx, trail.Deed{Who: who, Verb: verb, Target: target})
	if err != nil {
		return err
	}
	if err := do(rec, log, who); err != nil {
		begun.End(ctx, deed.Refused, fault.Text(err))
		return fmt.Errorf("%s on this host: %s", verb, fault.Text(err))
	}
	begun.End(ctx, deed.Done, "")
	return nil
}

func newToken(ctx context.Context, database, name string, grants []right.Grant, good time.Duration) (secret string, expires time.Time, err error) {
	err = onHost(ctx, database, "new-token", "/api/v1/tokens/"+name, func(rec *records.Records, log *slog.Logger, who string) error {
		var t records.Token
		t, secret, err = access.New(rec, log).NewToken(ctx, who, name, grants, good)
		expires = t.Expires
		return err
	})
	return secret, expires, err
}

func newKey(ctx context.Context, database, state string) (file string, err error) {
	file = keyFile(state)
	return file, onHost(ctx, database, deed.NewVaultKey, "/api/v1/vault", func(rec *records.Records, _ *slog.Logger, _ string) error {
		v, err := vault.Open(rec, file)
		if err != nil {
			return err
		}
		return v.NewKey()
	})
}

func dropOldKeys(ctx context.Context, database, state string) (dropped int, err error) {
	return dropped, onHost(ctx, database, deed.DropVaultKeys, "/api/v1/vault", func(rec *records.Records, _ *slog.Logger, _ string) error {
		v, err := vault.Open(rec, keyFile(state))
		if err != nil {
			return err
		}
		dropped, err = v.DropOldKeys(ctx)
		return err
	})
}
