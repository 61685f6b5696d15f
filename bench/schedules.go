package main

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium/dir"
)

// manyPolicies is how many policies the scheduler is measured with.
const manyPolicies = 10_000

// schedules measures how late runs are queued in a lodge of many policies: first where ten come due in each second, then where all do in
// the same one.
func schedules(ctx context.Context, p *demo.Place, r *report.Report) error {
	_, db, shelf, err := startEmpty(ctx, p)
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	for _, v := range []struct{ seconds, each int }{{10, 10}, {1, manyPolicies}} {
		worst, err := late(ctx, p, db, shelf, v.seconds, v.each)
		if err != nil {
			return err
		}
		r.Add(fmt.Sprintf("%d policies, %d due in each of %d s: the latest run was queued after its moment", manyPolicies, v.each, v.seconds), "s", 1, worst)
	}
	return nil
}

// late applies a site of which so many policies come due in each of so many seconds, the others later, and looks from outside, a hundred
// times a second, how long the oldest due one waits. A policy's next moment moves on in the transaction that queues its run.
func late(ctx context.Context, p *demo.Place, db *pgx.Conn, shelf string, seconds, each int) (worst float64, err error) {
	c, err := p.Client()
	if err != nil {
		return 0, err
	}
	// The first moment must lie behind the time that applying takes.
	at := time.Now().UTC().Truncate(time.Second).Add(25 * time.Second)
	s := site.Site{Zone: "UTC", Stores: map[string]site.Store{"quay-shelf": {Medium: "dir", Layout: "pooled", Settings: &dir.Settings{Folder: shelf}}}, Policies: map[string]site.Policy{}}
	for i := range manyPolicies {
		moment := at.Add(6 * time.Hour)
		if i < seconds*each {
			moment = at.Add(time.Duration(i/each) * time.Second)
		}
		s.Policies[fmt.Sprintf("policy-%05d", i)] = site.Policy{Machines: []string{"nobody-*"}, Store: "quay-shelf", Rotation: "newest 1",
			Schedules: []site.Schedule{{When: fmt.Sprintf("RRULE:FREQ=DAILY;BYHOUR=%d;BYMINUTE=%d;BYSECOND=%d", moment.Hour(), moment.Minute(), moment.Second())}}}
	}
	if _, err := c.ApplySite(ctx, s, false); err != nil {
		return 0, err
	}
	if time.Now().After(at) {
		return 0, fmt.Errorf("applying the site took too long")
	}
	for last := at.Add(time.Duration(seconds) * time.Second); ; {
		var waits float64
		var due int
		err := db.QueryRow(ctx, "select coalesce(max(extract(epoch from clock_timestamp() - next_due)), 0), count(*) from policies where next_due <= clock_timestamp()").Scan(&waits, &due)
		if err != nil {
			return 0, err
		}
		worst = max(worst, waits)
		if due == 0 && time.Now().After(last) {
			return worst, nil
		}
		if worst > 60 {
			return 0, fmt.Errorf("%d runs are not queued a minute after their moment", due)
		}
		time.Sleep(10 * time.Millisecond)
	}
}
