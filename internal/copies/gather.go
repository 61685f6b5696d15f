package copies

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"keenlodge/internal/core/fault"
	"keenlodge/internal/core/image"
	"keenlodge/internal/core/run"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/runs"
)

// A policy that changed its store may take its images along: each is copied from a former store into the policy's, where it is the policy's own as
// the one before was, and then that one is dropped, unless it is pinned or locked. It is dropped as rotation does, so that it can be brought back.

// Gather queues a run that takes a policy's images along from its former stores into its store, for who.
func (c *Copies) Gather(ctx context.Context, policy, who string) (records.Run, error) {
	s, err := c.rec.Site(ctx)
	if err != nil {
		return records.Run{}, err
	}
	spec, err := s.Policy(policy)
	if err != nil {
		return records.Run{}, err
	}
	if len(spec.Formerly) == 0 {
		return records.Run{}, fmt.Errorf("%w: policy %s names no store in which its images were before; write it into its entry, such as formerly: [annex]", fault.ErrConflict, policy)
	}
	return c.runs.Queue(ctx, runs.Order{Kind: run.Copy, Cause: run.Hand, Who: who, Request: Request{Gather: policy}})
}

// gather is a run of [Copies.Gather].
func (h handler) gather(ctx context.Context, r *runs.Run, s site.Site, policy string) error {
	spec, err := s.Policy(policy)
	if err != nil {
		return err
	}
	k := &round{Run: r, c: h.c, site: s, fresh: map[string]bool{}, policy: policy}
	for _, from := range spec.Formerly {
		k.rule = site.Copy{From: from, To: spec.Store}
		if err := k.gatherFrom(ctx, from, spec.Store); err != nil {
			return fmt.Errorf("from store %s: %w", from, err)
		}
	}
	if k.result.Images > 0 {
		k.Log(ctx, "", "%s", k.result.Says())
	}
	return k.SetResult(ctx, k.result)
}

func (k *round) gatherFrom(ctx context.Context, from, to string) error {
	lying, err := k.c.rec.LyingIn(ctx, from, nil)
	if err != nil {
		return err
	}
	due, err := k.missing(ctx, k.own(lying), to)
	if err != nil {
		return err
	}
	if len(due) > 0 {
		if err := k.reach(ctx); err != nil {
			return err
		}
		if err := k.carryAll(ctx, ctx, due); err != nil {
			return err
		}
	}
	left, err := k.letGo(ctx, k.own(lying), to)
	switch {
	case err != nil:
		return err
	case left == 0:
		k.Log(ctx, "", "nothing of policy %s is left in store %s; formerly: can go out of its entry", k.policy, from)
	default:
		k.Warn(ctx, "", "%d images of policy %s stay in store %s: what is pinned, locked, damaged, or leaned on by such; unpin it, or gather again when its lock is over", left, k.policy, from)
	}
	return nil
}

// own are the policy's own images that are there.
func (k *round) own(lying []records.Lying) (out []records.Lying) {
	for _, m := range lying {
		if m.Policy == k.policy && m.CopiedBy == "" && m.Gone == nil && m.State != image.Writing {
			out = append(out, m)
		}
	}
	return out
}

// missing are those of the images that can be brought over and are not in a store as the policy's own.
func (k *round) missing(ctx context.Context, own []records.Lying, store string) ([]records.Lying, error) {
	there, err := k.there(ctx, store)
	return slices.DeleteFunc(slices.Clone(own), func(m records.Lying) bool { return there[m.Origin] != "" || m.State != image.Usable }), err
}

// there are the policy's own usable images in a store, by their origins.
func (k *round) there(ctx context.Context, store string) (map[string]string, error) {
	lying, err := k.c.rec.LyingIn(ctx, store, nil)
	out := map[string]string{}
	for _, m := range k.own(lying) {
		if m.State == image.Usable {
			out[m.Origin] = m.ID
		}
	}
	return out, err
}

// letGo drops the images that are over there now, the newest first, so that none goes on which one leans that stays. left are those that stay.
func (k *round) letGo(ctx context.Context, own []records.Lying, to string) (left int, err error) {
	there, err := k.there(ctx, to)
	if err != nil {
		return 0, err
	}
	slices.SortStableFunc(own, func(a, b records.Lying) int { return cmp.Or(b.Taken.Compare(a.Taken), cmp.Compare(b.ID, a.ID)) })
	leaned := map[string]bool{}
	for _, m := range own {
		twin := there[m.Origin]
		if twin == "" || leaned[m.ID] || m.Pinned || m.Locked != nil && m.Locked.After(time.Now()) {
			leaned[m.Base] = true
			left++
			continue
		}
		if err := k.c.rec.DropImages(ctx, []records.Drop{{ID: m.ID, Why: fmt.Sprintf("it was taken along into store %s, as image %s", to, twin)}}); err != nil {
			k.Log(ctx, m.Machine, "image %s stays: %v", m.ID, err)
			leaned[m.Base] = true
			left++
			continue
		}
		k.Log(ctx, m.Machine, "image %s is dropped: it was taken along as %s", m.ID, twin)
	}
	return left, nil
}
