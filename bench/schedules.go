package main

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium/dir"
)

// manyPolicies is how many policies the scheduler is measured with.
const manyPolicies = 10_000

// scheduled measures how late runs are queued in a lodge of many policies: first where ten come due in each second, then where all do in
// the same one.
func scheduled(ctx context.Context, p *demo.Place) error {
	_, db, shelf, err := startEmpty(ctx, p)
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	if err := late(ctx, p, db, shelf, 30, 10); err != nil {
		return err
	}
	return late(ctx, p, db, shelf, 1, manyPolicies)
}

// late applies a site of which so many policies come due in each of so many seconds, the others later, and looks from outside, a hundred
// times a second, how long the oldest due one waits. A policy's next moment moves on in the transaction that queues its run.
func late(ctx context.Context, p *demo.Place, db *pgx.Conn, shelf string, seconds, each int) error {
	c, err := p.Client()
	if err != nil {
		return err
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
		return err
	}
	if time.Now().After(at) {
		return fmt.Errorf("applying the site took too long")
	}
	var worst float64
	for last := at.Add(time.Duration(seconds) * time.Second); ; {
		var waits float64
		var due int
		err := db.QueryRow(ctx, "select coalesce(max(extract(epoch from clock_timestamp() - next_due)), 0), count(*) from policies where next_due <= clock_timestamp()").Scan(&waits, &due)
		if err != nil {
			return err
		}
		worst = max(worst, waits)
		if due == 0 && time.Now().After(last) {
			fmt.Printf("%d policies, %d due in each of %d s: the latest run was queued %.2f s after its moment\n", manyPolicies, each, seconds, worst)
			return nil
		}
		if worst > 60 {
			return fmt.Errorf("%d runs are not queued a minute after their moment", due)
		}
		time.Sleep(10 * time.Millisecond)
	}
}
