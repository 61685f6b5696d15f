package main

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"keenlodge/bench/line"
	"keenlodge/bench/report"
	"keenlodge/demo"
	"keenlodge/internal/core/site"
	"keenlodge/internal/wire"
)

// far measures what it costs that a hypervisor is elsewhere: by SSH and TLS on loopback against its socket, and over a line.
func far(ctx context.Context, p *demo.Place, r *report.Report) error {
	if err := p.Quay.OpenTLS(); err != nil {
		return err
	}
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	if err := p.Quay.OpenSSH(ctx); err != nil {
		return err
	}
	disk, err := l.rawDisk(ctx, "berth-sim", 2, "", "/usr/bin", "/usr/share")
	if err != nil {
		return err
	}
	ssh := p.Quay.OverSSH()
	var overSSH, overTLS, cipher []float64
	for i := range rounds {
		var socket, processor float64
		for _, way := range []string{"socket", "ssh", "tls"} {
			l.spec = map[string]site.Hypervisor{"socket": p.Quay.Spec(), "ssh": ssh, "tls": p.Quay.OverTLS()}[way]
			into := fmt.Sprintf("shelf-%s-%d", way, i)
			t, err := l.backup(ctx, into, "berth-sim", site.Store{})
			if err != nil {
				return err
			}
			switch way {
			case "socket":
				socket, processor = t.seconds, t.processor
			case "ssh":
				overSSH, cipher = append(overSSH, t.seconds/socket), append(cipher, t.processor-processor)
			case "tls":
				overTLS = append(overTLS, t.seconds/socket)
			}
			if err := l.drop(ctx, into); err != nil {
				return err
			}
		}
	}
	r.Add("a full image by SSH on loopback, against the socket", "×", 1.25, overSSH...)
	r.Add("more processor time of the service for a GiB by SSH", "s", 0, cipher...)
	r.Add("a full image over TLS on loopback, against the socket", "×", 0, overTLS...)

	// Over the line a part of it will do.
	if err := shell("head -c 256M %s > %s", disk, l.file("berth-line.raw")); err != nil {
		return err
	}
	if err := l.guest(ctx, "berth-line", l.file("berth-line.raw"), "raw"); err != nil {
		return err
	}
	u, err := url.Parse(ssh.URI)
	if err != nil {
		return err
	}
	sshd := u.Host
	for _, k := range []line.Line{{Rate: 100 * line.Mbit, Trip: 20 * time.Millisecond}, {Rate: 400 * line.Mbit, Trip: 60 * time.Millisecond}} {
		if u.Host, err = k.To(ctx, sshd); err != nil {
			return err
		}
		ssh.URI = u.String()
		l.spec = ssh
		var used []float64
		for i := range 3 {
			into := fmt.Sprintf("shelf-line-%d", i)
			t, err := l.backup(ctx, into, "berth-line", site.Store{})
			if err != nil {
				return err
			}
			reading, err := l.reading(ctx, "berth-line")
			if err != nil {
				return err
			}
			used = append(used, 100*float64(t.read)/reading/float64(k.Rate))
			if err := l.drop(ctx, into); err != nil {
				return err
			}
		}
		r.Add(fmt.Sprintf("a full image over a line of %d Mbit/s and %s: of the line used while the disk was read", k.Rate/line.Mbit, k.Trip), "%", 0, used...)
	}
	return nil
}

// reading is how long the newest run read a machine's disks, in seconds.
func (l *lab) reading(ctx context.Context, name string) (seconds float64, err error) {
	c, err := l.p.Client()
	if err != nil {
		return 0, err
	}
	runs, _, err := c.Runs(ctx, wire.RunFilter{Page: wire.Page{Limit: 1}})
	if err != nil {
		return 0, err
	}
	run, err := c.Run(ctx, runs[0].ID)
	for _, t := range run.Tasks {
		for _, s := range t.Steps {
			if t.Machine == name && strings.HasPrefix(s.Name, "reading ") {
				seconds += time.Duration(s.Took).Seconds()
			}
		}
	}
	return seconds, err
}
