package main

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/client"
	"keenlodge/internal/core/expect"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// atOnce compares starting a guest on disks that are still in the store, to stay or to be tried, with starting it on disks of its own.
func atOnce(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	g := demo.Guest{Name: "tickets-db", Disks: 2}
	if err = p.Quay.MakeGuest(ctx, g); err == nil {
		err = p.Quay.AwaitGuest(ctx, g.Name)
	}
	if err == nil {
		_, err = l.backup(ctx, "shelf", g.Name, site.Store{})
	}
	if err == nil {
		_, err = p.Quay.Virsh(ctx, "destroy", g.Name)
	}
	if err != nil {
		return err
	}
	c, err := p.Client()
	if err != nil {
		return err
	}
	images, _, err := c.Images(ctx, wire.ImageFilter{})
	if err != nil {
		return err
	}
	// up is how long the guest took from its start to its agent's answer.
	up := func(name string, how ...string) (seconds float64, said string, err error) {
		out, err := l.client(append([]string{"restore", "machine", images[0].ID, "--as", name, "--wait"}, how...)...).CombinedOutput()
		if err != nil {
			return 0, "", fmt.Errorf("restore %s: %w: %s", name, err, out)
		}
		newest, _, err := c.Runs(ctx, wire.RunFilter{Page: wire.Page{Limit: 1}})
		if err != nil {
			return 0, "", err
		}
		for _, s := range newest[0].Tasks[0].Steps {
			if strings.HasPrefix(s.Name, "starting guest") || strings.HasPrefix(s.Name, "waiting for the guest") {
				seconds += time.Duration(s.Took).Seconds()
			}
		}
		if _, err = p.Quay.Virsh(ctx, "destroy", name); err == nil {
			_, err = p.Quay.Virsh(ctx, "undefine", name)
		}
		return seconds, string(out), err
	}
	if err := l.allowTrials(ctx, c); err != nil {
		return err
	}
	// tried is how long it took from its start to its agent's answer where it was tried, and how much of its disks was read for that, in per cent.
	tried := func() (seconds, read float64, err error) {
		if out, err := l.client("image", "prove", images[0].ID, "--level", "boot", "--wait").CombinedOutput(); err != nil {
			return 0, 0, fmt.Errorf("try %s: %w: %s", images[0].ID, err, out)
		}
		m, err := c.Image(ctx, images[0].ID)
		if err != nil {
			return 0, 0, err
		}
		found := m.Proofs[0].Report
		return found.Up.Seconds(), 100 * float64(found.Read) / float64(found.Disks), nil
	}
	percent := regexp.MustCompile(`\(([0-9.]+) % of`)
	var ratios, read, trials, readTried []float64
	for i := range rounds {
		local, _, err := up(fmt.Sprint("local-", i), "--start")
		if err != nil {
			return err
		}
		lent, said, err := up(fmt.Sprint("lent-", i), "--at-once")
		if err != nil {
			return err
		}
		up, part, err := tried()
		if err != nil {
			return err
		}
		trials, readTried = append(trials, up/local), append(readTried, part)
		ratios = append(ratios, lent/local)
		if found := percent.FindStringSubmatch(said); found != nil {
			n, _ := strconv.ParseFloat(found[1], 64)
			read = append(read, n)
		}
	}
	r.Add("guest up at once, to the same guest on disks of its own", "×", 1.3, ratios...)
	r.Add("bytes of its disks that were read by then", "%", 5, read...)
	r.Add("boot trial to the agent's answer, to the same guest on disks of its own", "×", 1.3, trials...)
	r.Add("bytes of its disks that were read for a trial", "%", 40, readTried...)
	return nil
}

// allowTrials has the lab's hypervisor hold trials.
func (l *lab) allowTrials(ctx context.Context, c *client.Client) error {
	s, err := c.Site(ctx)
	if err != nil {
		return err
	}
	for name, h := range s.Hypervisors {
		h.Trials = &expect.Trials{AtOnce: 1}
		s.Hypervisors[name] = h
	}
	_, err = c.ApplySite(ctx, s, false)
	return err
}
