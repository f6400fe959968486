// Package verbose is the log of what a run asks of the world outside: requests, databases, files, other programs.
// It is off until Begin is called. Packages write to it through log/slog.
package verbose

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
)

// masked stands in the place of a secret.
const masked = "[secret]"

// secrets are the texts that no line may hold, the longest first.
var secrets struct {
	sync.RWMutex
	all []string
}

// shortest is the length from which a text can be told from any other: shorter ones would mask half the log. They
// are in no line either way, since only addresses, names and numbers are written.
const shortest = 4

// Secret has a text masked wherever a line would hold it.
func Secret(s string) {
	if len(s) < shortest {
		return
	}
	secrets.Lock()
	defer secrets.Unlock()
	if !slices.Contains(secrets.all, s) {
		secrets.all = append(secrets.all, s)
		slices.SortFunc(secrets.all, func(a, b string) int { return len(b) - len(a) })
	}
}

// mask takes the secrets out of a text, also where they are written as a part of a URL.
func mask(s string) string {
	secrets.RLock()
	defer secrets.RUnlock()
	for _, one := range secrets.all {
		for _, spelled := range []string{one, url.QueryEscape(one), url.PathEscape(one)} {
			s = strings.ReplaceAll(s, spelled, masked)
		}
	}
	return s
}

// Off makes an end of the log.
func Off() { slog.SetDefault(slog.New(slog.DiscardHandler)) }

// Begin writes the log to w from now on, a line an event: as key=value, or as JSON.
func Begin(w io.Writer, asJSON bool) {
	o := &slog.HandlerOptions{Level: slog.LevelDebug, ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		switch v := a.Value.Any().(type) {
		case string:
			a.Value = slog.StringValue(mask(v))
		case error:
			a.Value = slog.StringValue(mask(v.Error()))
		case time.Duration:
			a.Value = slog.StringValue(v.Round(time.Microsecond).String())
		}
		return a
	}}
	var h slog.Handler = slog.NewTextHandler(w, o)
	if asJSON {
		h = slog.NewJSONHandler(w, o)
	}
	slog.SetDefault(slog.New(h))
}

// Address writes a URL without what a user gave to log in.
func Address(u *url.URL) string {
	if u.User == nil {
		return u.String()
	}
	bare := *u
	bare.User = nil
	return bare.String()
}

// Request logs a request and what came back. Headers and bodies are in no line.
func Request(ctx context.Context, began time.Time, method string, at *url.URL, res *http.Response, err error) {
	about := []any{"method", method, "url", Address(at)}
	if res != nil {
		about = append(about, "status", res.StatusCode)
	}
	Took(ctx, began, "request", err, about...)
}

// Took logs an event with how long it took and what went wrong with it.
func Took(ctx context.Context, began time.Time, what string, err error, about ...any) {
	if !slog.Default().Enabled(ctx, slog.LevelDebug) {
		return
	}
	about = append(about, "took", time.Since(began))
	if err != nil {
		about = append(about, "error", err)
	}
	slog.DebugContext(ctx, what, about...)
}
