// Package browser opens the console in headless Chromium, for tests and for the pictures in docs.
package browser

import (
	"context"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Browser is a running Chromium.
type Browser struct {
	ctx  context.Context
	stop []func()
}

// Open starts Chromium with a profile of its own.
func Open() (*Browser, error) {
	dir, err := os.MkdirTemp("", "oskeld-browser-")
	if err != nil {
		return nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(dir),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1"))
	allocator, stopAllocator := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, stopBrowser := chromedp.NewContext(allocator)
	b := &Browser{ctx, []func(){stopBrowser, stopAllocator, func() { os.RemoveAll(dir) }}}
	if err := chromedp.Do(ctx); err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

// Close ends Chromium.
func (b *Browser) Close() {
	for _, stop := range b.stop {
		stop()
	}
}

// View is how a page is looked at.
type View struct {
	Address string // of the service
	Token   string // of a session; "" for none
	Dark    bool
	Width   int64 // 1280 if 0
}

// Page is a tab. It notes what the page writes to its console as an error.
type Page struct {
	Ctx   context.Context
	Close func()
	view  View
	mu    sync.Mutex
	errs  []string
}

// Errors are what the page complained about so far.
func (p *Page) Errors() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string(nil), p.errs...)
}

func (p *Page) complain(text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.errs = append(p.errs, text)
}

// Page opens a tab that nobody shares, with the session's cookie.
func (b *Browser) Page(v View) (*Page, error) {
	if v.Width == 0 {
		v.Width = 1280
	}
	p := &Page{view: v}
	tab, closeTab := chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext())
	ctx, cancel := context.WithTimeout(tab, 2*time.Minute)
	p.Ctx, p.Close = ctx, func() { cancel(); closeTab() }
	if err := chromedp.Do(tab); err != nil {
		return nil, err
	}
	err := chromedp.Listen(tab, func(event any) {
		switch e := event.(type) {
		case *runtime.EventExceptionThrown:
			p.complain(e.ExceptionDetails.Text)
		case *log.EventEntryAdded:
			if e.Entry.Level == log.EntryLevelError {
				p.complain(e.Entry.Text + " " + e.Entry.URL)
			}
		}
	})
	if err != nil {
		return nil, err
	}
	scheme := "light"
	if v.Dark {
		scheme = "dark"
	}
	return p, chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, log.Enable, cdp.Empty{}); err != nil {
			return err
		}
		if v.Token != "" {
			if _, err := cdp.Call(ctx, t, network.SetCookie, network.SetCookieParams{Name: "oskeld_session", Value: v.Token, URL: v.Address, HTTPOnly: new(true)}); err != nil {
				return err
			}
		}
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{
			{Name: "prefers-color-scheme", Value: scheme}, {Name: "prefers-reduced-motion", Value: "reduce"}}})
		return err
	}), chromedp.EmulateViewport(v.Width, 800))
}

// Go opens an address of the console and waits until the page has read what it shows, for half a
// minute at most.
func (p *Page) Go(path string) error {
	ctx, cancel := context.WithTimeout(p.Ctx, 30*time.Second)
	defer cancel()
	return chromedp.Do(ctx, chromedp.Navigate(p.view.Address+path), chromedp.WaitVisible(chromedp.CSS("h1")), p.Settled())
}

// Settled waits for fonts, and until no request has been answered for a while.
func (p *Page) Settled() chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		const quiet = `document.fonts.ready.then(() => new Promise((done) => {
			let seen = -1, same = 0;
			const look = () => {
				const now = performance.getEntriesByType('resource').length + document.body.innerText.length;
				same = now === seen ? same + 1 : 0;
				seen = now;
				if (same >= 5) done(true); else setTimeout(look, 60);
			};
			look();
		}))`
		_, err := chromedp.Evaluate[bool](quiet, chromedp.EvalAwaitPromise)(ctx, t)
		return err
	})
}

// Text is what a reader sees on the page.
func (p *Page) Text() (string, error) {
	return chromedp.Run(p.Ctx, chromedp.Evaluate[string]("document.body.innerText"))
}

// WaitText waits until the page shows a text.
func (p *Page) WaitText(text string) error {
	quoted := "`" + strings.ReplaceAll(text, "`", "\\`") + "`"
	_, err := chromedp.Run(p.Ctx, chromedp.Poll[bool]("document.body.innerText.includes("+quoted+")", chromedp.WithPollingInterval(50*time.Millisecond)))
	return err
}

// Picture photographs what is in view, as PNG.
func (p *Page) Picture() ([]byte, error) {
	return chromedp.Run(p.Ctx, chromedp.CaptureScreenshot())
}
