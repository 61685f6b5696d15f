package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/chromedp"
)

// consolePage opens the console in Chromium, signs in, and tells how long it takes until today's page can be used (its headline is said
// and its first lanes are drawn) and how much memory its scripts then take, garbage collected, in seconds and megabytes.
func consolePage(ctx context.Context, url, token string) (after, heap []float64, err error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.UserDataDir(filepath.Join(folder, "chromium")), chromedp.Flag("js-flags", "--expose-gc"))
	ctx, cancel := chromedp.NewExecAllocator(ctx, options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	defer os.RemoveAll(filepath.Join(folder, "chromium"))
	if err := chromedp.Run(ctx, performance.Enable(), chromedp.Navigate(url), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", token+"\r"), chromedp.WaitVisible("[data-testid=headline]")); err != nil {
		return nil, nil, fmt.Errorf("console: %w", err)
	}
	// What the page itself says, by its own clock: a question from outside waits until it has time.
	const usable = `document.querySelector("[data-testid=headline]") && document.querySelector("[data-lane] :is([data-pile],[data-image])") ? performance.now() : 0`
	for range rounds {
		var ms, bytes float64
		err := chromedp.Run(ctx, chromedp.Reload(), chromedp.Poll(usable, &ms, chromedp.WithPollingTimeout(time.Minute)),
			chromedp.Evaluate("gc()", nil),
			chromedp.ActionFunc(func(ctx context.Context) error {
				metrics, err := performance.GetMetrics().Do(ctx)
				for _, m := range metrics {
					if m.Name == "JSHeapUsedSize" {
						bytes = m.Value
					}
				}
				return err
			}))
		if err != nil {
			return nil, nil, fmt.Errorf("console: %w", err)
		}
		after, heap = append(after, ms/1000), append(heap, bytes/1e6)
	}
	return after, heap, nil
}
