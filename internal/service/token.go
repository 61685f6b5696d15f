package service

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/user"
	"time"

	"keenlodge/internal/access"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/right"
	"keenlodge/internal/records"
	"keenlodge/internal/trail"
)

// NewToken makes a token in a lodge's database, with no service asked: whoever can open the database is its administrator. The trail has it.
func NewToken(ctx context.Context, database, name string, grants []right.Grant, good time.Duration) (secret string, expires time.Time, err error) {
	rec, err := records.Open(ctx, database)
	if err != nil {
		return "", time.Time{}, err
	}
	defer rec.Close()
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	who := "this host"
	if u, err := user.Current(); err == nil {
		who += " (" + u.Username + ")"
	}
	begun, err := trail.New(rec, log).Begin(ctx, trail.Deed{Who: who, Verb: "new-token", Target: "/api/v1/tokens/" + name})
	if err != nil {
		return "", time.Time{}, err
	}
	t, secret, err := access.New(rec, log).NewToken(ctx, who, name, grants, good)
	if err != nil {
		begun.End(ctx, deed.Refused, fault.Text(err))
		return "", time.Time{}, fmt.Errorf("make a token on this host: %s", fault.Text(err))
	}
	begun.End(ctx, deed.Done, "")
	return secret, t.Expires, nil
}
