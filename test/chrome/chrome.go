// Package chrome starts headless Chromium for tests and pictures.
package chrome

import (
	"context"
	"fmt"
	"net/url"
	"sync"

	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Start starts a browser that runs until ctx ends or stop is called. Make tabs from the context
// that it returns.
func Start(ctx context.Context) (browser context.Context, stop context.CancelFunc, err error) {
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, // the tests may run as root, where Chromium has no sandbox
		chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("hide-scrollbars", true),
		chromedp.WindowSize(1280, 800),
	)
	allocator, end := chromedp.NewExecAllocator(ctx, options...)
	browser, cancel := chromedp.NewContext(allocator)
	stop = func() {
		cancel()
		end()
	}
	if err := chromedp.Do(browser); err != nil { // a bare first call: its context is the browser's life
		stop()
		return nil, nil, fmt.Errorf("start Chromium: %w", err)
	}
	return browser, stop, nil
}

// Complaints collects errors of a tab: log messages, exceptions, and requests to hosts other
// than the one named.
type Complaints struct {
	mu   sync.Mutex
	host string
	list []string
}

// Listen starts collecting the complaints of a tab.
func Listen(tab context.Context, service string) (*Complaints, error) {
	u, err := url.Parse(service)
	if err != nil {
		return nil, err
	}
	c := &Complaints{host: u.Host}
	return c, chromedp.Listen(tab, c.hear)
}

func (c *Complaints) hear(event any) {
	switch event := event.(type) {
	case *log.EventEntryAdded:
		if event.Entry.Level == log.EntryLevelError {
			c.add("logged: " + event.Entry.Text + " " + event.Entry.URL)
		}
	case *runtime.EventExceptionThrown:
		thrown := event.ExceptionDetails
		text := thrown.Text
		if thrown.Exception != nil {
			text += " " + thrown.Exception.Description
		}
		c.add(fmt.Sprintf("threw: %s at %s:%d", text, thrown.URL, thrown.LineNumber))
	case *network.EventRequestWillBeSent:
		if u, err := url.Parse(event.Request.URL); err != nil || (u.Host != c.host && u.Scheme != "data" && u.Scheme != "blob") {
			c.add("asked another host: " + event.Request.URL)
		}
	}
}

func (c *Complaints) add(complaint string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.list = append(c.list, complaint)
}

// List returns the complaints so far.
func (c *Complaints) List() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.list
}
