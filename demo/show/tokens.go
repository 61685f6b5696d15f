package show

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"keenlodge/internal/client"
	"keenlodge/internal/wire"
)

// revokedWithin is how soon a token that is revoked must be refused.
const revokedWithin = time.Second

// door shows who may come in: a token for the pier alone, what it may and may not, its end, and what the trail has of it.
func (s *show) door(ctx context.Context) error {
	token, err := s.c.NewToken(ctx, "pier-watch", wire.TokenSpec{Roles: []string{"operator of places north-pier"}, TokenTime: wire.TokenTime{For: "8 hours"}})
	if err != nil {
		return err
	}
	pier := client.New(s.p.URL(), token.Secret)
	machines, _, err := pier.Machines(ctx, wire.MachineFilter{})
	if err != nil {
		return err
	}
	all, _, err := s.c.Machines(ctx, wire.MachineFilter{})
	if err != nil {
		return err
	}
	for _, m := range machines {
		if m.Hypervisor != "pier-2" {
			return fmt.Errorf("pier-watch sees %s on %s", m.Name, m.Hypervisor)
		}
	}
	if len(machines) == 0 || len(machines) == len(all) {
		return fmt.Errorf("pier-watch sees %d of %d machines", len(machines), len(all))
	}
	refused := func(err error, status int) bool {
		var p *client.Problem
		return errors.As(err, &p) && p.Status == status
	}
	if _, err := pier.RunPolicy(ctx, "nightly-guests", ""); !refused(err, http.StatusNotFound) {
		return fmt.Errorf("pier-watch may run nightly-guests, which covers other machines, too: %v", err)
	}
	if _, err := pier.NewToken(ctx, "mine", wire.TokenSpec{Roles: []string{"administrator"}}); !refused(err, http.StatusForbidden) {
		return fmt.Errorf("pier-watch may make tokens: %v", err)
	}
	s.c.Reason = "the watch is over"
	_, err = s.c.RevokeToken(ctx, "pier-watch")
	s.c.Reason = ""
	if err != nil {
		return err
	}
	revoked := time.Now()
	for {
		_, err := pier.Me(ctx)
		if refused(err, http.StatusUnauthorized) {
			break
		}
		if time.Since(revoked) > revokedWithin {
			return fmt.Errorf("pier-watch was revoked %s ago and is not refused: %v", time.Since(revoked), err)
		}
	}
	check, err := s.c.VerifyTrail(ctx)
	if err != nil {
		return err
	}
	if len(check.Found) > 0 {
		return fmt.Errorf("the trail is not as it was written: %s", check.Found[0])
	}
	deeds, _, err := s.c.Trail(ctx, wire.DeedFilter{Who: "pier-watch", Result: "refused"})
	if err != nil {
		return err
	}
	s.done("door", "pier-watch, operator of places north-pier, saw %d of %d machines; %d of its calls were refused, and after its end all; the trail's %d lines hang together", len(machines), len(all), len(deeds), check.Lines)
	return nil
}
