package e2e

import (
	"context"
	"errors"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// browser is a tab of headless Chromium that notes what its console says.
type browser struct {
	ctx context.Context
	t   testing.TB

	mu     sync.Mutex // guards what follows
	errors []string
	asked  int // how often a page asked whether to leave it
}

// browserTime bounds all that one test does in its browser.
const browserTime = 6 * time.Minute

// pageTime bounds the wait for something on a page, and stepTime all of one step.
const (
	pageTime = time.Minute
	stepTime = 90 * time.Second
)

const windowWidth, windowHeight = 1280, 800

func newBrowser(t testing.TB) *browser {
	t.Helper()
	options := []chromedp.ExecAllocatorOption{chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck, chromedp.Headless,
		chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("hide-scrollbars", true), chromedp.UserDataDir(t.TempDir()),
		chromedp.WindowSize(windowWidth, windowHeight)}
	if path := os.Getenv("CHROMIUM"); path != "" {
		options = append(options, chromedp.ExecPath(path))
	}
	allocator, stopAll := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, stop := chromedp.NewContext(allocator)
	ctx, cancel := context.WithTimeout(ctx, browserTime)
	b := &browser{ctx: ctx, t: t}
	chromedp.ListenTarget(ctx, func(event any) {
		b.mu.Lock()
		defer b.mu.Unlock()
		switch e := event.(type) {
		case *page.EventJavascriptDialogOpening: // of a page that does not want to be left
			b.asked++
			go chromedp.Run(ctx, page.HandleJavaScriptDialog(true))
		case *runtime.EventExceptionThrown:
			b.errors = append(b.errors, e.ExceptionDetails.Error())
		case *log.EventEntryAdded:
			if e.Entry.Level == log.LevelError && !strings.Contains(e.Entry.Text, "401") {
				b.errors = append(b.errors, e.Entry.Text)
			}
		}
	})
	t.Cleanup(func() {
		cancel()
		chromedp.Cancel(ctx) // waits for the browser to have gone, so that its folder can be removed
		stop()
		stopAll()
	})
	if err := chromedp.Run(ctx, chromedp.EmulateViewport(windowWidth, windowHeight)); err != nil {
		t.Fatalf("Chromium does not start (Debian's package is called chromium): %v", err)
	}
	return b
}

// do runs actions and fails the test when one does not complete.
func (b *browser) do(what string, actions ...chromedp.Action) {
	b.t.Helper()
	b.t.Logf("%s %s", time.Now().Format("05.000"), what)
	step, cancel := context.WithTimeout(b.ctx, stepTime)
	defer cancel()
	if err := chromedp.Run(step, each(actions)...); err != nil {
		var text string
		chromedp.Run(b.ctx, chromedp.Evaluate(`document.body.innerText`, &text))
		b.t.Fatalf("%s: %v\nthe page says:\n%s\nthe browser says: %q", what, err, text, b.said())
	}
}

// each makes actions that are repeated once if the page was drawn anew between finding a place on it and using it.
func each(actions []chromedp.Action) (again []chromedp.Action) {
	for _, a := range actions {
		again = append(again, chromedp.ActionFunc(func(ctx context.Context) error {
			const times = 5
			for n := 1; ; n++ {
				err := a.Do(ctx)
				var gone *cdproto.Error
				if !errors.As(err, &gone) || n == times {
					return err
				}
			}
		}))
	}
	return again
}

// said returns the errors of the browser's console: of scripts and of the Content-Security-Policy.
func (b *browser) said() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string(nil), b.errors...)
}

// dated types a day into a calendar's field until the field has it: while the calendar slides in, it may drop keys.
func dated(id, day string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		field := `//input[@id="` + id + `"]`
		for {
			has := ""
			if err := chromedp.Run(ctx, chromedp.Click(field, chromedp.BySearch), settled(),
				chromedp.Evaluate(`document.getElementById(`+quote(id)+`).select()`, nil),
				chromedp.KeyEvent(day+kb.Enter), settled(),
				chromedp.Value(field, &has, chromedp.BySearch)); err != nil || has == day {
				return err
			}
		}
	})
}

// quiet fails the test where the console of a browser has complained.
func quiet(all ...*browser) {
	for _, b := range all {
		b.t.Helper()
		if said := b.said(); len(said) > 0 {
			b.t.Errorf("a browser complains: %q", said)
		}
	}
}

// until waits for a JavaScript condition to hold, on this page or on one that it leads to.
func until(condition string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for deadline := time.Now().Add(pageTime); ; {
			err := chromedp.Poll(condition, nil, chromedp.WithPollingTimeout(time.Until(deadline))).Do(ctx)
			var gone *cdproto.Error // what was polled in: the page went on to another
			if !errors.As(err, &gone) || time.Now().After(deadline) {
				return err
			}
		}
	})
}

// shows waits until the page shows a text.
func shows(text string) chromedp.Action {
	return until(`document.body.innerText.includes(` + quote(text) + `)`)
}

func quote(s string) string {
	return "`" + strings.NewReplacer("`", "\\`", `\`, `\\`, "$", `\$`).Replace(s) + "`"
}

// signIn signs a person in at the console.
func (b *browser) signIn(s *server, email string) {
	b.t.Helper()
	b.do("sign in", chromedp.Navigate(s.url+"/"), chromedp.WaitVisible(`input[autocomplete="username"]`),
		shows("Sign in"),
		chromedp.SendKeys(`input[autocomplete="username"]`, email),
		chromedp.SendKeys(`input[autocomplete="current-password"]`, demoPassword),
		chromedp.Click(`button[type="submit"]`), shows("What needs you"))
}

// settled waits until nothing loads or fades any more; a cursor may blink.
func settled() chromedp.Action {
	return until(`!document.querySelector(".ant-spin-spinning, .ant-spin-blur") && document.getAnimations().every((a) => a.playState === "finished" || a.playState === "idle" || a.effect?.getTiming().iterations === Infinity)`)
}
