// Package browser looks at pages with an installed Chromium over its DevTools
// protocol: what only scripts load is seen there, and the browser's own reports of
// mixed content are the truth.
package browser

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/audits"
	cdpbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	cdpfetch "github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/inspector"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"

	"trimlantern/site/fetch"
)

// ErrMissing says that no browser was found.
var ErrMissing = errors.New("no Chromium is installed")

// names are what the program is called, in the order of trying.
var names = []string{"chromium", "chromium-browser"}

// Find returns the path of the browser: the one given, or the first that is installed.
// It fails with ErrMissing.
func Find(given string) (string, error) {
	if given != "" {
		path, err := exec.LookPath(given)
		if err != nil {
			return "", fmt.Errorf("%w at %s", ErrMissing, given)
		}
		return path, nil
	}
	for _, name := range names {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", ErrMissing
}

// The bounds of one page.
const (
	pageTime  = 25 * time.Second       // from the beginning to the end
	quietTime = 400 * time.Millisecond // so long nothing is loaded any more
	maxSeen   = 5000                   // requests that are kept
)

// Options are how the browser runs.
type Options struct {
	Path   string            // from Find
	Pins   []string          // SHA-256 in base64 of public keys that are trusted whatever the authority
	Header map[string]string // sent to Own hosts alone
	Own    func(host string) bool
}

// Browser is a running browser.
type Browser struct {
	ctx    context.Context
	client *fetch.Client
	close  func()
}

// Mixed is one report of mixed content by the browser itself.
type Mixed struct {
	URL    string
	Kind   string // the browser's word for what was to be loaded: "Image", "Script"
	Status string // Blocked, Upgraded or Warned
}

// The states of a Mixed.
const (
	Blocked  = "blocked"
	Upgraded = "upgraded"
	Warned   = "warned"
)

// Seen is what the browser reports of one page.
type Seen struct {
	URL     string // where the page came from in the end
	Title   string
	Mixed   []Mixed
	Asked   []string // the URLs that were asked for, in order, each once
	Timeout bool     // the page was not quiet in time; what was seen counts
}

// Open starts the browser. All its traffic goes through client's way of reaching
// hosts, so that --resolve counts and no page leads into a private network.
func Open(ctx context.Context, client *fetch.Client, o Options) (*Browser, error) {
	proxy, err := startProxy(client)
	if err != nil {
		return nil, err
	}
	profile, err := os.MkdirTemp("", "trimlantern-browser-")
	if err != nil {
		proxy.Close()
		return nil, err
	}
	flags := append(slices.Clone(chromedp.DefaultExecAllocatorOptions[:]),
		chromedp.ExecPath(o.Path),
		chromedp.UserDataDir(profile),
		chromedp.WindowSize(1280, 900),
		chromedp.ProxyServer("http://"+proxy.addr),
		chromedp.Flag("proxy-bypass-list", "<-loopback>"),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-domain-reliability", true),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("no-pings", true),
		chromedp.WSURLReadTimeout(40*time.Second),
	)
	if len(o.Pins) > 0 {
		flags = append(flags, chromedp.Flag("ignore-certificate-errors-spki-list", strings.Join(o.Pins, ",")))
	}
	if os.Geteuid() == 0 { // its sandbox does not run as root
		flags = append(flags, chromedp.NoSandbox)
	}
	alloc, endAlloc := chromedp.NewExecAllocator(ctx, flags...)
	// What the library cannot read of a newer browser's events is no error of ours.
	silent := func(string, ...any) {}
	tab, endTab := chromedp.NewContext(alloc, chromedp.WithErrorf(silent), chromedp.WithLogf(silent))
	b := &Browser{ctx: tab, client: client, close: func() {
		endTab()
		endAlloc()
		proxy.Close()
		os.RemoveAll(profile)
	}}
	err = chromedp.Run(tab, cdpbrowser.SetDownloadBehavior(cdpbrowser.SetDownloadBehaviorBehaviorDeny))
	if err != nil {
		b.close()
		return nil, fmt.Errorf("%s does not start: %w", o.Path, err)
	}
	return b, nil
}

// Close ends the browser and removes what it kept.
func (b *Browser) Close() { b.close() }

// watch collects the events of one tab.
type watch struct {
	mu     sync.Mutex
	seen   Seen
	asked  map[string]bool
	flying map[network.RequestID]string
	last   time.Time
	loaded bool
	dead   bool
}

func (w *watch) event(ctx context.Context, ev any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch e := ev.(type) {
	case *audits.EventIssueAdded:
		if e.Issue == nil || e.Issue.Code != audits.InspectorIssueCodeMixedContentIssue || e.Issue.Details == nil || e.Issue.Details.MixedContentIssueDetails == nil {
			return
		}
		d := e.Issue.Details.MixedContentIssueDetails
		m := Mixed{URL: d.InsecureURL, Kind: d.ResourceType.String(), Status: Warned}
		switch d.ResolutionStatus {
		case audits.MixedContentResolutionStatusMixedContentBlocked:
			m.Status = Blocked
		case audits.MixedContentResolutionStatusMixedContentAutomaticallyUpgraded:
			m.Status = Upgraded
		}
		if len(w.seen.Mixed) < maxSeen && !slices.Contains(w.seen.Mixed, m) {
			w.seen.Mixed = append(w.seen.Mixed, m)
		}
		w.last = time.Now()
	case *network.EventRequestWillBeSent:
		w.last = time.Now()
		u := e.Request.URL
		if !strings.HasPrefix(u, "data:") && !strings.HasPrefix(u, "blob:") {
			w.flying[e.RequestID] = u
			if !w.asked[u] && len(w.seen.Asked) < maxSeen {
				w.asked[u] = true
				w.seen.Asked = append(w.seen.Asked, u)
			}
		}
	case *network.EventLoadingFinished:
		w.last = time.Now()
		delete(w.flying, e.RequestID)
	case *network.EventLoadingFailed:
		w.last = time.Now()
		delete(w.flying, e.RequestID)
	case *page.EventLoadEventFired:
		w.loaded, w.last = true, time.Now()
	case *target.EventAttachedToTarget:
		if e.TargetInfo != nil && e.TargetInfo.Type == "worker" {
			w.last = time.Now()
			go w.worker(ctx, e.TargetInfo.TargetID)
		}
	case *inspector.EventTargetCrashed:
		w.dead = true
	case *page.EventJavascriptDialogOpening:
		go func() { // a page that asks something must not stop us
			_ = chromedp.Run(ctx, page.HandleJavaScriptDialog(false))
		}()
	}
}

// worker watches a worker of the page, whose requests are not among the page's own
// reports. It may have asked before it could be watched: then its log, which is handed
// over whole, has the browser's words.
func (w *watch) worker(tab context.Context, id target.ID) {
	ctx, end := chromedp.NewContext(tab, chromedp.WithTargetID(id))
	defer end()
	asked := map[network.RequestID]string{}
	chromedp.ListenTarget(ctx, func(ev any) {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.last = time.Now()
		m := Mixed{Kind: "Worker", Status: Blocked}
		switch e := ev.(type) {
		case *network.EventRequestWillBeSent:
			asked[e.RequestID] = e.Request.URL
		case *network.EventLoadingFailed:
			if e.BlockedReason == network.BlockedReasonMixedContent {
				m.URL = asked[e.RequestID]
			}
		case *log.EventEntryAdded:
			if e.Entry != nil && e.Entry.Source == log.SourceSecurity {
				m.URL = quotedInsecure(e.Entry.Text)
			}
		}
		if m.URL != "" && len(w.seen.Mixed) < maxSeen && !slices.Contains(w.seen.Mixed, m) {
			w.seen.Mixed = append(w.seen.Mixed, m)
		}
	})
	if chromedp.Run(ctx) == nil { // else it ended before it could be watched
		<-tab.Done()
	}
}

// quotedInsecure returns the insecure address that a message names in quotes, or "".
func quotedInsecure(text string) string {
	for _, part := range strings.Split(text, "'") {
		if strings.HasPrefix(part, "http://") || strings.HasPrefix(part, "ws://") {
			return part
		}
	}
	return ""
}

// touch begins the time of quiet anew.
func (w *watch) touch() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.last = time.Now()
}

