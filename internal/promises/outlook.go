package promises

import (
	"context"
	"time"

	"keenlodge/internal/core/image"
	"keenlodge/internal/core/promise"
	"keenlodge/internal/core/site"
	"keenlodge/internal/trials"
)

// step is in what steps hours are counted.
const step = 15 * time.Minute

// Outlook tells whether what is owed can be kept with the hosts that there are.
func (p *Promises) Outlook(ctx context.Context) ([]promise.Outlook, error) {
	machines, err := p.Machines(ctx)
	if err != nil || len(machines) == 0 {
		return nil, err
	}
	s, err := p.rec.Site(ctx)
	if err != nil {
		return nil, err
	}
	took, err := p.rec.ProofTimes(ctx)
	if err != nil {
		return nil, err
	}
	owed := make([]promise.Promise, len(machines))
	for i, m := range machines {
		owed[i] = m.Owed
	}
	means := map[image.Level]promise.Means{}
	for _, l := range image.Levels {
		means[l] = promise.Means{Each: took[l], Open: atOnce * 7 * 24 * time.Hour}
	}
	means[image.ByBoot] = promise.Means{Each: took[image.ByBoot], Open: open(s, time.Now())}
	return promise.Outlooks(owed, means), nil
}

// open is for how long in the next week places of hosts are open to trials that nobody asked for, all together.
func open(s site.Site, now time.Time) (all time.Duration) {
	names, _ := trials.Hosts(s) // none is no time
	now = now.In(s.Location())
	for _, name := range names {
		t := s.Hypervisors[name].Trials
		hours := t.Open()
		for at := now; at.Before(now.Add(7 * 24 * time.Hour)); at = at.Add(step) {
			if opens, ok := hours.Opens(at); ok && !opens.After(at) {
				all += time.Duration(t.AtOnce) * step
			}
		}
	}
	return all
}
