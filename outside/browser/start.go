package browser

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"time"
)

// flags are how the browser runs: without a window, without asking anybody but the pages' own
// hosts, and the same on every machine.
var flags = []string{
	"--headless", "--hide-scrollbars", "--mute-audio", "--no-first-run", "--no-default-browser-check", "--window-size=1280,900",
	"--remote-debugging-pipe",
	"--enable-features=NetworkService,NetworkServiceInProcess",
	"--disable-features=site-per-process,Translate,BlinkGenPropertyTrees,DnsOverHttps,AsyncDns,MediaRouter,OptimizationHints,NetworkTimeServiceQuerying,Prerender2,PreconnectToSearch,WebTransport,InterestFeedContentSuggestions,CertificateTransparencyComponentUpdater",
	"--disable-blink-features=WebTransport,DirectSockets", "--dns-prefetch-disable",
	// All that is left goes through the proxy: no UDP, and no name is looked up by the browser itself.
	"--force-webrtc-ip-handling-policy=disable_non_proxied_udp", "--webrtc-ip-handling-policy=disable_non_proxied_udp",
	"--disable-component-extensions-with-background-pages", "--disable-external-intent-requests", "--disable-notifications",
	"--disable-background-networking", "--disable-background-timer-throttling", "--disable-backgrounding-occluded-windows",
	"--disable-breakpad", "--disable-client-side-phishing-detection", "--disable-component-update", "--disable-default-apps",
	"--disable-dev-shm-usage", "--disable-domain-reliability", "--disable-extensions", "--disable-hang-monitor",
	"--disable-ipc-flooding-protection", "--disable-popup-blocking", "--disable-prompt-on-repost", "--disable-quic",
	"--disable-renderer-backgrounding", "--disable-sync", "--no-pings", "--force-color-profile=srgb", "--metrics-recording-only",
	"--safebrowsing-disable-auto-update", "--enable-automation", "--password-store=basic", "--use-mock-keychain",
	"--proxy-bypass-list=<-loopback>",
}

// runAndClear runs the browser and removes its profile behind it: also where this program was
// killed meanwhile, since then the browser's pipes close and it ends.
const runAndClear = `profile=$1; shift; "$@"; code=$?; rm -rf -- "$profile"; exit $code`

// process is a running browser with its profile.
type process struct {
	*pipe
	cmd     *exec.Cmd
	profile string
	said    *tail
	ended   chan struct{}
}

// start runs the browser. Its profile is a new folder that goes with it.
func start(o Options, proxyAddress string) (*process, error) {
	if Unprotected(o.User) && !o.NoSandbox {
		return nil, errors.New("as root it would run without its sandbox")
	}
	profile, err := os.MkdirTemp("", "trimlantern-browser-")
	if err != nil {
		return nil, err
	}
	args := append([]string{}, flags...)
	args = append(args, "--user-data-dir="+profile, "--proxy-server=http://"+proxyAddress, "--host-resolver-rules=MAP * ~NOTFOUND, EXCLUDE "+proxyHost(proxyAddress))
	if len(o.Pins) > 0 {
		args = append(args, "--ignore-certificate-errors-spki-list="+strings.Join(o.Pins, ","))
	}
	if o.NoSandbox {
		args = append(args, "--no-sandbox")
	}
	p := &process{profile: profile, said: &tail{}, ended: make(chan struct{})}
	p.cmd = command(profile, o.Path, append(append(args, o.Flags...), "about:blank"))
	err = runAs(p.cmd, profile, o.User)
	if err == nil {
		err = p.connect()
	}
	if err != nil {
		os.RemoveAll(profile)
		return nil, err
	}
	go func() {
		_ = p.cmd.Wait() // what it said is kept
		os.RemoveAll(profile)
		close(p.ended)
	}()
	return p, nil
}

// proxyHost is the host of an address of the proxy, the only one that the browser looks up.
func proxyHost(address string) string {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return address
	}
	return host
}

// connect starts the command with the pipes as its files 3 and 4.
func (p *process) connect() error {
	itsIn, ourOut, err := os.Pipe()
	if err != nil {
		return err
	}
	ourIn, itsOut, err := os.Pipe()
	if err != nil {
		return errors.Join(err, itsIn.Close(), ourOut.Close())
	}
	p.cmd.ExtraFiles = []*os.File{itsIn, itsOut}
	p.cmd.Stderr = p.said
	err = p.cmd.Start()
	itsIn.Close()
	itsOut.Close()
	if err != nil {
		return errors.Join(err, ourIn.Close(), ourOut.Close())
	}
	p.pipe = newPipe(ourOut, ourIn)
	return nil
}

// stop ends the browser, in a friendly way first.
func (p *process) stop() {
	p.pipe.close()
	select {
	case <-p.ended:
	case <-time.After(5 * time.Second):
		kill(p.cmd)
		<-p.ended
	}
}

// failed says why the browser did not start.
func (p *process) failed(path string, err error) error {
	if errors.Is(err, errGone) || errors.Is(err, context.DeadlineExceeded) {
		if why := p.said.last(); why != "" {
			return fmt.Errorf("%s does not start: %s", path, why)
		}
	}
	return fmt.Errorf("%s does not start: %w", path, err)
}

// tail keeps the last of what a program says.
type tail struct{ b []byte }

func (t *tail) Write(b []byte) (int, error) {
	t.b = append(t.b, b...)
	if n := len(t.b) - 4096; n > 0 {
		t.b = t.b[n:]
	}
	return len(b), nil
}

// last returns the last line that says something. It is asked for only when the program has ended.
func (t *tail) last() string {
	lines := strings.Split(strings.TrimSpace(string(t.b)), "\n")
	return strings.TrimSpace(lines[len(lines)-1])
}
