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
func scale(ctx context.Context, p *demo.Place) error {
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
	for _, page := range []struct{ what, path string }{
		{"machines", "/api/v1/machines?limit=100"}, {"images", "/api/v1/images?limit=100"}, {"runs", "/api/v1/runs?limit=50"},
		{"history", "/api/v1/images?only_gone=true&limit=100"}, {"one machine's images", "/api/v1/images?machine=guest-04711&limit=100"},
		{"a policy's preview", "/api/v1/policies/policy-42/rotation"}, {"stores", "/api/v1/stores"},
		{"summary", "/api/v1/summary"}, {"lanes", "/api/v1/lanes?limit=25"}, {"policies", "/api/v1/policies"},
	} {
		if err := m.page(ctx, page.what, page.path); err != nil {
			return err
		}
	}
	if err := consolePage(ctx, m.url, m.token); err != nil {
		return err
	}
	for range 3 {
		begun := time.Now()
		n, err := m.get(ctx, "/api/v1/forecast?days=30")
		if err != nil {
			return err
		}
		fmt.Printf("forecast of 30 days, all policies: %.2f s, %d KiB\n", time.Since(begun).Seconds(), n>>10)
	}
	fmt.Printf("peak memory of the service: %d MiB\n", peak(service.PID())>>10)
	return nil
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

// page asks for a page 200 times, 8 at a time, and prints the median and the 99th percentile.
func (m measuring) page(ctx context.Context, what, path string) error {
	const calls, atOnce = 200, 8
	var mu sync.Mutex
	var took []time.Duration
	var size int64
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
				n, err := m.get(ctx, path)
				mu.Lock()
				took, size = append(took, time.Since(begun)), n
				if err != nil {
					failed = err
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	slices.Sort(took)
	fmt.Printf("%-22s median %6.1f ms, p99 %6.1f ms, %4d KiB\n", what, took[len(took)/2].Seconds()*1000, took[len(took)*99/100].Seconds()*1000, size>>10)
	return failed
}
