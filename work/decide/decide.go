package decide

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"trimlantern/core/point"
	"trimlantern/outside/sitefile"
	"trimlantern/work"
	"trimlantern/work/ready"
	"trimlantern/work/redirect"
)

// Decision is what the owner decided about a finding.
type Decision struct {
	Number  int      `json:"number"`
	Finding string   `json:"finding"`
	About   []string `json:"about"`
	What    string   `json:"what"`
	Because string   `json:"because"`
	Path    string   `json:"path"`          // of the site file that keeps it
	Not     []string `json:"not,omitempty"` // places of the item that are not edited, with the reason
}

// Code is the exit code that it comes to.
func (*Decision) Code() int { return work.Clean }

// Accept records in the site file that the owner accepts a finding, named by its number or its URL, with a
// reason: it is shown from then on, and does not count.
func Accept(j *work.Job, what, because string) (*Decision, error) {
	if strings.TrimSpace(because) == "" {
		return nil, work.BadUse(nil, "a decision needs a reason", `write it for those who look after the site next: --because "the host's panel does that"`)
	}
	points, _, err := lastPoints(j)
	if err != nil {
		return nil, err
	}
	number, bad := strconv.Atoi(what)
	i := -1
	if bad == nil {
		i = slices.IndexFunc(points, func(p point.Point) bool { return p.Number == number && p.Grade.Fault() })
	}
	entry := sitefile.Accepted{Because: strings.TrimSpace(because), Date: j.Today()}
	d := &Decision{Number: number, Because: entry.Because, Path: j.File.Path}
	if i < 0 {
		item, err := item(j, what)
		if err != nil {
			return nil, err
		}
		if item == nil {
			return nil, work.BadUse(nil, what+" is nothing that preview or the last scan found", "trimlantern show lists what needs a decision")
		}
		entry.Finding, d.Number = item.Finding, item.Number
		entry.About, d.What = []string{strings.TrimPrefix(item.key, item.Finding+" ")}, cmp.Or(item.URL, strings.Join(item.Places, ", "))
	} else {
		p := points[i]
		if p.Grade == point.Stop {
			return nil, work.BadUse(nil, fmt.Sprintf("fault %d stops visitors, and cannot be accepted: %s", number, p.What), "fix it; what cannot be fixed now keeps the site from being ready")
		}
		if p.Accepted != "" {
			return nil, work.BadUse(nil, fmt.Sprintf("fault %d is accepted already: %s", number, p.Accepted), "edit accepted in "+j.File.Path+" to change the reason")
		}
		entry.Finding, entry.About, d.What = p.ID, p.About, p.What
	}
	d.Finding, d.About = entry.Finding, entry.About
	if err := j.File.Add("accepted", entry); err != nil {
		return nil, j.DecisionFault(err)
	}
	return d, nil
}

// lastPoints are the faults that the last ready and the last redirect test showed, by their numbers, as far as nothing
// was changed since that they speak of; old names those of the two that are older.
func lastPoints(j *work.Job) (points []point.Point, old []string, err error) {
	var redirects redirect.Tested
	checked, err := ready.Last(j)
	if err != nil {
		return nil, nil, err
	}
	if checked == nil {
		checked = &ready.Result{}
	}
	if err := j.Book.ReadJSON(redirect.LastTest, &redirects); err != nil {
		return nil, nil, work.BookFault(err)
	}
	certificate, err := j.CertificateChanged()
	if err != nil {
		return nil, nil, err
	}
	rules, err := j.RulesChanged()
	if err != nil {
		return nil, nil, err
	}
	old = []string{}
	if checked.Time.Before(certificate.Truncate(time.Second)) && len(checked.Points) > 0 {
		old = append(old, "ready")
	} else {
		points = append(points, checked.Points...)
	}
	if redirects.Time.Before(rules.Truncate(time.Second)) && len(redirects.Points) > 0 {
		old = append(old, "redirect test")
	} else {
		points = append(points, redirects.Points...)
	}
	points, err = j.WithDecisions(points)
	return points, old, err
}

// decideHost records what the owner says of a host: "secure", "insecure" or "leave"; "": nothing any more.
func decideHost(j *work.Job, host, what string) error {
	if err := j.File.Set("hosts", host, what); err != nil {
		return j.DecisionFault(err)
	}
	return nil
}

// HostDecisions are what may be decided about a host.
var HostDecisions = []string{"secure", "insecure", "leave"}

// Host records that the user knows what a host does, or that it is to be left alone.
func Host(j *work.Job, raw, what string) (*Decision, error) {
	if !slices.Contains(HostDecisions, what) {
		return nil, work.BadUse(nil, what+" is not a decision about a host", "write secure, insecure or leave")
	}
	host, err := otherHost(j, raw)
	if err != nil {
		return nil, err
	}
	if err := decideHost(j, host, what); err != nil {
		return nil, err
	}
	return &Decision{Finding: "host", About: []string{host}, What: host, Because: what, Path: j.File.Path}, nil
}

// otherHost reads the name of a host that is not the site's own. It may be the number of an item, or a URL.
func otherHost(j *work.Job, raw string) (string, error) {
	host := strings.ToLower(strings.TrimSpace(raw))
	if item, err := item(j, raw); err == nil && item != nil {
		if host = item.Host; host == "" {
			return "", work.BadUse(nil, "item "+raw+" is not about a host", "trimlantern show lists the items")
		}
	} else if u, err := url.Parse(host); err == nil && u.Host != "" {
		host = u.Hostname()
	}
	host = strings.TrimSuffix(strings.TrimSuffix(host, "/"), ":80")
	if host == "" || strings.ContainsAny(host, "/ *?#@\\") || !strings.Contains(host, ".") && host != "localhost" {
		return "", work.BadUse(nil, fmt.Sprintf("%q is not the name of a host", raw), "write it as it stands in the addresses, like tides.example")
	}
	if slices.Contains(j.Site.NetworkHosts(), host) {
		return "", work.BadUse(nil, host+" is the site's own name", "decide about other hosts: the site's own references are always made secure")
	}
	return host, nil
}
