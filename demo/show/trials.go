package show

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"keenlodge/demo"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// tried is how a drill went that was not waited for.
type tried struct {
	drill wire.Drill
	err   error
}

// beginTrials has the group come back from its images, while other things are done.
func (s *show) beginTrials(ctx context.Context) {
	go func() {
		r, err := s.c.StartDrill(ctx, wire.DrillOrder{Names: []string{"ticketing"}, Note: "as if the quay had burnt down"})
		if err == nil {
			r, err = s.ended(ctx, r)
		}
		d := wire.Drill{}
		if err == nil {
			d, err = s.c.Drill(ctx, r.ID)
		}
		s.tried <- tried{d, err}
	}()
}

// trials shows that what needs each other comes up from its images, that what does not is told apart, and what is promised.
func (s *show) trials(ctx context.Context) error {
	group := <-s.tried
	if group.err != nil {
		return fmt.Errorf("drill of group ticketing: %w", group.err)
	}
	for _, t := range group.drill.Machines {
		m, err := s.c.Image(ctx, t.Image)
		if err != nil {
			return err
		}
		p := m.Proofs[0]
		for _, one := range m.Proofs {
			if one.Run == t.Trial {
				p = one
			}
		}
		if !p.Passed || p.Report == nil || p.Report.Lag == nil {
			return fmt.Errorf("%s should have come up from its image: %s", t.Machine, p.Error)
		}
		s.done("trial", "%s came up from image %s in a closed network in %.0f s, port 8080 open, its data %.0f s behind; %.1f %% of its disks were read", t.Machine, m.ID, p.Report.Up.Seconds(), p.Report.Lag.Seconds(), 100*float64(p.Report.Read)/float64(p.Report.Disks))
	}
	s.done("drill", "%s: %s; its page, with pictures: keenlodge drill page %s", group.drill.Of, group.drill.Sum, group.drill.Run)
	if _, err := s.p.Quay.MakeBroken(ctx, demo.Clock, "berth-sim"); err != nil {
		return err
	}
	if _, err := s.setPolicy(ctx, "weekly-clock", site.Policy{Machines: []string{demo.Clock}, Store: "quay-shelf", Rotation: "newest 2"}); err != nil {
		return err
	}
	r, err := s.runOf(ctx, "weekly-clock", "")
	if err != nil {
		return err
	}
	id := r.Tasks[0].Image
	r, err = s.c.Prove(ctx, id, "boot")
	if err == nil {
		_, err = s.c.Watch(ctx, r.ID, func(wire.Run) {})
	}
	if err != nil {
		return err
	}
	m, err := s.c.Image(ctx, id)
	if err != nil {
		return err
	}
	if len(m.Proofs) == 0 || m.Proofs[0].Passed || len(m.Proofs[0].Report.Exhibits) == 0 {
		return errors.New("the guest whose disk was made not to boot should have failed its trial, with pictures")
	}
	s.done("trial", "%s did not: %s; %d pictures are kept: keenlodge image evidence %s", demo.Clock, m.Proofs[0].Error, len(m.Proofs[0].Report.Exhibits), id)
	return nil
}

// promises has a policy owe something, and shows what of that is kept.
func (s *show) promises(ctx context.Context) error {
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	p := all.Policies["nightly-guests"]
	p.Promise = "26 hours, boot weekly, 2 copies, 2 media, 1 elsewhere, back in 1 hour"
	if _, err := s.setPolicy(ctx, "nightly-guests", p); err != nil {
		return err
	}
	var found []wire.OwedMachine
	err = demo.Until(ctx, 30*time.Second, "what is promised", func() error {
		found, _, err = s.c.Promises(ctx, "", "", wire.Page{})
		if err == nil && len(found) == 0 {
			err = errors.New("nothing is owed to anybody")
		}
		return err
	})
	if err != nil {
		return err
	}
	kept := 0
	var broken []string
	for _, m := range found {
		for _, i := range m.Items {
			if i.Standing == promise.Kept {
				kept++
			} else {
				broken = append(broken, m.Machine+" ("+i.Why+")")
			}
		}
	}
	if kept == 0 || len(broken) == 0 {
		return fmt.Errorf("of what is promised some should be kept and some not: %+v", found)
	}
	s.done("promise", "nightly-guests owes %q to %d machines: %d of that is kept, and not: %s", p.Promise, len(found), kept, strings.Join(broken, ", "))
	return nil
}
