// Package browser drives the console in a headless Chromium, for tests and for
// the pictures of the documentation.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

// Page is one page in a browser with a fresh profile.
type Page struct {
	ctx    context.Context
	cancel []context.CancelFunc
	base   string
}

// Open starts a browser in front of a console.
func Open(base string) (*Page, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, fmt.Errorf("chromium is missing; apt-get install chromium: %w", err)
	}
	profile, err := os.MkdirTemp("", "yarnpost-browser-")
	if err != nil {
		return nil, err
	}
	options := []chromedp.ExecAllocatorOption{chromedp.ExecPath(path), chromedp.Headless, chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck,
		chromedp.DisableGPU,
		chromedp.UserDataDir(profile), chromedp.WindowSize(1280, 800), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true), chromedp.Flag("no-pings", true), chromedp.Flag("lang", "en")}
	if os.Getuid() == 0 {
		options = append(options, chromedp.NoSandbox)
	}
	alloc, stop := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, cancel := chromedp.NewContext(alloc)
	p := &Page{ctx: ctx, base: base, cancel: []context.CancelFunc{cancel, stop, func() { os.RemoveAll(profile) }}}
	if err := chromedp.Do(ctx); err != nil { // the browser lives as long as the context of its first use
		p.Close()
		return nil, fmt.Errorf("start the browser: %w", err)
	}
	if err := p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(base)); err != nil {
		p.Close()
		return nil, fmt.Errorf("open the console: %w", err)
	}
	return p, nil
}

// Close ends the browser.
func (p *Page) Close() {
	for _, c := range p.cancel {
		c()
	}
}

func (p *Page) do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(p.ctx, 30*time.Second)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Go opens a path.
func (p *Page) Go(path string) error { return p.do(chromedp.Navigate(p.base + path)) }

// Eval runs JavaScript and gives its value.
func Eval[T any](p *Page, js string) (T, error) {
	ctx, cancel := context.WithTimeout(p.ctx, 30*time.Second)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](js))
}

// Wait waits until a JavaScript expression is true.
func (p *Page) Wait(js string) error {
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		ok, err := Eval[bool](p, "!!("+js+")")
		if err == nil && ok {
			return nil
		}
		if time.Now().After(end) {
			text, _ := p.Text()
			return fmt.Errorf("waited in vain for %s (%v); the page says:\n%s", js, err, text)
		}
	}
}

// See waits until the page shows a text.
func (p *Page) See(text string) error {
	return p.Wait(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// Text is what the page says.
func (p *Page) Text() (string, error) { return Eval[string](p, "document.body.innerText") }

// Click clicks the first visible element with the CSS selector, or, written as
// "button=Text", the last button or link with that text.
func (p *Page) Click(what string) error {
	if _, text, ok := strings.Cut(what, "button="); ok {
		find := fmt.Sprintf(`[...document.querySelectorAll('button, a, [role=menuitem], [role=tab]')].filter(e => e.innerText.trim().replace(/\s+/g, ' ') === %q && e.offsetParent).slice(-1).find(e => !e.disabled)`, text)
		if err := p.Wait(find); err != nil {
			return err
		}
		_, err := Eval[bool](p, "("+find+").click(), true")
		return err
	}
	return p.do(chromedp.Click(chromedp.CSS(what)))
}

// Type replaces what a field holds.
func (p *Page) Type(css, text string) error {
	if err := p.Wait(fmt.Sprintf("document.querySelector(%q)", css)); err != nil {
		return err
	}
	if _, err := Eval[bool](p, fmt.Sprintf("(e => { e.focus(); e.select(); return true })(document.querySelector(%q))", css)); err != nil {
		return err
	}
	return p.Keys(text)
}

// Keys presses keys where the focus is.
func (p *Page) Keys(keys string) error { return p.do(chromedp.KeyEvent(keys)) }

// SignIn signs in at the console.
func (p *Page) SignIn(account, password string) error {
	for _, step := range []func() error{
		func() error { return p.Type("#account", account) },
		func() error { return p.Type("#password", password) },
		func() error { return p.Click("button[type=submit]") },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// Shot writes what is seen as a PNG.
func (p *Page) Shot(file string) error {
	ctx, cancel := context.WithTimeout(p.ctx, 30*time.Second)
	defer cancel()
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return fmt.Errorf("picture %s: %w", file, err)
	}
	return os.WriteFile(file, png, 0o644)
}
