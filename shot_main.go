//go:build ignore

package main

import (
	"context"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

func main() {
	token := ""
	if b, err := os.ReadFile(os.Args[1]); err == nil {
		token = strings.TrimSpace(string(b))
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.WindowSize(1280, 800))
	ctx, _ := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(ctx)
	defer cancel()
	var buf []byte
	tasks := chromedp.Tasks{chromedp.Navigate("http://127.0.0.1:7433/"), chromedp.WaitVisible("#token")}
	if token != "" {
		tasks = append(tasks, chromedp.SendKeys("#token", token+"\n"), chromedp.WaitVisible("[data-me]"), chromedp.Sleep(2*time.Second))
		for _, sel := range os.Args[3:] {
			if s, ok := strings.CutPrefix(sel, "hover:"); ok {
				tasks = append(tasks, chromedp.ScrollIntoView(s), chromedp.Focus(s), chromedp.Sleep(700*time.Millisecond))
			} else {
				tasks = append(tasks, chromedp.ScrollIntoView(sel), chromedp.Click(sel), chromedp.Sleep(time.Second))
			}
		}
	}
	tasks = append(tasks, chromedp.CaptureScreenshot(&buf))
	if err := chromedp.Run(ctx, tasks); err != nil {
		panic(err)
	}
	os.WriteFile(os.Args[2], buf, 0o644)
}
