// Package door measures what it costs to let somebody in, and to record what he does.
package door

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlodge/demo"
	"keenlodge/internal/access"
	"keenlodge/internal/core/deed"
	"keenlodge/internal/core/right"
	"keenlodge/internal/core/site"
	"keenlodge/internal/records"
	"keenlodge/internal/trail"
)

const (
	rounds       = 5
	doorCalls    = 2000
	doorGuesses  = 10_000
	doorLines    = 200_000
	seedPolicies = 100
	seedMachines = 10_000
)

// Measure measures at an empty place. add takes a row: what it is, its unit, the most that is asked for (0 for nothing), and what came of each round.
func Measure(ctx context.Context, p *demo.Place, add func(what, unit string, asked float64, samples ...float64)) error {
	if err := p.StartDatabase(ctx); err != nil {
		return err
	}
	os.Setenv("PGPASSFILE", filepath.Join(p.Folder, "pgpass"))
	if _, err := p.StartService(ctx); err != nil {
		return err
	}
	rec, err := records.Open(ctx, p.DatabaseURL())
	if err != nil {
		return err
	}
	defer rec.Close()
	log := slog.New(slog.DiscardHandler)
	t, a := trail.New(rec, log), access.New(rec, log)

	if _, err := rec.Pool().Exec(ctx, "create table bare (like trail including defaults)"); err != nil {
		return err
	}
	var half, most, reached []float64
	for range rounds {
		var bare, begun []time.Duration
		for i := range doorCalls { // in turns, for a disk is not always as quick
			at := time.Now()
			if _, err := rec.Pool().Exec(ctx, "insert into bare (id, who, address, verb, target, result) values ($1, 'first', '127.0.0.1', 'pause-policy', '/api/v1/policies/nightly-guests/pause', 'done')", i); err != nil {
				return err
			}
			bare = append(bare, time.Since(at))
			at = time.Now()
			if _, err := t.Begin(ctx, trail.Deed{Who: "first", Address: "127.0.0.1", Verb: "pause-policy", Target: "/api/v1/policies/nightly-guests/pause"}); err != nil {
				return err
			}
			begun = append(begun, time.Since(at))
		}
		half = append(half, (middleOf(begun, 50)-middleOf(bare, 50)).Seconds()*1000)
		most = append(most, (middleOf(begun, 99)-middleOf(bare, 99)).Seconds()*1000)
	}
	add("a line of the trail, beyond a row that is committed: median", "ms", 0, half...)
	add("a line of the trail, beyond a row that is committed: p99", "ms", 2, most...)

	secret, err := os.ReadFile(p.TokenFile())
	if err != nil {
		return err
	}
	token := strings.TrimSpace(string(secret))
	var checks []time.Duration
	for range 100 * doorCalls {
		at := time.Now()
		if _, err := a.Check(ctx, token, "127.0.0.1", access.All); err != nil {
			return err
		}
		checks = append(checks, time.Since(at))
	}
	add("a token is looked up: median", "µs", 0, middleOf(checks, 50).Seconds()*1e6)
	add("a token is looked up: p99", "µs", 0, middleOf(checks, 99).Seconds()*1e6)

	worst, took, err := guesses(ctx, p.URL(), token)
	if err != nil {
		return err
	}
	add(fmt.Sprintf("a right token while %d wrong ones come from the same address: slowest", doorGuesses), "ms", 1000, worst.Seconds()*1000)
	add(fmt.Sprintf("%d wrong tokens are answered", doorGuesses), "s", 0, took.Seconds())

	w := right.World{Site: site.Site{Policies: map[string]site.Policy{}, Hypervisors: map[string]site.Hypervisor{}}}
	for i := range seedPolicies {
		w.Site.Policies[fmt.Sprint("policy-", i)] = site.Policy{Tags: fmt.Sprintf("fleet=%d", i), Store: "quay-shelf"}
	}
	for i := range seedMachines {
		w.Machines = append(w.Machines, right.Machine{ID: fmt.Sprint("u-", i), Source: "quay-1", Name: fmt.Sprintf("guest-%05d", i), Tags: map[string]string{"fleet": fmt.Sprint(i % seedPolicies)}})
	}
	for range rounds {
		at := time.Now()
		right.Reach([]right.Grant{{Role: right.Operator, Tags: "fleet=42"}}, w)
		reached = append(reached, time.Since(at).Seconds()*1000)
	}
	add(fmt.Sprintf("what a narrowed role reaches among %d machines and %d policies; known for 3 s then", seedMachines, seedPolicies), "ms", 0, reached...)

	for n := 0; n < doorLines; n += 500 {
		var all sync.WaitGroup
		for range 500 {
			all.Go(func() { t.Note(ctx, trail.Deed{Who: "first", Verb: "pin-image", Target: "/", Result: deed.Done}) })
		}
		all.Wait()
	}
	at := time.Now()
	var v deed.Verifier
	if _, err := t.Verify(ctx, &v); err != nil {
		return err
	}
	if len(v.Found()) > 0 {
		return fmt.Errorf("the trail is not whole: %s", v.Found()[0])
	}
	add(fmt.Sprintf("%d lines are verified", v.Lines), "s", 0, time.Since(at).Seconds())
	return nil
}

// middleOf is a percentile.
func middleOf(of []time.Duration, percent int) time.Duration {
	sorted := slices.Sorted(slices.Values(of))
	return sorted[(len(sorted)-1)*percent/100]
}

// guesses shows many wrong tokens, a hundred at a time, and how long a right one from the same address takes meanwhile at the most.
func guesses(ctx context.Context, url, token string) (worst, took time.Duration, err error) {
	show := func(token string) (int, error) {
		req, err := http.NewRequestWithContext(ctx, "GET", url+"/api/v1/me", nil)
		if err != nil {
			return 0, err
		}
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return 0, err
		}
		return res.StatusCode, res.Body.Close()
	}
	work := make(chan int, doorGuesses)
	for i := range doorGuesses {
		work <- i
	}
	close(work)
	var all sync.WaitGroup
	begun := time.Now()
	for range 400 {
		all.Go(func() {
			for i := range work {
				if status, err := show(fmt.Sprint("guess-", i)); err != nil || status != 401 && status != 429 {
					fmt.Fprintln(os.Stderr, "a wrong token:", status, err)
				}
			}
		})
	}
	done := make(chan struct{})
	go func() { all.Wait(); close(done) }()
	for {
		at := time.Now()
		status, err := show(token)
		if err != nil || status != 200 {
			return 0, 0, fmt.Errorf("the right token was refused: %d %w", status, err)
		}
		worst = max(worst, time.Since(at))
		select {
		case <-done:
			return worst, time.Since(begun), nil
		case <-time.After(20 * time.Millisecond):
		}
	}
}
