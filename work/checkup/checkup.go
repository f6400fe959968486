// Package checkup is one look at a site's health for a timer: certificate, server, redirects and pages.
package checkup

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"trimlantern/core/alike"
	"trimlantern/core/coverage"
	"trimlantern/core/point"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/cert"
	"trimlantern/work/findings"
	"trimlantern/work/reach"
	"trimlantern/work/ready"
	"trimlantern/work/redirect"
	"trimlantern/work/scan"
)

// Result is the result of one health check, compared with the previous one. It is reported whatever fails:
// the night on which the site is down is the one that matters.
type Result struct {
	Site      string             `json:"site"`
	Time      time.Time          `json:"time"`
	Well      bool               `json:"well"`
	Down      []string           `json:"down"`      // why visitors get no page; empty: they do
	Failed    []string           `json:"failed"`    // what could not be checked, and why
	Days      int                `json:"days"`      // that the certificate is good for
	Points    []point.Point      `json:"points"`    // faults of certificate and server, the gravest first
	Redirects []point.Point      `json:"redirects"` // faults of the redirect, each with its addresses
	New       []findings.Culprit `json:"new"`       // insecure since the look before
	Still     []findings.Culprit `json:"still"`     // insecure then and now
	Gone      []findings.Culprit `json:"gone"`      // insecure then, and no more
	Unread    []findings.Unread  `json:"unread"`
	Pages     int                `json:"pages"` // how many were read
	Renewals  []cert.Renewal     `json:"renewals"`

	Coverage coverage.Summary `json:"coverage"`
}

// Code is the exit code that it comes to.
func (c *Result) Code() int {
	if c.Well {
		return work.Clean
	}
	return work.Remain
}

// Options say how a site is looked at.
type Options struct {
	Soon  time.Duration // a certificate that ends within it needs attention; 0: as ready has it
	Learn bool          // what the site looks like now is right: forget what it looked like before
	Look  scan.Options
}

// Run checks certificate, server, redirects and pages, and compares them with what they were when the site was last well.
// Notes and accepted faults are not reported.
func Run(ctx context.Context, j *work.Job, o Options) (*Result, error) {
	defer j.Progress.End()
	j.Cookies, j.Patient = true, true
	out := &Result{Site: j.Site.String(), Time: j.Now(), Down: []string{}, Failed: []string{}, Points: []point.Point{}, Redirects: []point.Point{},
		New: []findings.Culprit{}, Still: []findings.Culprit{}, Gone: []findings.Culprit{}, Unread: []findings.Unread{}, Renewals: []cert.Renewal{}}
	failed := func(what string, err error) error {
		var f *work.Fault
		if ctx.Err() != nil || errors.As(err, &f) && f.Code == work.Misuse {
			return err // interrupted, or what the user wrote cannot be used
		}
		out.Failed = append(out.Failed, what+": "+firstLine(err))
		return nil
	}
	ready, err := ready.Check(ctx, j, ready.Options{Soon: o.Soon})
	if err != nil {
		if err := failed("certificate and server", err); err != nil {
			return nil, err
		}
	} else {
		out.Days = ready.Days
		out.Points = faultsOf(ready.Points)
		out.Down = down(ready)
	}
	if err := errors.Join(cert.Look(ctx, j), renewing(j, out)); err != nil {
		if err := failed("renewal of certificates", err); err != nil {
			return nil, err
		}
	}
	redirects, err := redirect.Test(ctx, j, redirect.Options{})
	if err != nil {
		if err := failed("redirects", err); err != nil {
			return nil, err
		}
	} else if len(out.Down) == 0 { // else they say the same again
		out.Redirects = faultsOf(redirects.Points)
	}
	look := o.Look
	look.Compare = "last"
	seen := &looks{own: j.Site.NetworkHosts(), pages: map[string]alike.Likeness{}}
	look.Shown = seen.shown
	now, err := scan.Run(ctx, j, look)
	if err != nil {
		if err := failed("pages", err); err != nil {
			return nil, err
		}
		return out, nil
	}
	if c := now.Compared; c != nil { // else it is the first
		out.New, out.Still, out.Gone = c.New, c.Still, c.Gone
	} else {
		out.New = now.Culprits
	}
	if err := remember(ctx, j, seen, now, o.Learn, out); err != nil {
		if err := failed("what the site looked like before", err); err != nil {
			return nil, err
		}
	}
	out.Unread, out.Pages, out.Coverage = now.Unread, now.Read, now.Coverage
	out.Well = len(out.Failed)+len(out.Down)+len(out.Points)+len(out.Redirects)+len(now.Culprits) == 0 && now.Code() == work.Clean
	return out, nil
}

