// Package browser looks at pages with an installed Chromium over its DevTools
// protocol: what only scripts load is seen there, and the browser's own reports of
// mixed content are the truth.
package browser

import (
	"context"
	"errors"
	"fmt"
	"net/http"
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
	"github.com/chromedp/cdproto/emulation"
	cdpfetch "github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/inspector"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	jsonv2 "github.com/go-json-experiment/json"

	"trimlantern/outside/fetch"
)

// ErrMissing says that no browser was found.
var ErrMissing = errors.New("no Chromium is installed")

// names are what the program is called, in the order of trying.
var names = []string{"chromium", "chromium-browser"}

// Variable is the environment's variable that names the browser; "none": there is none.
const Variable = "TRIMLANTERN_CHROMIUM"

// Find returns the path of the browser: the one given, the one that the environment names, or the first that is installed.
// It fails with ErrMissing.
func Find(given string) (string, error) {
	if given != "" {
		path, err := exec.LookPath(given)
		if err != nil {
			return "", fmt.Errorf("%w at %s", ErrMissing, given)
		}
		return path, nil
	}
	if given = os.Getenv(Variable); given == "none" {
		return "", ErrMissing
	} else if given != "" {
		return Find(given)
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
	pageTime  = 60 * time.Second       // from the beginning to the end
	walkTime  = 8 * time.Second        // to go down it
	quietTime = 400 * time.Millisecond // so long nothing is loaded any more
	maxSeen   = 5000                   // requests that are kept
)

// Options are how the browser runs.
type Options struct {
	Path string   // from Find
	Pins []string // SHA-256 in base64 of public keys that are trusted whatever the authority
	User string   // of this machine, that it runs as; "": the caller, who must not be root then

	NoSandbox bool     // for tests whose pages are our own
	Flags     []string // further ones, for tests
	Full      bool     // look at each page on a telephone too, and for what it loads after some seconds
}

// Browser is a running browser.
type Browser struct {
	client  *fetch.Client
	process *process
	proxy   *proxy
	full    bool
	version string
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
	Links   []string // where its links lead, those that scripts made too
	Timeout bool     // the page was not quiet in time; what was seen counts
}

// startTime is how long the browser may take to start.
const startTime = 40 * time.Second

// Open starts the browser. All its traffic goes through client's way of reaching
// hosts, so that --resolve counts and no page leads into a private network. It is spoken to
// through a pipe, and its way out has a password: no other user of the machine can use either.
func Open(ctx context.Context, client *fetch.Client, o Options) (*Browser, error) {
	proxy, err := startProxy(client)
	if err != nil {
		return nil, err
	}
	process, err := start(o, proxy.addr)
	if err != nil {
		proxy.Close()
		return nil, fmt.Errorf("%s does not start: %w", o.Path, err)
	}
	b := &Browser{client: client, process: process, proxy: proxy, full: o.Full}
	ctx, stop := context.WithTimeout(ctx, startTime)
	defer stop()
	err = cdpbrowser.SetDownloadBehavior(cdpbrowser.SetDownloadBehaviorBehaviorDeny).Do(b.in(ctx))
	if err == nil {
		err = b.introduce(ctx)
	}
	if err != nil {
		b.Close()
		return nil, process.failed(o.Path, err)
	}
	b.version = b.Version()
	return b, nil
}

// Close ends the browser; what it kept goes with it.
func (b *Browser) Close() {
	b.process.stop()
	b.proxy.Close()
}

// in returns a context in which commands go to the browser itself.
func (b *Browser) in(ctx context.Context) context.Context {
	return cdp.WithExecutor(ctx, session{b.process.pipe, ""})
}

// introduce makes the browser known to its proxy: it asks for a page that only the proxy has, and
// remembers the password that it is then given.
func (b *Browser) introduce(ctx context.Context) error {
	t, err := b.open(ctx, "")
	if err != nil {
		return err
	}
	defer t.end()
	return b.greet(t)
}

// greet introduces the profile that a tab belongs to.
func (b *Browser) greet(t *tab) error {
	t.listen(func(ev any) {
		switch e := ev.(type) {
		case *cdpfetch.EventRequestPaused:
			go func() { _ = cdpfetch.ContinueRequest(e.RequestID).Do(t.ctx) }() // what fails shows below
		case *cdpfetch.EventAuthRequired:
			say := &cdpfetch.AuthChallengeResponse{Response: cdpfetch.AuthChallengeResponseResponseCancelAuth}
			if e.AuthChallenge != nil && e.AuthChallenge.Source == cdpfetch.AuthChallengeSourceProxy {
				say = &cdpfetch.AuthChallengeResponse{Response: cdpfetch.AuthChallengeResponseResponseProvideCredentials, Username: proxyUser, Password: b.proxy.password}
			}
			go func() { _ = cdpfetch.ContinueWithAuth(e.RequestID, say).Do(t.ctx) }() // the same
		}
	})
	if err := cdpfetch.Enable().WithHandleAuthRequests(true).Do(t.ctx); err != nil {
		return err
	}
	_, _, failed, _, err := page.Navigate("http://" + introduction + "/").Do(t.ctx)
	if err == nil && failed != "" && !b.proxy.met.Load() {
		err = errors.New(failed)
	}
	return err
}

// tab is a page in a window of its own: in a tab behind others a browser loads neither films nor
// what comes into sight.
type tab struct {
	session
	ctx   context.Context // for commands to it
	stop  context.CancelFunc
	b     *Browser
	id    target.ID
	begun context.Context

	profile cdp.BrowserContextID // its own, which goes with it; "": the browser's
}

// tab opens an empty page. Its commands end with ctx. For a full look it has a profile of its own: what a page before
// it kept or set does not count.
func (b *Browser) tab(ctx context.Context) (*tab, error) {
	if !b.full {
		return b.open(ctx, "")
	}
	profile, err := target.CreateBrowserContext().WithDisposeOnDetach(true).Do(b.in(ctx))
	if err != nil {
		return nil, err
	}
	err = cdpbrowser.SetDownloadBehavior(cdpbrowser.SetDownloadBehaviorBehaviorDeny).WithBrowserContextID(profile).Do(b.in(ctx))
	var t *tab
	if err == nil {
		t, err = b.open(ctx, profile)
	}
	if err == nil {
		if err = b.greet(t); err == nil {
			err = cdpfetch.Disable().Do(t.ctx)
		}
	}
	if err != nil {
		if t != nil {
			t.end()
		} else {
			_ = target.DisposeBrowserContext(profile).Do(b.in(ctx)) // it goes with the browser at the latest
		}
		return nil, err
	}
	return t, nil
}

// open opens an empty page of a profile.
func (b *Browser) open(ctx context.Context, profile cdp.BrowserContextID) (*tab, error) {
	create := target.CreateTarget("about:blank").WithNewWindow(true)
	if profile != "" {
		create = create.WithBrowserContextID(profile)
	}
	id, err := create.Do(b.in(ctx))
	if err != nil {
		return nil, err
	}
	own, err := target.AttachToTarget(id).WithFlatten(true).Do(b.in(ctx))
	if err != nil {
		return nil, err
	}
	t := &tab{session: session{b.process.pipe, own}, b: b, id: id, begun: ctx, profile: profile}
	t.ctx, t.stop = context.WithCancel(cdp.WithExecutor(ctx, t.session))
	return t, nil
}

// end closes the page.
func (t *tab) end() {
	t.stop()
	t.listen(nil)
	ctx, stop := context.WithTimeout(context.WithoutCancel(t.begun), 5*time.Second)
	defer stop()
	_ = target.CloseTarget(t.id).Do(t.b.in(ctx)) // with the browser it closes anyway
	if t.profile != "" {
		_ = target.DisposeBrowserContext(t.profile).Do(t.b.in(ctx)) // the same
	}
}

// do runs commands of the page, one after the other.
func (t *tab) do(commands ...interface{ Do(context.Context) error }) error {
	for _, c := range commands {
		if err := c.Do(t.ctx); err != nil {
			return err
		}
	}
	return nil
}

// watch collects the events of one tab.
type watch struct {
	mu     sync.Mutex
	seen   Seen
	asked  map[string]bool
	flying map[network.RequestID]string
	last   time.Time
	loaded bool
	dead   bool
	later  bool // the time that was skipped is over
}

func (w *watch) event(t *tab, ev any) {
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
		own := session{t.p, e.SessionID}
		if e.TargetInfo != nil && strings.Contains(e.TargetInfo.Type, "work") { // a worker of any kind, a worklet
			w.last = time.Now()
			w.worker(t, own, e.WaitingForDebugger)
		} else if e.WaitingForDebugger {
			go func() { _ = runtime.RunIfWaitingForDebugger().Do(cdp.WithExecutor(t.ctx, own)) }() // gone already: it needs nothing
		}
	case *emulation.EventVirtualTimeBudgetExpired:
		w.later, w.last = true, time.Now()
	case *inspector.EventTargetCrashed:
		w.dead = true
	case *page.EventJavascriptDialogOpening:
		go func() { // a page that asks something must not stop us
			_ = page.HandleJavaScriptDialog(false).Do(t.ctx) // a page that has gone needs no answer
		}()
	}
}

