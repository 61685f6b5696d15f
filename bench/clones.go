package main

import (
	"context"
	"fmt"

	"keenlodge/bench/report"
	"keenlodge/demo"
)

// manyClones is how many guests are made at once.
const manyClones = 20

// clones compares making many guests of an image, each a machine of its own, with making one.
func clones(ctx context.Context, p *demo.Place, r *report.Report) error {
	l, err := newLab(ctx, p)
	if err != nil {
		return err
	}
	id, err := l.imageOfDisk(ctx, 1, "/usr/bin", "/usr/sbin", "/etc/hostname", "/etc/hosts")
	if err != nil {
		return err
	}
	made := func(name string, n int) (seconds float64, err error) {
		seconds, err = timed(l.client("image", "clone", id, "--as", fmt.Sprintf("%s-{01..%02d}", name, n), "--wait"))
		for i := 1; i <= n && err == nil; i++ {
			_, err = p.Quay.Virsh(ctx, "undefine", "--remove-all-storage", fmt.Sprintf("%s-%02d", name, i))
		}
		return seconds, err
	}
	var ratios, one []float64
	for i := range rounds {
		single, err := made(fmt.Sprint("one-", i), 1)
		if err != nil {
			return err
		}
		all, err := made(fmt.Sprint("all-", i), manyClones)
		if err != nil {
			return err
		}
		ratios, one = append(ratios, all/single), append(one, single)
	}
	r.Add(fmt.Sprintf("clones of an image of 1 GiB: time of %d, against one", manyClones), "×", 8, ratios...)
	r.Add("time of one clone, with the start of the guest in which it gets its identity", "s", 0, one...)
	return nil
}