// renewing adds what is wrong with the renewal of the certificates that this program obtained.
func renewing(j *work.Job, out *Result) error {
	renewals, err := cert.Renewals(j)
	if err != nil {
		return err
	}
	out.Renewals = append(out.Renewals, renewals...)
	var points []point.Point
	for _, r := range renewals {
		if what := r.Trouble(j.Now()); what != "" {
			points = append(points, words.RenewalTrouble.Point([]string{r.Host}, what, r.Until.Format("2006-01-02")))
		}
	}
	points, err = j.WithDecisions(points)
	out.Points = append(out.Points, faultsOf(points)...)
	return err
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// faultsOf returns the faults that count, those that stop visitors first.
func faultsOf(points []point.Point) []point.Point {
	out := []point.Point{}
	for _, g := range []point.Grade{point.Stop, point.Care} {
		for _, p := range points {
			if p.Grade == g && p.Counts() {
				out = append(out, p)
			}
		}
	}
	return out
}

// down says why visitors get no page, where the front page gives none over HTTPS on any address.
func down(r *ready.Result) []string {
	out := []string{}
	host := strings.TrimPrefix(r.Site, "https://")
	for _, t := range r.Pages {
		if t.Want != "/" || !strings.HasPrefix(t.Page, host) {
			continue
		}
		switch {
		case t.Stands == reach.NoSecure:
			out = append(out, "https://"+t.Page+": "+t.Secure.Err)
		case t.Secure.Status >= 500:
			out = append(out, fmt.Sprintf("https://%s answers %d", t.Page, t.Secure.Status))
		case t.Stands != reach.TooFar:
			return []string{} // some visitors get it
		}
	}
	return out
}

// Timers are what can make a machine run something at its time.
var Timers = []string{"cron", "systemd"}

// Timer is what makes a machine run the checkup every night.
type Timer struct {
	Kind  string            `json:"kind"`  // "cron" or "systemd"
	Files map[string]string `json:"files"` // what stands in which file; for cron the one line
}

// Code is the exit code that it comes to.
func (*Timer) Code() int { return work.Clean }

// TimerFor writes the line for cron, which mails what is printed, or the two units for systemd, whose journal
// keeps it: for the health check every morning.
func TimerFor(j *work.Job, kind string) (*Timer, error) {
	return timer(j, kind, "trimlantern-"+j.Site.Host, "checkup --quiet", "Health check", "every morning", 6)
}

// RenewalTimer is TimerFor for the renewal of certificates, every six hours: one that lives for days alone needs
// several tries before it ends.
func RenewalTimer(j *work.Job, kind string) (*Timer, error) {
	return timer(j, kind, "trimlantern-renew-"+j.Site.Host, "cert renew --quiet", "Renewal of the certificates", "every six hours", 4, 10, 16, 22)
}

func timer(j *work.Job, kind, name, command, what, often string, hours ...int) (*Timer, error) {
	if j.File.Path == "" {
		return nil, work.BadUse(nil, "a timer needs a site file, and there is none", "make one: trimlantern init --site "+j.Site.String()+" FOLDER")
	}
	program, err := os.Executable()
	if err == nil {
		program, err = filepath.EvalSymlinks(program)
	}
	if err != nil {
		return nil, work.Failed(err, "the path of this program is not known", "write the line by hand: see trimlantern checkup --help")
	}
	command = ShellWord(program) + " " + command + " --config " + ShellWord(j.File.Path)
	minute := int(scan.Hash(j.Site.Host) % 60) // not all sites of a machine at once
	at, calendar := []string{}, ""
	for _, h := range hours {
		at = append(at, fmt.Sprint(h))
		calendar += fmt.Sprintf("OnCalendar=*-*-* %02d:%02d:00\n", h, minute)
	}
	switch kind {
	case "cron":
		return &Timer{kind, map[string]string{"crontab": fmt.Sprintf("%d %s * * *  %s\n", minute, strings.Join(at, ","), strings.ReplaceAll(command, "%", `\%`))}}, nil
	case "systemd":
		return &Timer{kind, map[string]string{
			name + ".service": "[Unit]\nDescription=" + what + " of " + j.Site.String() + "\nWants=network-online.target\nAfter=network-online.target\n\n[Service]\nType=oneshot\nExecStart=" + strings.ReplaceAll(command, "%", "%%") + "\n",
			name + ".timer":   fmt.Sprintf("[Unit]\nDescription=%s of %s %s\n\n[Timer]\n%sPersistent=true\n\n[Install]\nWantedBy=timers.target\n", what, j.Site, often, calendar),
		}}, nil
	}
	return nil, work.BadUse(nil, fmt.Sprintf("%q is not a known timer", kind), "write cron or systemd")
}

// ShellWord quotes a word where a shell would not take it as it is.
func ShellWord(s string) string {
	if strings.IndexFunc(s, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("/._-+=:@,", c))
	}) < 0 {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