// quiet reports whether the page has loaded all that it wants.
func (w *watch) quiet(now time.Time) (bool, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.dead {
		return false, errors.New("the browser's tab crashed on it")
	}
	since := now.Sub(w.last)
	return w.loaded && (len(w.flying) == 0 && since > quietTime || since > 6*quietTime), nil
}

// Look opens a page, lets its scripts run, goes down to its end and returns what the
// browser reports. Several looks may run at once, each in a tab of its own.
func (b *Browser) Look(ctx context.Context, address string) (*Seen, error) {
	id, err := b.window()
	if err != nil {
		return nil, err
	}
	tab, end := chromedp.NewContext(b.ctx, chromedp.WithTargetID(id))
	defer end()
	tab, stop := context.WithTimeout(tab, pageTime)
	defer stop()
	defer context.AfterFunc(ctx, stop)()
	w := &watch{asked: map[string]bool{}, flying: map[network.RequestID]string{}, last: time.Now()}
	if err := chromedp.Run(tab); err != nil { // opens the tab
		return nil, err
	}
	chromedp.ListenTarget(tab, func(ev any) { w.event(tab, ev) })
	if err := b.confide(tab); err != nil {
		return nil, err
	}
	navigate := chromedp.ActionFunc(func(ctx context.Context) error {
		_, _, failed, _, err := page.Navigate(address).Do(ctx)
		if err == nil && failed != "" {
			err = errors.New(failed)
		}
		return err
	})
	if err := chromedp.Run(tab, network.Enable(), audits.Enable(), navigate); err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, err
	}
	late := false
	settle := func() error {
		for {
			done, err := w.quiet(time.Now())
			if done || err != nil {
				return err
			}
			select {
			case <-tab.Done():
				late = true
				return ctx.Err()
			case <-time.After(40 * time.Millisecond):
			}
		}
	}
	if err := settle(); err != nil {
		return nil, err
	}
	var title, at string
	if !late {
		// What is loaded only when it comes into sight.
		down := chromedp.ActionFunc(func(ctx context.Context) error {
			short, stop := context.WithTimeout(ctx, 3*time.Second)
			defer stop()
			// Two frames later what comes into sight has been told of it; where no frame comes,
			// a while is enough.
			_, _, err := runtime.Evaluate(`new Promise(done => {
				if (document.documentElement && document.documentElement.scrollHeight > innerHeight) scrollTo(0, 1e9)
				requestAnimationFrame(() => requestAnimationFrame(done)); setTimeout(done, 1500) })`).WithAwaitPromise(true).Do(short)
			return err
		})
		_ = chromedp.Run(tab, down) // a page whose scripts hang was looked at all the same
		w.touch()
		if err := settle(); err != nil {
			return nil, err
		}
		_ = chromedp.Run(tab, chromedp.Title(&title), chromedp.Location(&at))
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.seen.URL, w.seen.Title, w.seen.Timeout = at, title, late
	if at == "" {
		w.seen.URL = address
	}
	return &w.seen, nil
}

