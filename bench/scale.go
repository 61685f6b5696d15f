package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/store/medium/dir"
)

// The seed of the section "scale".
const (
	seedMachines = 10_000
	seedPolicies = 100
	seedImages   = 100 // of each machine, one a day
	seedThere    = 30  // of those, the newest ones
	seedRuns     = 365 // of each policy
	seedTasks    = 8   // of each run, and a few more
)

// scale measures a lodge of ten thousand machines: pages, summaries, forecast and memory, through the HTTP interface.
func scale(ctx context.Context, p *demo.Place, r *report.Report) error {
	service, db, shelf, err := startEmpty(ctx, p)
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	c, err := p.Client()
	if err != nil {
		return err
	}
	// Nothing may come due while it is measured.
	moment := "every day at " + time.Now().UTC().Add(6*time.Hour).Format("15:04")
	s := site.Site{Zone: "UTC", Stores: map[string]site.Store{"quay-shelf": {Medium: "dir", Layout: site.Pooled, Settings: &dir.Settings{Folder: shelf}}}, Policies: map[string]site.Policy{}}
	for i := range seedPolicies {
		s.Policies[fmt.Sprintf("policy-%02d", i)] = site.Policy{Tags: fmt.Sprintf("fleet=%d", i), Store: "quay-shelf", Rotation: "newest 30", Schedules: []site.Schedule{{When: moment}}}
	}
	if _, err := c.ApplySite(ctx, s, false); err != nil {
		return err
	}
	begun := time.Now()
	if err := seed(ctx, db); err != nil {
		return err
	}
	fmt.Printf("seed: %d machines, %d policies, %d images of which %d are there, %d runs: made in %s\n", seedMachines, seedPolicies, seedMachines*seedImages, seedMachines*seedThere, seedPolicies*seedRuns, time.Since(begun).Round(time.Second))
	token, err := os.ReadFile(p.TokenFile())
	if err != nil {
		return err
	}
	m := measuring{url: p.URL(), token: strings.TrimSpace(string(token))}
	forgetPeak(service.PID())
	for _, page := range []struct {
		what, path string
		asked      float64
	}{
		{"first page of machines (100)", "/api/v1/machines?limit=100", 100}, {"images (100)", "/api/v1/images?limit=100", 100},
		{"runs (50, each with its first tasks)", "/api/v1/runs?limit=50", 100}, {"history (100)", "/api/v1/images?only_gone=true&limit=100", 100},
		{"one machine's images", "/api/v1/images?machine=guest-04711&limit=100", 100}, {"a policy's preview (10 machines, 30 images each)", "/api/v1/policies/policy-42/rotation", 100},
		{"list of stores", "/api/v1/stores", 50}, {"summary for the headline", "/api/v1/summary", 0}, {"lanes of 25 machines", "/api/v1/lanes?limit=25", 0}, {"policies", "/api/v1/policies", 0},
	} {
		half, most, err := m.page(ctx, page.path)
		if err != nil {
			return err
		}
		r.Add(page.what+": median", "ms", 0, half)
		r.Add(page.what+": p99", "ms", page.asked, most)
	}
	after, heap, err := consolePage(ctx, m.url, m.token)
	if err != nil {
		return err
	}
	r.Add("console: today's page usable in Chromium, by the page's own clock", "s", 3, after...)
	r.Add("memory of its scripts, garbage collected", "MB", 120, heap...)
	var forecasts []float64
	for range rounds {
		begun := time.Now()
		if _, err := m.get(ctx, "/api/v1/forecast?days=30"); err != nil {
			return err
		}
		forecasts = append(forecasts, time.Since(begun).Seconds())
	}
	r.Add("forecast of 30 days, all policies", "s", 3, forecasts...)
	r.Add("peak memory of the service in all of that", "MiB", 300, float64(peak(service.PID()))/1024)
	return manyMachines(r)
}

// startEmpty starts a service with no site, and gives a connection to its database and a folder for a store.
func startEmpty(ctx context.Context, p *demo.Place) (service *demo.Process, db *pgx.Conn, shelf string, err error) {
	if err = p.StartDatabase(ctx); err != nil {
		return
	}
	if service, err = p.StartService(ctx); err != nil {
		return
	}
	shelf = filepath.Join(folder, "many")
	if err = os.MkdirAll(shelf, 0o711); err != nil {
		return
	}
	db, err = database(ctx)
	return
}

