package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/demo"
	"keenlodge/internal/core/site"
)

// manyPolicies is how many policies the scheduler is measured with; all are due in the same second.
const manyPolicies = 10_000

// scheduled measures how late the runs of many policies are queued that are due at one moment.
func scheduled(ctx context.Context, p *demo.Place) error {
	if err := p.StartDatabase(ctx); err != nil {
		return err
	}
	if _, err := p.StartService(ctx); err != nil {
		return err
	}
	c, err := p.Client()
	if err != nil {
		return err
	}
	shelf := filepath.Join(folder, "many")
	if err := os.MkdirAll(shelf, 0o711); err != nil {
		return err
	}
	begun := time.Now()
	// The moment must lie behind the time that applying takes.
	at := begun.UTC().Truncate(time.Second).Add(75 * time.Second)
	s := site.Site{Zone: "UTC", Stores: map[string]site.Store{"quay-shelf": {Medium: "dir", Layout: "pooled", Folder: shelf}}, Policies: map[string]site.Policy{}}
	for i := range manyPolicies {
		s.Policies[fmt.Sprintf("policy-%05d", i)] = site.Policy{Machines: []string{"nobody-*"}, Store: "quay-shelf", Rotation: "newest 1",
			Schedules: []site.Schedule{{When: fmt.Sprintf("RRULE:FREQ=DAILY;BYHOUR=%d;BYMINUTE=%d;BYSECOND=%d", at.Hour(), at.Minute(), at.Second())}}}
	}
	if _, err := c.ApplySite(ctx, s, false); err != nil {
		return err
	}
	fmt.Printf("site of %d policies applied in %.1f s\n", manyPolicies, time.Since(begun).Seconds())
	if time.Now().After(at) {
		return fmt.Errorf("applying took longer than %s", time.Since(begun))
	}
	pass, err := os.ReadFile(filepath.Join(folder, "pgpass"))
	if err != nil {
		return err
	}
	os.Setenv("PGPASSFILE", filepath.Join(folder, "pgpass"))
	db, err := pgx.Connect(ctx, "postgres://lodge@127.0.0.1:"+strings.Split(string(pass), ":")[1]+"/postgres?sslmode=disable")
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	// The moment at which a run can be seen is what counts, so it is looked for from outside, a hundred times a second.
	var half float64
	for {
		var n int
		if err := db.QueryRow(ctx, "select count(*) from runs where due is not null").Scan(&n); err != nil {
			return err
		}
		late := time.Since(at).Seconds()
		if half == 0 && n >= manyPolicies/2 {
			half = late
		}
		if n == manyPolicies {
			fmt.Printf("%d policies due at once: half of their runs were queued after %.2f s, all after %.2f s\n", n, half, late)
			return nil
		}
		if late > 60 {
			return fmt.Errorf("only %d of %d runs were queued a minute after their moment", n, manyPolicies)
		}
		time.Sleep(10 * time.Millisecond)
	}
}
