// Package browser drives Debian's headless Chromium for the console's tests and the project's pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// ErrMissing says that there is no Chromium.
var ErrMissing = errors.New("no Chromium is installed: run  sudo apt-get install chromium")

// Page is a browser with one page. Every step ends with an error after its patience.
type Page struct {
	ctx      context.Context
	patience time.Duration
}

// Open starts a browser with a fresh profile and a window of that size. The returned function ends it.
func Open(parent context.Context, width, height int) (*Page, func(), error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, ErrMissing
	}
	profile, err := os.MkdirTemp("", "dowse-browser-*")
	if err != nil {
		return nil, nil, err
	}
	opts := []chromedp.ExecAllocatorOption{chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.WindowSize(width, height)}
	for _, name := range []string{"headless", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "disable-background-networking",
		"disable-component-update", "disable-sync", "hide-scrollbars", "force-prefers-reduced-motion", "disable-dev-shm-usage"} {
		opts = append(opts, chromedp.Flag(name, true))
	}
	alloc, endAlloc := chromedp.NewExecAllocator(parent, opts...)
	ctx, endPage := chromedp.NewContext(alloc)
	end := func() {
		endPage()
		endAlloc()
		_ = os.RemoveAll(profile)
	}
	// The first step starts the browser; a deadline on it would end the browser with it.
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		end()
		return nil, nil, fmt.Errorf("start the browser: %w", err)
	}
	return &Page{ctx, 20 * time.Second}, end, nil
}

func run[T any](p *Page, what string, a chromedp.Action[T]) (T, error) {
	ctx, cancel := context.WithTimeout(p.ctx, p.patience)
	defer cancel()
	out, err := chromedp.Run(ctx, a)
	if err != nil {
		err = fmt.Errorf("%s: %w", what, err)
	}
	return out, err
}

// Go opens an address.
func (p *Page) Go(address string) error {
	_, err := run(p, "open "+address, chromedp.Navigate(address))
	return err
}

// Eval evaluates an expression of JavaScript in the page.
func Eval[T any](p *Page, expression string) (T, error) {
	return run(p, "evaluate "+expression, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
}

// Until waits for an expression to become true. It looks from outside: the page's content security
// policy lets nothing inside evaluate text.
func (p *Page) Until(expression string) error {
	deadline := time.Now().Add(p.patience)
	for {
		ok, err := Eval[bool](p, "!!("+expression+")")
		if err == nil && ok {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("waited %v for %s (%v)", p.patience, expression, err)
		}
		select {
		case <-p.ctx.Done():
			return p.ctx.Err()
		case <-time.After(25 * time.Millisecond):
		}
	}
}

// Press presses keys, as kb has them. A key and the character it makes go as one event, as from a real
// keyboard: a page that takes the key for itself then gets no character.
func (p *Page) Press(keys string) error {
	_, err := run(p, "press "+keys, chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for _, r := range keys {
			events := kb.Encode(r)
			for i, k := range events {
				if k.Type == kb.KeyChar {
					continue
				}
				if i+1 < len(events) && events[i+1].Type == kb.KeyChar {
					k.Type, k.Text, k.UnmodifiedText = input.DispatchKeyEventTypeKeyDown, events[i+1].Text, events[i+1].Text
				}
				if _, err := cdp.Call(ctx, t, input.DispatchKeyEvent, *k); err != nil {
					return err
				}
			}
		}
		return nil
	}))
	return err
}

// Click clicks what a selector finds.
func (p *Page) Click(selector string) error {
	_, err := run(p, "click "+selector, chromedp.Click(chromedp.CSS(selector)))
	return err
}

// Move puts the pointer at a place of the page.
func (p *Page) Move(x, y float64) error {
	_, err := run(p, "move the pointer", chromedp.MouseEvent("mouseMoved", x, y))
	return err
}

// Text returns the text of what a selector finds.
func (p *Page) Text(selector string) (string, error) {
	return run(p, "read "+selector, chromedp.Text(chromedp.CSS(selector)))
}

// Resize changes the size of the window.
func (p *Page) Resize(width, height int) error {
	_, err := run(p, "resize", chromedp.EmulateViewport(int64(width), int64(height)))
	return err
}

// Picture takes a PNG of what is in view.
func (p *Page) Picture() ([]byte, error) {
	return run(p, "take a picture", chromedp.CaptureScreenshot())
}