func database(ctx context.Context) (*pgx.Conn, error) {
	file := filepath.Join(folder, "pgpass")
	pass, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	os.Setenv("PGPASSFILE", file)
	return pgx.Connect(ctx, "postgres://lodge@127.0.0.1:"+strings.Split(string(pass), ":")[1]+"/postgres?sslmode=disable")
}

// seed fills the records.
func seed(ctx context.Context, db *pgx.Conn) error {
	for _, sql := range []string{
		fmt.Sprintf(`insert into machines (id, name, label, hypervisor, uuid, state, tags, disks, seen)
			select 'u-' || i, 'guest-' || lpad(i::text, 5, '0'), 'guest-' || lpad(i::text, 5, '0'), 'quay-' || i %% 100, 'u-' || i, 'running',
			jsonb_build_object('fleet', (i %% %d)::text), '[{"target":"vda","format":"qcow2","size":21474836480}]', now() from generate_series(0, %d) i`, seedPolicies, seedMachines-1),
		fmt.Sprintf(`insert into images (id, machine, machine_id, policy, store, taken, state, scope, capture, consistency, disks, size, read, fresh, stored, took, gone, gone_why, in_store)
			select 'i' || lpad(to_hex(i * 1000 + n), 9, '0'), 'guest-' || lpad(i::text, 5, '0'), 'u-' || i, 'policy-' || lpad((i %% %d)::text, 2, '0'), 'quay-shelf',
			now() - (n * 24 + 10) * interval '1 hour' - i * interval '1 second', 'usable', 'machine', 'full', 'filesystem', '[{"target":"vda","size":21474836480}]', 21474836480, 6000000000, 300000000, 200000000, 60000000000,
			case when n >= %d then now() - n * interval '1 hour' end, case when n >= %[2]d then 'no clause keeps it' else '' end, n < %[2]d
			from generate_series(0, %d) i, generate_series(0, %d) n`, seedPolicies, seedThere, seedMachines-1, seedImages-1),
		fmt.Sprintf(`insert into proofs (image, level, passed, began, ended, program) select id, 'read', true, taken, taken, 'keenlodge' from images where gone is null limit %d`, seedMachines*seedThere),
		"update images set proven = 'read', proven_at = taken where gone is null",
		fmt.Sprintf(`insert into runs (id, kind, policy, cause, state, made, started, ended)
			select 'r' || lpad(to_hex(p * 1000 + n), 7, '0'), 'backup', 'policy-' || lpad(p::text, 2, '0'), 'schedule', 'done', at, at, at + interval '1 hour'
			from generate_series(0, %d) p, generate_series(0, %d) n, lateral (select now() - (n * 24 + 10) * interval '1 hour' - p * interval '1 second' as at) t`, seedPolicies-1, seedRuns-1),
		fmt.Sprintf(`insert into tasks (run, machine, machine_id, guest, hypervisor, store, state, started, ended, done, total, fresh, stored)
			select id, 'guest-' || lpad((k * 100)::text, 5, '0'), 'u-' || k * 100, 'guest', 'quay-1', 'quay-shelf', 'done', made, ended, 1, 1, 1, 1 from runs, generate_series(0, %d) k`, seedTasks-1),
		"vacuum analyze",
	} {
		if _, err := db.Exec(ctx, sql); err != nil {
			return fmt.Errorf("%.60s: %w", sql, err)
		}
	}
	return nil
}

// measuring asks a lodge as programs do.
type measuring struct{ url, token string }

func (m measuring) get(ctx context.Context, path string) (bytes int64, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, m.url+path, nil)
	if err != nil {
		return 0, err
	}
	req.Header.Set("Authorization", "Bearer "+m.token)
	r, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err
	}
	defer r.Body.Close()
	bytes, err = io.Copy(io.Discard, r.Body)
	if err == nil && r.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", path, r.Status)
	}
	return bytes, err
}

// page asks for a page 200 times, 8 at a time, and gives the median and the 99th percentile, in milliseconds.
func (m measuring) page(ctx context.Context, path string) (half, most float64, err error) {
	const calls, atOnce = 200, 8
	var mu sync.Mutex
	var took []time.Duration
	var failed error
	work := make(chan struct{}, calls)
	for range calls {
		work <- struct{}{}
	}
	close(work)
	var all sync.WaitGroup
	for range atOnce {
		all.Go(func() {
			for range work {
				begun := time.Now()
				_, err := m.get(ctx, path)
				mu.Lock()
				took = append(took, time.Since(begun))
				if err != nil {
					failed = err
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	slices.Sort(took)
	return took[len(took)/2].Seconds() * 1000, took[len(took)*99/100].Seconds() * 1000, failed
}
