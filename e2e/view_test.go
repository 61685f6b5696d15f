package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"keenlodge/internal/wire"
)

// browser opens Debian's Chromium; an uncaught error on a page fails the test.
func browser(t *testing.T) context.Context {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true))
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Run(ctx)) // the browser lives as long as the context of its first call
	chromedp.ListenTarget(ctx, func(e any) {
		if thrown, ok := e.(*runtime.EventExceptionThrown); ok {
			t.Errorf("the page threw %s", thrown.ExceptionDetails.Error())
		}
	})
	return ctx
}

// do carries steps out, and tells what the page showed when they failed.
func do(t *testing.T, whole context.Context, steps ...chromedp.Action) {
	t.Helper()
	ctx, cancel := context.WithTimeout(whole, time.Minute)
	defer cancel()
	if err := chromedp.Run(ctx, steps...); err != nil {
		var text string
		look, cancel := context.WithTimeout(whole, 5*time.Second)
		defer cancel()
		chromedp.Run(look, chromedp.Text("body", &text, chromedp.ByQuery))
		require.NoError(t, err, "the page shows: %s", text)
	}
}

// says waits until an element's text contains a text.
func says(selector, text string) chromedp.Action {
	return chromedp.Poll(fmt.Sprintf(`(document.querySelector(%q)?.innerText ?? "").includes(%q)`, selector, text), nil, chromedp.WithPollingTimeout(40*time.Second))
}

// picture saves what the page shows where KEENLODGE_PICTURES names a folder.
func picture(t *testing.T, name string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		folder := os.Getenv("KEENLODGE_PICTURES")
		if folder == "" {
			return nil
		}
		var png []byte
		if err := chromedp.CaptureScreenshot(&png).Do(ctx); err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644)
	})
}

// lanesFit waits until lanes use the width that the page has: a fifth and a bit of it is for what is to come.
func lanesFit() chromedp.Action {
	return chromedp.Poll(`[...document.querySelectorAll("[data-lane]")].every(lane => Math.abs(lane.firstElementChild.clientWidth / lane.clientWidth - 0.22) < 0.01)`,
		nil, chromedp.WithPollingTimeout(20*time.Second))
}

func TestTheConsole(t *testing.T) {
	backUp(t, "nightly-guests")
	token, err := os.ReadFile(place.TokenFile())
	require.NoError(t, err)
	ctx := browser(t)
	do(t, ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(place.URL()),
		chromedp.WaitVisible("#token"), chromedp.SendKeys("#token", "wrong\r"), says("[role=alert]", "not known to the lodge"),
		chromedp.SendKeys("#token", strings.Repeat("\b", len("wrong"))+strings.TrimSpace(string(token))+"\r"),
		says("[data-testid=headline]", "Every covered machine has a fresh image"),
		says("[role=status]", "live"))
	for _, guest := range []string{"tickets-db", "timetable", "berth-sim"} {
		do(t, ctx, chromedp.WaitVisible(fmt.Sprintf("[data-lane=%s] :is([data-pile],[data-image])", guest)))
	}

	do(t, ctx, lanesFit())

	// Start a policy: it says what it will do and how to do it by command line, then runs live, with no reload.
	do(t, ctx, chromedp.Click("[data-start=nightly-guests]"), says("[role=alertdialog]", "keenlodge policy run nightly-guests --wait"),
		chromedp.Click("[data-confirm=nightly-guests]"),
		chromedp.WaitVisible("[data-state-of-run=running] [role=progressbar]"))
	do(t, ctx, picture(t, "console-running"), says("[data-run]:first-child", "done"),
		chromedp.WaitNotPresent("[data-state-of-run=running]"), picture(t, "console"))
	runs, _, err := lodge.Runs(t.Context(), wire.RunFilter{Page: wire.Page{Limit: 1}})
	require.NoError(t, err)
	require.EqualValues(t, "done", runs[0].State)

	// The image that the run made: its details, and a proof started from there.
	var made string
	for _, task := range runs[0].Tasks {
		if task.Machine == "tickets-db" {
			made = task.Image
		}
	}
	do(t, ctx, chromedp.Click(fmt.Sprintf("[data-run='%s'] button", runs[0].ID), chromedp.ByQuery),
		chromedp.Click(fmt.Sprintf(`//button[contains(., "image %s")]`, made), chromedp.BySearch),
		says("[data-testid=image]", "filesystem: the freeze held"), says("[data-testid=image]", "by read"),
		chromedp.Click("[data-prove=mount]"), says("[data-testid=image]", "ledger clean"), picture(t, "console-image"),
		chromedp.KeyEvent("\x1b"), chromedp.WaitNotPresent("[data-testid=image]"))

	confirmInConsole(t, ctx)

	// It fits a telephone and the dark; nothing scrolls sideways.
	var overflow bool
	do(t, ctx, chromedp.EmulateViewport(390, 844), emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: "dark"}}),
		lanesFit(), chromedp.Evaluate("document.documentElement.scrollWidth > window.innerWidth", &overflow), picture(t, "console-narrow-dark"))
	require.False(t, overflow, "the page is wider than a telephone")
}

// confirmInConsole sees a rotation that the guard holds back, tries another rule, and lets it happen.
func confirmInConsole(t *testing.T, ctx context.Context) {
	plain := t.TempDir()
	for _, rule := range []string{"newest 9", "newest 1"} {
		withPolicy(t, "weekly-system", "    machines: [tickets-db]\n    quiesce: \"off\"\n    store: shelf-console\n    rotation: "+rule+"\n", openStoreText("shelf-console", plain, ""))
		for range map[string]int{"newest 9": 4, "newest 1": 1}[rule] {
			keen(t, "policy", "run", "weekly-system", "--wait")
		}
	}
	do(t, ctx, says("[data-testid=headline]", "1 rotation held back"),
		chromedp.Click("[data-rotation=weekly-system]"), says("[role=alertdialog]", "it would drop 4 of 5 usable images"), says("[role=alertdialog]", "Drop 4 images"),
		chromedp.SendKeys("[role=alertdialog] input", "newest 5"), says("[role=alertdialog]", "nothing would go"),
		chromedp.WaitNotPresent("[data-confirm-rotation]"), // another rule is only tried
		chromedp.SendKeys("[role=alertdialog] input", strings.Repeat("\b", len("newest 5"))), says("[role=alertdialog]", "4 of 5 images would go"), picture(t, "console-rotation"),
		chromedp.Click("[data-confirm-rotation]"), chromedp.WaitNotPresent("[role=alertdialog]"))
	require.Len(t, in(t, "shelf-console"), 1)
	require.NotContains(t, keenOK(t, "policy", "list"), "is held back")
}
