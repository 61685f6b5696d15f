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

// consolePage opens the console in Chromium, signs in, and prints how long it takes until today's page can be used (its headline is said
// and its first lanes are drawn) and how much memory its scripts then take, garbage collected.
func consolePage(ctx context.Context, url, token string) error {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.WindowSize(1280, 800),
		chromedp.UserDataDir(filepath.Join(folder, "chromium")), chromedp.Flag("js-flags", "--expose-gc"))
	ctx, cancel := chromedp.NewExecAllocator(ctx, options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	defer os.RemoveAll(filepath.Join(folder, "chromium"))
	if err := chromedp.Run(ctx, performance.Enable(), chromedp.Navigate(url), chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", token+"\r"), chromedp.WaitVisible("[data-testid=headline]")); err != nil {
		return fmt.Errorf("console: %w", err)
	}
	// What the page itself says, by its own clock: a question from outside waits until it has time.
	const usable = `document.querySelector("[data-testid=headline]") && document.querySelector("[data-lane] :is([data-pile],[data-image])") ? performance.now() : 0`
	for range 3 {
		var after, heap float64
		err := chromedp.Run(ctx, chromedp.Reload(), chromedp.Poll(usable, &after, chromedp.WithPollingTimeout(time.Minute)),
			chromedp.Evaluate("gc()", nil),
			chromedp.ActionFunc(func(ctx context.Context) error {
				metrics, err := performance.GetMetrics().Do(ctx)
				for _, m := range metrics {
					if m.Name == "JSHeapUsedSize" {
						heap = m.Value
					}
				}
				return err
			}))
		if err != nil {
			return fmt.Errorf("console: %w", err)
		}
		fmt.Printf("console: today's page after %.2f s, heap %.0f MB\n", after/1000, heap/1e6)
	}
	return nil
}
