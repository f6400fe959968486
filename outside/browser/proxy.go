package browser

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"sync/atomic"
	"time"

	"trimlantern/outside/fetch"
)

// proxy carries the browser's traffic to where the client would go: what is reached
// elsewhere stays there, and private networks are out of reach. It serves nobody without the
// password, since others on the machine can reach it too.
type proxy struct {
	http.Server
	addr     string
	password string
	met      atomic.Bool // the browser has shown the password
}

const (
	proxyUser    = "trimlantern"
	introduction = "introduction.invalid" // RFC 6761: no host is called that
)

func startProxy(client *fetch.Client) (*proxy, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	forward := &httputil.ReverseProxy{
		Rewrite:      func(r *httputil.ProxyRequest) {},
		Transport:    &http.Transport{DialContext: client.Dial, ResponseHeaderTimeout: pageTime, MaxResponseHeaderBytes: 1 << 20},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) },
		ErrorLog:     nil,
	}
	p := &proxy{addr: l.Addr().String(), password: rand.Text()}
	p.ReadHeaderTimeout = pageTime
	p.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method != http.MethodConnect && !r.URL.IsAbs():
			w.WriteHeader(http.StatusBadRequest)
		case !p.knows(r):
			w.Header().Set("Proxy-Authenticate", `Basic realm="Trim Lantern"`)
			w.WriteHeader(http.StatusProxyAuthRequired)
		case r.URL.Hostname() == introduction:
			p.met.Store(true)
			w.WriteHeader(http.StatusNoContent)
		case r.Method == http.MethodConnect:
			tunnel(client, w, r)
		default:
			forward.ServeHTTP(w, r)
		}
	})
	go func() { _ = p.Serve(l) }()
	return p, nil
}

// knows reports whether a request carries the password.
func (p *proxy) knows(r *http.Request) bool {
	want := "Basic " + base64.StdEncoding.EncodeToString([]byte(proxyUser+":"+p.password))
	return subtle.ConstantTimeCompare([]byte(r.Header.Get("Proxy-Authorization")), []byte(want)) == 1
}

// tunnel joins the browser with a host, for TLS and WebSockets.
func tunnel(client *fetch.Client, w http.ResponseWriter, r *http.Request) {
	ctx, stop := context.WithTimeout(r.Context(), 10*time.Second)
	defer stop()
	there, err := client.Dial(ctx, "tcp", r.Host)
	if err != nil {
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	defer there.Close()
	hijacker, ok := w.(http.Hijacker)
	if !ok {
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	here, rest, err := hijacker.Hijack()
	if err != nil {
		return
	}
	defer here.Close()
	if _, err := io.WriteString(here, "HTTP/1.1 200 OK\r\n\r\n"); err != nil {
		return
	}
	done := make(chan struct{}, 2)
	go func() { _, _ = io.Copy(there, rest); done <- struct{}{} }()
	go func() { _, _ = io.Copy(here, there); done <- struct{}{} }()
	<-done
}
