package show

import (
	"context"
	"fmt"

	"keenlodge/demo"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/site"
	"keenlodge/internal/standin/islet"
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
