package lodge

import (
	"context"
	"time"

	"keenlodge/internal/wire"
)

// addDoors adds to a standing what a person should know of those who come in.
func (l *Lodge) addDoors(ctx context.Context, out *wire.Standing, now time.Time) error {
	ending, err := l.Access.Ending(ctx, now)
	for _, t := range ending {
		if len(out.Notices) < namesShown {
			out.Notices = append(out.Notices, wire.Notice{On: "token " + t.Name, Text: "it is in use, and ends on " + t.Expires.Format("Mon 2 Jan") + "; renew it: keenlodge token renew " + t.Name})
		}
	}
	return err
}