// confide has the secrets of a staging site sent along, to its own hosts alone.
func (b *Browser) confide(tab context.Context) error {
	secrets := b.client.Secrets()
	if len(secrets) == 0 {
		return nil
	}
	chromedp.ListenTarget(tab, func(ev any) {
		e, ok := ev.(*cdpfetch.EventRequestPaused)
		if !ok {
			return
		}
		go func() { // a listener must not wait
			on := cdpfetch.ContinueRequest(e.RequestID)
			// A redirect must not carry them on to another host.
			for name, v := range e.Request.Headers {
				if text, ok := v.(string); ok && secrets.Get(name) == "" {
					on.Headers = append(on.Headers, &cdpfetch.HeaderEntry{Name: name, Value: text})
				}
			}
			if u, err := url.Parse(e.Request.URL); err == nil && b.client.Confides(u) {
				for name, values := range secrets {
					for _, v := range values {
						on.Headers = append(on.Headers, &cdpfetch.HeaderEntry{Name: name, Value: v})
					}
				}
			}
			_ = chromedp.Run(tab, on) // a tab that is closed needs no answer
		}()
	})
	return chromedp.Run(tab, cdpfetch.Enable())
}

// window opens an empty page in a window of its own: in a tab behind others a browser
// loads neither films nor what comes into sight.
func (b *Browser) window() (id target.ID, err error) {
	err = chromedp.Run(b.ctx, chromedp.ActionFunc(func(ctx context.Context) error {
		id, err = target.CreateTarget("about:blank").WithNewWindow(true).Do(cdp.WithExecutor(ctx, chromedp.FromContext(ctx).Browser))
		return err
	}))
	return id, err
}

// Version returns the browser's own words for itself.
func (b *Browser) Version() string {
	var product string
	_ = chromedp.Run(b.ctx, chromedp.ActionFunc(func(ctx context.Context) error {
		_, p, _, _, _, err := cdpbrowser.GetVersion().Do(cdp.WithExecutor(ctx, chromedp.FromContext(ctx).Browser))
		product = p
		return err
	}))
	return product
}