// worker watches a worker of the page, whose requests are not among the page's own
// reports, before it starts. One that has started already may have asked before it could be watched: then its log, which
// is handed over whole, has the browser's words.
func (w *watch) worker(t *tab, own session, waits bool) {
	asked := map[network.RequestID]string{}
	own.listen(func(ev any) {
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
	go func() {
		ctx := cdp.WithExecutor(t.ctx, own)
		_ = log.Enable().Do(ctx) // it may have ended before it could be watched
		_ = network.Enable().Do(ctx)
		if waits {
			_ = runtime.RunIfWaitingForDebugger().Do(ctx)
		}
		<-t.ctx.Done()
		own.listen(nil)
	}()
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

// maxLinks is how many links of a page are kept.
const maxLinks = 2000

// links keeps where the links of the page lead by now.
func (w *watch) links(t *tab) {
	list := strings.Fields(t.text(`[...document.querySelectorAll("a[href], area[href]")].slice(0, 2000).map(a => a.href).filter(h => h.startsWith("http")).join("\n")`))
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, u := range list {
		if !slices.Contains(w.seen.Links, u) && len(w.seen.Links) < maxLinks {
			w.seen.Links = append(w.seen.Links, u)
		}
	}
}

// again waits for the page to load once more.
func (w *watch) again() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.loaded, w.last = false, time.Now()
	clear(w.flying)
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
	limited, stop := context.WithTimeout(ctx, pageTime)
	defer stop()
	t, err := b.tab(limited)
	if err != nil {
		return nil, err
	}
	defer t.end()
	w := &watch{asked: map[string]bool{}, flying: map[network.RequestID]string{}, last: time.Now()}
	secrets := b.client.Secrets()
	t.listen(func(ev any) {
		w.event(t, ev)
		if e, ok := ev.(*cdpfetch.EventRequestPaused); ok {
			go b.confide(t, e, secrets) // a listener must not wait
		}
	})
	if len(secrets) > 0 {
		if err := cdpfetch.Enable().Do(t.ctx); err != nil {
			return nil, err
		}
	}
	err = t.do(inspector.Enable(), page.Enable(), log.Enable(), runtime.Enable(), target.SetAutoAttach(true, true).WithFlatten(true), network.Enable(), audits.Enable())
	if err == nil {
		var failed string
		if _, _, failed, _, err = page.Navigate(address).Do(t.ctx); err == nil && failed != "" {
			err = errors.New(failed)
		}
	}
	if err != nil {
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
			case <-t.ctx.Done():
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
		if err := b.walk(t, w, settle); err != nil {
			return nil, err
		}
		title, at = t.text("document.title"), t.text("location.href")
		w.links(t)
	}
	if !late && b.full {
		if err := b.gesture(t, w, false, settle); err != nil {
			return nil, err
		}
		if err := b.more(t, w, settle); err != nil {
			return nil, err
		}
	}
	if !late && b.full {
		w.links(t)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.seen.URL, w.seen.Title, w.seen.Timeout = at, title, late
	if at == "" {
		w.seen.URL = address
	}
	return &w.seen, nil
}

// down goes through a page a screen at a time: what is loaded only when it comes into sight has to be
// in sight. Two frames later it has been told so; where no frame comes, a while is enough.
const down = `new Promise(async done => {
	const frame = () => new Promise(next => { requestAnimationFrame(() => requestAnimationFrame(next)); setTimeout(next, 300) })
	const root = document.documentElement
	for (let at = 0, screens = 0; root && screens < 120 && at < root.scrollHeight; screens++, at += Math.max(innerHeight * 0.9, 100)) {
		if (root.scrollHeight > innerHeight) scrollTo({ top: at, behavior: "instant" })
		await frame()
	}
	if (root && root.scrollHeight > innerHeight) scrollTo({ top: 1e9, behavior: "instant" })
	await frame()
	done() })`

// walk goes down the page and waits until it is quiet. A page whose scripts hang was looked at all
// the same.
func (b *Browser) walk(t *tab, w *watch, settle func() error) error {
	short, stop := context.WithTimeout(t.ctx, walkTime)
	_, _, _ = runtime.Evaluate(down).WithAwaitPromise(true).Do(short)
	stop()
	w.touch()
	return settle()
}

// The size of a telephone, and what it draws for each point.
const phoneWidth, phoneHeight, phoneScale = 390, 844, 3

// laterTime is how much of a page's time is skipped to, in milliseconds.
const laterTime = 10_000

// gesture does what a visitor does first, for which many pages wait with their scripts: moves the pointer, turns the wheel
// and presses a key, or touches the screen. Nothing is clicked. A page that takes no gesture was looked at all the same.
func (b *Browser) gesture(t *tab, w *watch, phone bool, settle func() error) error {
	short, stop := context.WithTimeout(t.ctx, walkTime)
	defer stop()
	if phone {
		_ = input.DispatchTouchEvent(input.TouchStart, []*input.TouchPoint{{X: 120, Y: 300}}).Do(short)
		_ = input.DispatchTouchEvent(input.TouchMove, []*input.TouchPoint{{X: 120, Y: 260}}).Do(short)
		_ = input.DispatchTouchEvent(input.TouchCancel, []*input.TouchPoint{}).Do(short)
	} else {
		_ = input.DispatchMouseEvent(input.MouseMoved, 200, 300).Do(short)
		_ = input.DispatchMouseEvent(input.MouseMoved, 240, 340).Do(short)
		_ = input.DispatchMouseEvent(input.MouseWheel, 240, 340).WithDeltaX(0).WithDeltaY(-60).Do(short)
		_ = input.DispatchKeyEvent(input.KeyDown).WithKey("Shift").WithCode("ShiftLeft").Do(short)
		_ = input.DispatchKeyEvent(input.KeyUp).WithKey("Shift").WithCode("ShiftLeft").Do(short)
	}
	w.touch()
	return settle()
}

// more looks at the page a second time, as on a telephone, and at what it loads in the seconds that come, which need not
// be waited for: the browser moves the page's clock on while nothing is loaded.
func (b *Browser) more(t *tab, w *watch, settle func() error) error {
	number, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(b.version, "Headless"), "Chrome/"), ".")
	agent := "Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/" + number + ".0.0.0 Mobile Safari/537.36"
	err := t.do(emulation.SetDeviceMetricsOverride(phoneWidth, phoneHeight, phoneScale, true), emulation.SetTouchEmulationEnabled(true).WithMaxTouchPoints(5),
		emulation.SetUserAgentOverride(agent).WithPlatform("Android"))
	if err != nil {
		return err
	}
	w.again()
	if err := page.Reload().Do(t.ctx); err != nil {
		return err
	}
	if err := settle(); err != nil {
		return err
	}
	if err := b.walk(t, w, settle); err != nil {
		return err
	}
	if err := b.gesture(t, w, true, settle); err != nil {
		return err
	}
	if _, err := emulation.SetVirtualTimePolicy(emulation.VirtualTimePolicyPauseIfNetworkFetchesPending).WithBudget(laterTime).Do(t.ctx); err != nil {
		return err
	}
	for began := time.Now(); time.Since(began) < walkTime; time.Sleep(20 * time.Millisecond) {
		w.mu.Lock()
		over := w.later
		w.mu.Unlock()
		if over || t.ctx.Err() != nil {
			break
		}
	}
	w.touch()
	return settle()
}

// text returns the text that a script of the page gives, or "".
func (t *tab) text(script string) (text string) {
	v, _, err := runtime.Evaluate(script).WithReturnByValue(true).Do(t.ctx)
	if err != nil || v == nil || jsonv2.Unmarshal(v.Value, &text) != nil {
		return ""
	}
	return text
}

// confide lets a request go on, with the secrets of a staging site where it goes to one of its own
// hosts. A redirect must not carry them on to another.
func (b *Browser) confide(t *tab, e *cdpfetch.EventRequestPaused, secrets http.Header) {
	on := cdpfetch.ContinueRequest(e.RequestID)
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
	_ = on.Do(t.ctx) // a tab that is closed needs no answer
}

// Version returns the browser's own words for itself.
func (b *Browser) Version() string {
	_, product, _, _, _, err := cdpbrowser.GetVersion().Do(b.in(context.Background()))
	if err != nil {
		return ""
	}
	return product
}
