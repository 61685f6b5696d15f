package show

import (
	"context"
	"fmt"

	"keenlodge/demo"
	"keenlodge/internal/core/export"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/standin/islet"
	"keenlodge/internal/standin/skerry"
	"keenlodge/internal/wire"
)

// islet covers a guest of a hypervisor that has an interface of its own, which a stand-in shows.
func (s *show) islet(ctx context.Context) error {
	spec, c, err := s.p.StartStandin(ctx, islet.Kind, "islet-3")
	if err != nil {
		return err
	}
	defer c.Close()
	if err := s.p.MakeLighthouse(ctx, c); err != nil {
		return err
	}
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	spec.Place = "skerry"
	all.Hypervisors["islet-3"] = spec
	all.Policies["nightly-light"] = site.Policy{Machines: []string{demo.Lighthouse}, Store: "quay-shelf", Cycle: "full every 7th", Rotation: "newest 3", Prove: image.ByRead, Schedules: []site.Schedule{{When: "every day at 02:15"}}}
	if _, err := s.c.ApplySite(ctx, all, false); err != nil {
		return err
	}
	var read [2]int64
	for n := range read {
		r, err := s.c.RunPolicy(ctx, "nightly-light", "")
		if r, err = s.await(ctx, r, err); err != nil {
			return err
		}
		read[n] = r.Tasks[0].Done
	}
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Machine: demo.Lighthouse})
	if err != nil {
		return err
	}
	if m := images[0]; m.Capture != image.Incremental || m.Consistency != image.FileSystem {
		return fmt.Errorf("the second image of %s should be what changed, its writes held; it is %s, %s: %s", demo.Lighthouse, m.Capture, m.Consistency, m.CaptureWhy)
	}
	s.done("islet", "islet-3, a hypervisor with an interface of its own: %s by its snapshots and change identities, read %.1f MiB and then %.1f MiB", demo.Lighthouse, float64(read[0])/(1<<20), float64(read[1])/(1<<20))
	r, err := s.c.Restore(ctx, images[0].ID, wire.RestoreBody{As: "lighthouse-again", Start: true})
	if _, err = s.await(ctx, r, err); err != nil {
		return err
	}
	s.done("restore", "lighthouse-again made on islet-3 of image %s, and started", images[0].ID)
	return nil
}

// snapshot takes a moment in place by hand, and goes back to it.
func (s *show) snapshot(ctx context.Context) error {
	r, err := s.c.TakeSnapshot(ctx, demo.Lighthouse, wire.SnapshotBody{Note: "before the new lamp"})
	if _, err = s.await(ctx, r, err); err != nil {
		return err
	}
	found, err := s.c.Snapshots(ctx, wire.SnapshotFilter{Machine: demo.Lighthouse})
	if err != nil || len(found) != 1 {
		return fmt.Errorf("there should be one snapshot of %s, but there are %d: %w", demo.Lighthouse, len(found), err)
	}
	loss, err := s.c.SnapshotLoss(ctx, demo.Lighthouse, found[0].ID)
	if err != nil {
		return err
	}
	r, err = s.c.GoBack(ctx, demo.Lighthouse, found[0].ID, wire.BackBody{Confirm: demo.Lighthouse, Off: true})
	if _, err = s.await(ctx, r, err); err != nil {
		return err
	}
	s.done("in place", "lighthouse: a snapshot before the new lamp (%s), and back to it: %.1f MiB written since were shown before, and are lost", found[0].Consistency, float64(loss.Bytes)/(1<<20))
	return nil
}

