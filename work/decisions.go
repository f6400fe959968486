package work

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"trimlantern/core/rewrite"
	"trimlantern/core/sheet"
)

// insecureAddress is the finding under which an owner accepts one insecure URL, wherever it is stored and
// whatever page holds it.
const insecureAddress = "insecure-address"

// byAddress are the reasons that are about a URL, and not about the place that holds it.
var byAddress = map[rewrite.Reason]bool{rewrite.NoHTTPS: true, rewrite.NoVerdict: true, rewrite.Possible: true, rewrite.Subdomain: true,
	rewrite.OtherPort: true, rewrite.Private: true, rewrite.Outside: true}

// sameURL returns the form of a URL by which two writings of it are equal: scheme and host in lower case,
// without the scheme's own port.
func sameURL(raw string) string {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		return raw
	}
	host := strings.ToLower(u.Host)
	if u.Scheme == "http" {
		host = strings.TrimSuffix(host, ":80")
	}
	_, rest, _ := strings.Cut(raw, "://")
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		return strings.ToLower(u.Scheme) + "://" + host + rest[i:]
	}
	return strings.ToLower(u.Scheme) + "://" + host
}

// about returns what a finding of preview is about, as decisions name it: a URL, or a place.
func about(l *sheet.Left) (finding, of string) {
	if l.URL != "" && byAddress[l.Reason] {
		return insecureAddress, sameURL(l.URL)
	}
	return string(l.Reason), placeID(l)
}

// placeID names a place from one run to the next: a file, or a row by its key, and the path inside the value.
func placeID(l *sheet.Left) string {
	if l.File != "" {
		return fmt.Sprintf("%s %s", l.File, l.URL)
	}
	var b strings.Builder
	b.WriteString(l.Table)
	if l.Column != "" {
		b.WriteString("." + l.Column)
	}
	for _, k := range l.Key {
		fmt.Fprintf(&b, " %q", string(k))
	}
	if l.Path != "" {
		b.WriteString(" " + l.Path)
	}
	if l.URL != "" {
		b.WriteString(" " + l.URL)
	}
	return b.String()
}

// replacements are the URLs that stand in the place of others, by the owner's decision.
type replacements struct {
	by     map[string]string // by the URL in its usual form
	counts map[string]int    // how often each was rewritten
}

func (j *Job) replacements() *replacements {
	r := &replacements{by: map[string]string{}, counts: map[string]int{}}
	for _, one := range j.File.Replaced {
		r.by[sameURL(one.From)] = one.To
	}
	return r
}

// to returns what stands in the place of a URL.
func (r *replacements) to(url string) (string, bool) {
	to, ok := r.by[sameURL(url)]
	return to, ok
}

// rule sets the rules of a rewriting up. Without any replacement they stay as fast as they are.
func (r *replacements) rule(rules *rewrite.Rules) {
	if len(r.by) == 0 {
		return
	}
	rules.Replace = r.to
	rules.Rewritten = func(f rewrite.Finding) {
		if f.By != "" {
			r.counts[sameURL(f.URL)]++
		}
	}
}

// Replacement is one URL that stands in the place of another, and how often a sheet puts it there.
type Replacement struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Count int    `json:"count"`
}

// list returns those that were used.
func (r *replacements) list(j *Job) []Replacement {
	out := []Replacement{}
	for _, one := range j.File.Replaced {
		if n := r.counts[sameURL(one.From)]; n > 0 {
			out = append(out, Replacement{one.From, one.To, n})
		}
	}
	return out
}

// settled turns a finding that the owner accepted into one that needs nobody.
func (j *Job) settled(l *sheet.Left) {
	if len(j.File.Accepted) == 0 || !l.Reason.NeedsPerson() {
		return
	}
	finding, of := about(l)
	if because := j.accepted(finding, of); because != "" {
		l.Note, l.Reason = string(l.Reason)+", accepted: "+because, rewrite.Kept
	}
}

// acceptedURLs are the insecure URLs that the owner accepts, with the reasons.
func (j *Job) acceptedURLs() map[string]string {
	all := map[string]string{}
	if j.File == nil {
		return all
	}
	for _, a := range j.File.Accepted {
		if a.Finding == insecureAddress {
			for _, u := range a.About {
				all[u] = a.Because
			}
		}
	}
	return all
}

// decisionFault turns an error of the site file into a user's words.
func (j *Job) decisionFault(err error) error {
	if refused := Untrusted(err); refused != nil {
		return refused
	}
	return Failed(err, "the decision cannot be written to the site file", "make "+j.File.Path+" writable")
}

// today is how decisions are dated.
func (j *Job) today() string { return j.Now().Format("2006-01-02") }

// decideHost records what the owner says of a host: "secure", "insecure" or "leave"; "": nothing any more.
func (j *Job) decideHost(host, what string) error {
	if err := j.File.Set("hosts", host, what); err != nil {
		return j.decisionFault(err)
	}
	return nil
}

// HostDecisions are what may be decided about a host.
var HostDecisions = []string{"secure", "insecure", "leave"}

// DecideHost records that the user knows what a host does, or that it is to be left alone.
func (j *Job) DecideHost(raw, what string) (*Decision, error) {
	if !slices.Contains(HostDecisions, what) {
		return nil, BadUse(nil, what+" is no decision about a host", "write secure, insecure or leave")
	}
	host, err := j.otherHost(raw)
	if err != nil {
		return nil, err
	}
	if err := j.decideHost(host, what); err != nil {
		return nil, err
	}
	return &Decision{Finding: "host", About: []string{host}, What: host, Because: what, Path: j.File.Path}, nil
}

// otherHost reads the name of a host that is not the site's own. It may be the number of an item, or a URL.
func (j *Job) otherHost(raw string) (string, error) {
	host := strings.ToLower(strings.TrimSpace(raw))
	if item, err := j.item(raw); err == nil && item != nil {
		if host = item.Host; host == "" {
			return "", BadUse(nil, "item "+raw+" is about no host", "trimlantern show lists the items")
		}
	} else if u, err := url.Parse(host); err == nil && u.Host != "" {
		host = u.Hostname()
	}
	host = strings.TrimSuffix(strings.TrimSuffix(host, "/"), ":80")
	if host == "" || strings.ContainsAny(host, "/ *?#@\\") || !strings.Contains(host, ".") && host != "localhost" {
		return "", BadUse(nil, fmt.Sprintf("%q is not the name of a host", raw), "write it as it stands in the addresses, like tides.example")
	}
	if slices.Contains(j.Site.NetworkHosts(), host) {
		return "", BadUse(nil, host+" is the site's own name", "decide about other hosts: the site's own references are always made secure")
	}
	return host, nil
}
