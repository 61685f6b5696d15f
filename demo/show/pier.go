package show

import (
	"context"
	"fmt"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/probe"
	"keenlodge/internal/wire"
)

// pierGuests starts the hypervisor on the north pier, which has an SSH server, and its guests; they boot while other things are done.
func (s *show) pierGuests(ctx context.Context) error {
	if err := s.p.Pier.Start(ctx); err != nil {
		return err
	}
	if err := s.p.Pier.OpenSSH(ctx); err != nil {
		return err
	}
	for _, g := range s.p.Pier.Guests {
		if err := s.p.Pier.MakeGuest(ctx, g); err != nil {
			return err
		}
	}
	s.done("pier", "pier-2: a second private libvirt, behind an SSH server, with crew-rota and harbour-radio")
	return nil
}

// pier adds the hypervisor on the north pier, by SSH, and backs its guests up.
func (s *show) pier(ctx context.Context) error {
	if err := s.p.Pier.AwaitGuest(ctx, "crew-rota"); err != nil {
		return err
	}
	spec := s.p.Pier.OverSSH()
	spec.Place = "north-pier"
	added, err := s.c.AddHypervisor(ctx, "pier-2", wire.HypervisorAddition{Spec: spec})
	if err != nil {
		return err
	}
	if probe.Worst(added.Steps) != probe.OK || !added.Added {
		return fmt.Errorf("trying pier-2 should have gone well: %+v", added.Steps)
	}
	s.done("hypervisor", "pier-2 added by SSH, %d steps tried: %s", len(added.Steps), added.Steps[3].Text)
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	p := all.Policies["nightly-guests"]
	p.Machines = append(p.Machines, "crew-rota", "harbour-radio")
	if _, err := s.setPolicy(ctx, "nightly-guests", p); err != nil {
		return err
	}
	r, err := s.runOf(ctx, "nightly-guests", "")
	if err != nil {
		return err
	}
	if len(r.Tasks) != 5 {
		return fmt.Errorf("nightly-guests should have captured five machines on two hosts, not %d", len(r.Tasks))
	}
	for _, t := range r.Tasks {
		if t.Machine == "crew-rota" {
			s.done("far", "nightly-guests: 5 machines on two hosts; crew-rota by SSH: read %.1f MiB, stored %.1f MiB, for most of it is as on the others", float64(t.Done)/(1<<20), float64(t.Stored)/(1<<20))
		}
	}
	return nil
}

// move moves a guest that runs to the other host; its set goes on with what changed.
func (s *show) move(ctx context.Context) error {
	before, err := s.newest(ctx, "timetable")
	if err != nil {
		return err
	}
	if err := s.p.Quay.Move(ctx, "timetable", s.p.Pier); err != nil {
		return err
	}
	r, err := s.runOf(ctx, "nightly-guests", "")
	if err != nil {
		return err
	}
	id, err := s.newest(ctx, "timetable")
	if err != nil {
		return err
	}
	m, err := s.c.Image(ctx, id)
	if err != nil {
		return err
	}
	for _, t := range r.Tasks {
		if t.Machine == "timetable" && (t.Hypervisor != "pier-2" || m.Run != r.ID || m.Capture == image.Full && m.CaptureWhy != "") {
			return fmt.Errorf("timetable should have been read as what changed since %s, on pier-2: it is %s since %s, from %s: %s", before, m.Capture, m.Since, t.Hypervisor, m.CaptureWhy)
		}
	}
	s.done("move", "timetable moved from quay-1 to pier-2 while it ran, and its set goes on: image %s is %s since %s", id, m.Capture, m.Since)
	return nil
}