// account covers what is in a cloud account: snapshots in place by tags, and images that leave it; one comes back in the account's other region.
func (s *show) account(ctx context.Context) error {
	spec, c, err := s.p.StartStandin(ctx, skerry.Kind, "skerry")
	if err != nil {
		return err
	}
	defer c.Close()
	if err := s.p.MakeArchive(ctx, c); err != nil {
		return err
	}
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	spec.Place = "skerry"
	all.Hypervisors["skerry"] = spec
	all.Policies["hourly-skerry"] = site.Policy{Tags: "kind=instance and tier=silver", Scope: image.InPlace, AlsoIn: []string{"skerry-west"}, Rotation: "24 hourly, 7 daily", Schedules: []site.Schedule{{When: "every 1 hours from 00:05"}}}
	all.Policies["weekly-skerry"] = site.Policy{Tags: "kind=instance and role=archive", Store: "quay-shelf", Cycle: "full once", Rotation: "newest 4", Prove: image.ByRead, Schedules: []site.Schedule{{When: "every sun at 04:00"}}}
	if _, err := s.c.ApplySite(ctx, all, false); err != nil {
		return err
	}
	r, err := s.c.RunPolicy(ctx, "hourly-skerry", "")
	if r, err = s.await(ctx, r, err); err != nil {
		return err
	}
	kept, err := s.c.Snapshots(ctx, wire.SnapshotFilter{Policy: "hourly-skerry"})
	if err != nil || len(kept) != 3 {
		return fmt.Errorf("there should be a snapshot of each of the two instances of skerry, and a copy of one, but there are %d: %w", len(kept), err)
	}
	s.done("account", "skerry, a cloud account: %d instances in two regions, chosen by tags, have a snapshot in place of all their volumes; that of berth-archive is in the other region, too", len(r.Tasks))
	for range 2 {
		r, err := s.c.RunPolicy(ctx, "weekly-skerry", "")
		if _, err = s.await(ctx, r, err); err != nil {
			return err
		}
	}
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Machine: demo.Archive})
	if err != nil {
		return err
	}
	if m := images[0]; m.Capture != image.Incremental {
		return fmt.Errorf("the second image of %s should be what changed between two snapshots; it is %s: %s", demo.Archive, m.Capture, m.CaptureWhy)
	}
	r, err = s.c.Restore(ctx, images[0].ID, wire.RestoreBody{As: "berth-archive-again", Hypervisor: "skerry", Pool: "skerry-west", Start: true})
	if _, err = s.await(ctx, r, err); err != nil {
		return err
	}
	s.done("restore", "berth-archive left the account for quay-shelf, and is an instance again, in its other region")
	return nil
}

// appliance covers what can only hand out exports of itself: one is pushed here, opened, tried on a fresh one, and taken back.
func (s *show) appliance(ctx context.Context) error {
	spec, c, err := s.p.StartExchange(ctx, "exchange", demo.Gateway)
	if err != nil {
		return err
	}
	defer c.Close()
	spare, other, err := s.p.StartExchange(ctx, "exchange-spare", "sound-spare")
	if err != nil {
		return err
	}
	defer other.Close()
	if err := demo.FillExchange(ctx, c, 40_000); err != nil {
		return err
	}
	all, err := s.c.Site(ctx)
	if err != nil {
		return err
	}
	spec.Place, spare.Place = "harbour-office", "harbour-office"
	spec.Export.By, spec.Export.Spare = export.BySFTP, "exchange-spare"
	all.Hypervisors["exchange"], all.Hypervisors["exchange-spare"] = spec, spare
	all.Policies["nightly-exchange"] = site.Policy{Machines: []string{demo.Gateway}, Scope: image.Exported, LeaveOut: []string{"history"}, Store: "quay-shelf", Rotation: "7 daily, 4 weekly", Prove: image.ByMount, Schedules: []site.Schedule{{When: "every day at 04:10"}}}
	if _, err := s.c.ApplySite(ctx, all, false); err != nil {
		return err
	}
	r, err := s.c.RunPolicy(ctx, "nightly-exchange", "")
	if _, err = s.await(ctx, r, err); err != nil {
		return err
	}
	images, _, err := s.c.Images(ctx, wire.ImageFilter{Machine: demo.Gateway})
	if err != nil || len(images) != 1 {
		return fmt.Errorf("there should be one image of %s, but there are %d: %w", demo.Gateway, len(images), err)
	}
	m := images[0]
	s.done("appliance", "sound-gateway, an appliance of two nodes: the active one checked its database and pushed an export by SFTP to an account made for it; opened with its passphrase, %d parts", len(m.Files.Parts))
	r, err = s.c.Prove(ctx, m.ID, image.ByRestore)
	if _, err = s.await(ctx, r, err); err != nil {
		return err
	}
	s.done("proof", "a fresh appliance beside it took the export back, part by part as it was exported, and was reset")
	if err := demo.FillExchange(ctx, c, 10); err != nil {
		return err
	}
	r, err = s.c.HandBack(ctx, m.ID, wire.HandbackBody{Confirm: demo.Gateway})
	if _, err = s.await(ctx, r, err); err != nil {
		return err
	}
	s.done("restore", "sound-gateway took its export back; of another build it would have been refused before it began")
	return nil
}
