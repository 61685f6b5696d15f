package lodge

import (
	"context"
	"fmt"
	"time"

	"keenlodge/internal/records"
)

// PausePolicy keeps a policy from running until a moment, or until somebody resumes it (the zero time). who and why are shown.
func (l *Lodge) PausePolicy(ctx context.Context, policy, who, why string, until time.Time) (records.Pause, error) {
	p := records.Pause{}
	if _, _, err := l.policy(ctx, policy); err != nil {
		return p, err
	}
	now := time.Now()
	p.Since, p.Why, p.By = &now, why, who
	if !until.IsZero() {
		if !until.After(now) {
			return p, fmt.Errorf("%w: %s lies in the past; name a later end, or none", ErrInvalid, until.Format(time.RFC3339))
		}
		p.Until = &until
	}
	return p, l.rec.PausePolicy(ctx, policy, p)
}

// ResumePolicy ends a policy's pause. What came due meanwhile was skipped, and is not made up for.
func (l *Lodge) ResumePolicy(ctx context.Context, policy string) error {
	if _, _, err := l.policy(ctx, policy); err != nil {
		return err
	}
	pauses, err := l.pauses(ctx)
	if err != nil {
		return err
	}
	if !pauses[policy].Holds(time.Now()) {
		return fmt.Errorf("%w: policy %s is not paused", ErrConflict, policy)
	}
	return l.rec.PausePolicy(ctx, policy, records.Pause{})
}

// pauses lists the policies' pauses, by name.
func (l *Lodge) pauses(ctx context.Context) (map[string]records.Pause, error) {
	standings, err := l.rec.PolicyStandings(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]records.Pause{}
	for _, s := range standings {
		out[s.Name] = s.Pause
	}
	return out, nil
}
