package show

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"time"

	"keenlodge/internal/core/copying"
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
	all.Copies = map[string]site.Copy{"to-north-pier": {From: "quay-shelf", To: "north-pier", Machines: []string{"tickets-db", "timetable", "crew-rota"}, Images: copying.OfEachDay,
		Schedules: []string{"every day at 04:00"}, Bandwidth: []string{"2 MiB mon-fri 08:00-18:00"}, Windows: []string{"never 08:00-18:00"}, TasksAtOnce: 1, Rotation: "14 daily, 8 weekly"}}
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
	for _, l := range log {
		if m := says.FindStringSubmatch(l.Text); m != nil && l.Kind == corerun.Note {
			took := time.Duration(0)
			for _, t := range r.Tasks {
				if t.Machine == l.Machine {
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
	if copied != 3 {
		return fmt.Errorf("three images should have been copied to north-pier, not %d", copied)
	}
	for _, l := range log {
		if strings.HasPrefix(l.Text, "3 images of ") {
			s.done("copies", "%s", l.Text)
		}
	}
	return nil
}
