package show

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"keenlodge/internal/core/rotation"
	corerun "keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// copies keeps the newest images of quay-shelf on the north pier as well, sealed; what one machine sent the next does not send again.
func (s *show) copies(ctx context.Context) error {
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	all.Copies = map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"tickets-db", "timetable", "crew-rota"},
		Schedules: []string{"every day at 04:00"}, Bandwidth: []string{"2 MiB mon-fri 08:00-18:00"}, Windows: []string{"never 08:00-18:00"}, TasksAtOnce: 1, Rotation: "newest 9", Locked: "14 days"}}
	if _, err := s.c.ApplySite(ctx, all, false); err != nil {
		return err
	}
	r, err := s.c.RunCopy(ctx, "to-north-pier", false, false)
	if r, err = s.await(ctx, r, err); err != nil {
		return err
	}
	log, err := s.c.RunLog(ctx, r.ID)
	if err != nil {
		return err
	}
	says := regexp.MustCompile(`^image \S+ is image \S+ in north-pier: (.*)`)
	shown := map[string]bool{}
	for _, l := range log { // of each machine the first, which is its newest
		if m := says.FindStringSubmatch(l.Text); m != nil && !shown[l.Machine] {
			shown[l.Machine] = true
			took := time.Duration(0)
			for _, t := range r.Tasks {
				if t.Machine == l.Machine && took == 0 {
					took = t.Ended.Sub(*t.Started)
				}
			}
			s.doneIn(took, "copy", "%s to north-pier, sealed: %s", l.Machine, m[1])
		}
	}
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Store: "north-pier"})
	if err != nil {
		return err
	}
	copied := 0
	for _, m := range images {
		if m.CopiedBy != "" {
			copied++
			if len(m.Also) != 1 || m.Also[0].Store != "quay-shelf" {
				return fmt.Errorf("image %s should be known to be the same as one on quay-shelf", m.ID)
			}
		}
	}
	if copied != len(r.Tasks) || len(shown) != 3 {
		return fmt.Errorf("%d images of three machines should have been copied to north-pier, not %d of %d", len(r.Tasks), copied, len(shown))
	}
	for _, l := range log {
		if l.Kind == corerun.Note && strings.HasPrefix(l.Text, fmt.Sprintf("%d images of ", copied)) {
			s.done("copies", "%s", l.Text)
		}
	}
	// A rule typed wrong, or by a thief, deletes nothing before its day.
	sets, err := s.c.PreviewRotation(ctx, "to-north-pier", "newest 1")
	if err != nil {
		return err
	}
	held, why := 0, ""
	for _, set := range sets {
		for _, m := range set.Images {
			if m.Verdict == rotation.Held && strings.Contains(m.Why, "locked until") {
				held, why = held+1, m.Why
			} else if m.Verdict == rotation.Drop {
				return fmt.Errorf("image %s should be locked, but would go: %s", m.ID, m.Why)
			}
		}
	}
	if held == 0 {
		return errors.New("by \"newest 1\" some copies should be held by their lock")
	}
	s.done("lock", "to-north-pier: \"newest 1\" would drop %d copies, and drops none: %s", held, why)
	return nil
}
