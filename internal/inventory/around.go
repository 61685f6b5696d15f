package inventory

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/source"
)

const (
	// surveyEvery is how often a host is asked for what stands around its machines, surveyAgain how soon after it did not answer.
	surveyEvery = 24 * time.Hour
	surveyAgain = time.Hour
	// keepAround is how long what is gone is kept.
	keepAround = 400 * 24 * time.Hour
)

// Survey asks the sources that were not asked today for what stands around their machines, and records it: who brings a machine back to a host
// that is new needs its networks and pools.
func (inv *Inventory) Survey(ctx context.Context) error {
	s, err := inv.rec.Site(ctx)
	if err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(asksAtOnce)
	names := slices.Sorted(maps.Keys(s.Hypervisors))
	errs := make([]error, len(names))
	for i, name := range names {
		due, err := inv.rec.ClaimSurvey(ctx, name, surveyEvery, surveyAgain)
		if err != nil {
			return errors.Join(err, group.Wait())
		}
		if due {
			group.Go(func() error {
				errs[i] = inv.survey(ctx, s, name)
				return nil
			})
		}
	}
	group.Wait()
	return errors.Join(errs...)
}

func (inv *Inventory) survey(ctx context.Context, s site.Site, name string) error {
	found, err := inv.around(ctx, s, name)
	problem := ""
	if err != nil && ctx.Err() == nil {
		problem = err.Error()
		inv.log.Warn("could not ask what stands around a hypervisor's machines; asking again in an hour", "hypervisor", name, "error", err)
	} else if err != nil {
		return err
	}
	return inv.rec.Surveyed(ctx, name, found, problem, keepAround)
}

func (inv *Inventory) around(ctx context.Context, s site.Site, name string) ([]records.Thing, error) {
	ctx, end := context.WithTimeoutCause(ctx, answerTime, fmt.Errorf("hypervisor %s: %w within %s", name, source.ErrUnreachable, answerTime))
	defer end()
	h, err := inv.Connect(ctx, s, name)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	surveyor, ok := h.(source.Surveyor)
	if !ok {
		return nil, nil
	}
	found, err := surveyor.Around(ctx)
	var out []records.Thing
	for _, t := range found {
		out = append(out, records.Thing{Kind: string(t.Kind), Name: t.Name, Definition: t.Definition})
	}
	return out, err
}

// Around lists what stood around a source's machines, by kind and name, the newest first.
func (inv *Inventory) Around(ctx context.Context, name string) ([]records.Thing, error) {
	s, err := inv.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	found, err := inv.rec.Things(ctx, name)
	if err == nil && len(found) == 0 {
		_, err = specOf(s, name)
	}
	return found, err
}
