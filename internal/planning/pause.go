package planning

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/records"
)

// Pause keeps a policy from running until a moment, or until somebody resumes it (the zero time). who and why are shown.
func (pl *Planning) Pause(ctx context.Context, policy, who, why string, until time.Time) (records.Pause, error) {
	p := records.Pause{}
	if err := pl.exists(ctx, policy); err != nil {
		return p, err
	}
	now := time.Now()
	p.Since, p.Why, p.By = &now, why, who
	if !until.IsZero() {
		if !until.After(now) {
			return p, fmt.Errorf("%w: %s lies in the past; name a later end, or none", fault.ErrInvalid, until.Format(time.RFC3339))
		}
		p.Until = &until
	}
	return p, pl.rec.PausePolicy(ctx, policy, p)
}

// Resume ends a policy's pause. What came due meanwhile was skipped, and is not made up for.
func (pl *Planning) Resume(ctx context.Context, policy string) error {
	if err := pl.exists(ctx, policy); err != nil {
		return err
	}
	pauses, err := pl.Pauses(ctx)
	if err != nil {
		return err
	}
	if !pauses[policy].Holds(time.Now()) {
		return fmt.Errorf("%w: %s is not paused", fault.ErrConflict, policy)
	}
	return pl.rec.PausePolicy(ctx, policy, records.Pause{})
}

// exists makes sure that the site has a policy.
func (pl *Planning) exists(ctx context.Context, policy string) error {
	s, err := pl.rec.Site(ctx)
	if err == nil {
		_, err = s.Planned(policy)
	}
	return err
}

// Pauses lists the policies' pauses, by name.
func (pl *Planning) Pauses(ctx context.Context) (map[string]records.Pause, error) {
	standings, err := pl.rec.PolicyStandings(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]records.Pause{}
	for _, s := range standings {
		out[s.Name] = s.Pause
	}
	return out, nil
}
