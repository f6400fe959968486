package work

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net"
	"net/http"

	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/certs"
	"trimlantern/core/hops"
	"trimlantern/core/sheet"
	"trimlantern/site/fetch"
	"trimlantern/site/probe"
)

// Ready answers whether the site may switch.
type Ready struct {
	Site    string        `json:"site"`
	Time    time.Time     `json:"time"`
	Points  []certs.Point `json:"points"` // in the order in which they were looked at
	Days    int           `json:"days"`   // that the certificate is good for
	Support string        `json:"support,omitempty"`
}

// Worst returns the worst grade of all points.
func (r *Ready) Worst() certs.Grade {
	worst := certs.Good
	for _, p := range r.Points {
		if p.Grade == certs.Stop || p.Grade == certs.Care && worst == certs.Good {
			worst = p.Grade
		}
	}
	return worst
}

// Code is the exit code that it comes to.
func (r *Ready) Code() int {
	if r.Worst() == certs.Good {
		return Clean
	}
	return Remain
}

// ReadyOptions say how it is asked.
type ReadyOptions struct {
	Origin  string        // host:port of the server behind a proxy, asked directly
	Soon    time.Duration // certificates that end within it need care
	Wait    time.Duration // ask again until nothing blocks the switch, so long
	Support bool          // write a text for the host's support
}

const readyFile = "ready.json"

// Ready looks at everything that must be right before the switch.
func (j *Job) Ready(ctx context.Context, o ReadyOptions) (*Ready, error) {
	defer j.Progress.End()
	began := time.Now()
	for {
		r, err := j.ready(ctx, o)
		if err != nil {
			return nil, err
		}
		left := o.Wait - time.Since(began)
		if r.Worst() != certs.Stop || left <= 0 {
			if j.Book != nil {
				if err := j.Book.WriteJSON(readyFile, r); err != nil {
					return nil, world(err, "the result cannot be kept in the logbook", "make the folder of the site file writable")
				}
			}
			return r, nil
		}
		j.Progress.At(fmt.Sprintf("not yet (%s left)", left.Round(time.Second)), 0, 0)
		select {
		case <-time.After(min(30*time.Second, left)):
		case <-ctx.Done():
			return nil, world(nil, "interrupted", "run the same command again")
		}
	}
}

type readying struct {
	job    *Job
	ctx    context.Context
	o      ReadyOptions
	out    *Ready
	prints map[string]*seenAt // by name: the first certificate
}

// seenAt is a certificate and where it was seen.
type seenAt struct {
	print [32]byte
	addr  string
}

func (r *readying) add(id string, g certs.Grade, what, why, do string) {
	r.out.Points = append(r.out.Points, certs.Point{ID: id, Grade: g, What: what, Why: why, Do: do})
}

func (j *Job) ready(ctx context.Context, o ReadyOptions) (*Ready, error) {
	client, err := j.web()
	if err != nil {
		return nil, err
	}
	r := &readying{job: j, ctx: ctx, o: o, prints: map[string]*seenAt{}, out: &Ready{Site: j.Site.String(), Time: j.Now()}}
	secure := map[string]bool{} // addresses that were asked for certificates
	var all [][]string
	for _, name := range j.Site.Hosts() {
		if ctx.Err() != nil {
			return nil, world(nil, "interrupted", "run the same command again")
		}
		j.Progress.At("asking "+name, 0, 0)
		addrs, err := probe.Addresses(ctx, client, name, "443")
		if err != nil {
			r.add("dns", certs.Stop, name+" cannot be looked up", "nobody who types it gets anywhere", "make an entry for it in the DNS, or leave it out of the site file's also")
			continue
		}
		var hosts []string
		for _, a := range addrs {
			h, _, err := net.SplitHostPort(a)
			if err == nil {
				hosts = append(hosts, h)
			}
		}
		slices.Sort(hosts)
		all = append(all, hosts)
		r.add("dns", certs.Good, name+" is "+strings.Join(hosts, ", "), "", "")
		plain, err := probe.Addresses(ctx, client, name, "80")
		if err == nil && len(plain) > 0 && probe.Listens(ctx, plain[0]) != nil {
			r.add("port-80", certs.Care, "nothing listens on port 80 of "+name, "visitors who leave out https:// may get no answer", "let the server listen there, for the redirect")
		}
		for _, a := range addrs {
			if id := a + " " + name; !secure[id] {
				secure[id] = true
				r.certificate(client, a, name, "at "+a)
			}
		}
	}
	for i := 1; i < len(all); i++ {
		if !slices.Equal(all[0], all[i]) {
			r.add("dns-agree", certs.Care, "the names lead to different addresses", "what is set up on one server may be missing on the other", "let all names lead to the same server, if they are meant to")
			break
		}
	}
	if o.Origin != "" {
		r.origin(client)
	}
	if err := r.answers(); err != nil {
		return nil, err
	}
	r.locked()
	r.addresses()
	if o.Support {
		r.out.Support = r.support()
	}
	return r.out, nil
}

// certificate judges what one address sends for one name.
func (r *readying) certificate(client *fetch.Client, addr, name, where string) {
	seen := probe.Handshake(r.ctx, addr, name)
	if seen.Err != "" {
		what := fmt.Sprintf("no TLS for %s %s: %s", name, where, seen.Err)
		do := "let the server answer HTTPS for this name"
		if seen.Plain {
			do = "port 443 speaks plain HTTP: set up TLS there"
		}
		r.add("tls", certs.Stop, what, "there is no HTTPS to switch to", do)
		return
	}
	if seen.Version == "TLS 1.0" || seen.Version == "TLS 1.1" {
		r.add("tls-version", certs.Stop, fmt.Sprintf("%s %s speaks only %s", name, where, seen.Version), "browsers have given it up", "let the server speak TLS 1.2 and 1.3")
	}
	sent := certs.Sent{Chain: seen.Chain, Names: []string{name}, Roots: client.Roots(), Now: r.job.Now(), Soon: r.o.Soon}
	leaf, _ := sent.Leaf()
	if print := sha256.Sum256(leaf.Raw); r.prints[name] == nil {
		r.prints[name] = &seenAt{print, addr}
	} else if r.prints[name].print != print {
		r.add("alike", certs.Care, fmt.Sprintf("%s shows another certificate at %s than at %s", name, addr, r.prints[name].addr), "visitors see the one or the other, by the way their network takes (IPv4 or IPv6)", "let all addresses serve the same, or take the one that is wrong out of the DNS")
	}
	days := int(leaf.NotAfter.Sub(r.job.Now()).Hours() / 24)
	if r.out.Days == 0 || days < r.out.Days {
		r.out.Days = days
	}
	bad := false
	for _, p := range sent.Judge() {
		if p.Grade != certs.Good {
			bad = true
			if p.ID == "names" {
				p.Do = "get a certificate for all names: " + strings.Join(r.job.Site.Hosts(), ", ")
			}
			p.What = fmt.Sprintf("the certificate for %s %s: %s", name, where, p.What)
			r.out.Points = append(r.out.Points, p)
		}
	}
	if !bad {
		r.add("certificate", certs.Good, fmt.Sprintf("the certificate for %s %s is complete, trusted and good for %d more days", name, where, days), "", "")
	}
}

// origin asks the server behind a proxy directly, with the site's name.
func (r *readying) origin(client *fetch.Client) {
	addr := r.o.Origin
	if _, _, err := net.SplitHostPort(addr); err != nil {
		addr = net.JoinHostPort(addr, "443")
	}
	r.forwarded()
	seen := probe.Handshake(r.ctx, addr, r.job.Site.Host)
	switch {
	case seen.Plain || seen.Err != "":
		r.add("origin", certs.Care, fmt.Sprintf("the server behind the proxy at %s: %s", addr, seen.Err), "the way between proxy and server is open, and the server must be told that visitors come over HTTPS",
			"use the redirect for a proxy (redirect show --proxy), never one by the server's own scheme: that one loops for ever")
	default:
		sent := certs.Sent{Chain: seen.Chain, Names: []string{r.job.Site.Host}, Roots: client.Roots(), Now: r.job.Now(), Soon: r.o.Soon}
		var bad []string
		for _, p := range sent.Judge() {
			if p.Grade != certs.Good {
				bad = append(bad, p.What)
			}
		}
		if len(bad) > 0 {
			r.add("origin", certs.Care, fmt.Sprintf("the certificate of the server behind the proxy at %s: %s", addr, strings.Join(bad, "; ")), "a proxy that checks it will refuse it; one that does not can be lied to", "give the origin a certificate too")
			return
		}
		r.add("origin", certs.Good, "the server behind the proxy at "+addr+" has a whole certificate of its own", "", "")
	}
}

// forwarded asks the server behind a proxy over plain HTTP, once as a visitor who
// came over HTTP and once as one who came over HTTPS: does it tell them apart?
func (r *readying) forwarded() {
	addr := r.o.Origin
	if _, _, err := net.SplitHostPort(addr); err != nil {
		addr = net.JoinHostPort(addr, "80")
	}
	client, err := fetch.New(fetch.Options{Resolve: []string{"*:80:" + addr}, Own: r.job.Site.Hosts(), Timeout: 15 * time.Second})
	if err != nil {
		r.add("origin", certs.Care, "the address of the server behind the proxy cannot be used: "+err.Error(), "it was not asked", "write --origin ADDRESS or ADDRESS:PORT")
		return
	}
	front := "http://" + r.job.Site.Host + r.job.Site.Path + "/"
	to := func(proto string) (string, bool) {
		res, location, err := client.StepWith(r.ctx, http.MethodGet, front, http.Header{"X-Forwarded-Proto": {proto}})
		return location, err == nil && res.StatusCode != http.StatusBadRequest && res.StatusCode < 500 // 400: it wants TLS
	}
	plain, ok1 := to("http")
	secure, ok2 := to("https")
	switch {
	case !ok1 || !ok2:
		return // it speaks no plain HTTP: then there is nothing to be told
	case strings.HasPrefix(secure, "https:"):
		r.add("forwarded", certs.Stop, "the server behind the proxy redirects to HTTPS also when it is told that the visitor came over HTTPS", "behind a proxy that ends TLS that is a loop",
			"use the redirect for a proxy: trimlantern redirect show --proxy; it also tells the system behind")
	case strings.HasPrefix(plain, "https:"):
		r.add("forwarded", certs.Good, "the server behind the proxy knows when a visitor came over HTTPS", "", "")
	default:
		r.add("forwarded", certs.Care, "the server behind the proxy answers the same, whether the visitor came over HTTPS or not", "once it redirects to HTTPS by its own scheme, that is a loop",
			"use the redirect for a proxy: trimlantern redirect show --proxy")
	}
}

// proxyHeaders are what servers in front leave in answers.
var proxyHeaders = []string{"Via", "X-Cache", "X-Served-By", "Age", "X-Proxy-Cache", "Forwarded"}

// answers goes the way of the front page on both schemes and looks at what comes
// along.
func (r *readying) answers() error {
	j := r.job
	for _, scheme := range []string{"http", "https"} {
		journey := hops.Journey{Typed: scheme + "://" + j.Site.Host + j.Site.Path + "/", Method: http.MethodGet}
		if err := j.travel(r.ctx, &journey); err != nil {
			return err
		}
		problems := journey.Judge(j.Site.Host, j.Site.Also)
		for _, p := range problems {
			switch {
			case p == hops.Insecure && scheme == "http":
				r.add("redirect", certs.Good, journey.Typed+" answers by itself, without a redirect", "", "")
			case p == hops.Loop:
				r.add("loop", certs.Stop, journey.Typed+" sends round in a loop", "no visitor sees a page; the usual cause is a proxy that ends TLS in front of a server that redirects by its own scheme", p.Do())
			case p == hops.Failed:
				r.add("answer", certs.Stop, fmt.Sprintf("%s: %s", journey.Typed, journey.Err), "there is nothing to see", "look at the server")
			case p == hops.Downgrade:
				r.add("downgrade", certs.Care, journey.Typed+" sends back to HTTP", "as long as it does, the switch has no effect", "the system's own address does that as a rule, and changes with trimlantern apply; a rule of the server has to go")
			case p.Grave() && p != hops.Insecure:
				r.add("answer", certs.Care, journey.Typed+": the visitor "+p.Words(), "", p.Do())
			}
		}
		if len(problems) == 0 {
			r.add("answer", certs.Good, journey.Typed+" leads to "+journey.Landing(), "", "")
		}
	}
	client, err := j.web()
	if err != nil {
		return err
	}
	res, _, err := client.Step(r.ctx, http.MethodGet, j.Site.String()+"/")
	if err != nil {
		return nil // said above
	}
	if h := res.Header.Get("Strict-Transport-Security"); h != "" {
		r.add("hsts", certs.Care, "the site already sends HSTS: "+h, "browsers insist on HTTPS until it expires", "never let the certificate run out")
	}
	for _, c := range res.Cookies() {
		if !c.Secure {
			r.add("cookie", certs.Care, fmt.Sprintf("the cookie %q comes without Secure", c.Name), "it is sent over HTTP too, where anybody can read it", "the system sets it so as a rule once its own address is secure")
		}
	}
	var told []string
	for _, h := range proxyHeaders {
		if v := res.Header.Get(h); v != "" {
			told = append(told, h+": "+v)
		}
	}
	if len(told) > 0 && r.o.Origin == "" {
		r.add("proxy", certs.Care, "a proxy or cache stands in front ("+strings.Join(told, "; ")+")", "TLS may end there, and the server behind not know of it", "ask the server behind it too: trimlantern ready --origin ADDRESS")
	}
	return nil
}

// locked names addresses that the system's configuration holds.
func (r *readying) locked() {
	j := r.job
	d := j.File.Database
	if d.Config == "" || j.Layout == nil || j.Layout.Config == nil {
		return
	}
	conn, err := j.Layout.Config.Connect(j.File.Abs(d.Config))
	if err != nil {
		r.add("locked", certs.Care, "the system's configuration cannot be read: "+err.Error(), "an address may be locked there", "make it readable")
		return
	}
	for _, a := range j.Layout.Addresses {
		if lock, ok := conn.Locks[a.Name]; ok && strings.HasPrefix(lock.Value, "http:") {
			r.add("locked", certs.Care, fmt.Sprintf("the %s is locked: %s in %s, line %d", a.Title, lock.Constant, filepath.Base(conn.File), lock.Line),
				"a change in the database does nothing there", "change it in the file, together with trimlantern apply")
		}
	}
}

// addresses shows the site's own addresses as the database has them.
func (r *readying) addresses() {
	j := r.job
	if j.Book == nil || len(j.Layout.Addresses) == 0 {
		return
	}
	db, tables, err := j.open(r.ctx, true)
	if err != nil {
		r.add("database", certs.Care, "the database does not answer: "+err.Error(), "nothing can be changed in it", "check database in the site file")
		return
	}
	defer db.Close()
	s := j.survey(db, &verdicts{job: j, ctx: r.ctx}, nil, References, sheet.Choice{})
	if err := s.readAddresses(r.ctx, db, tables); err != nil {
		r.add("addresses", certs.Stop, err.Error(), "the site file does not fit the database", "check site in the site file")
		return
	}
	for _, a := range s.out.Addresses {
		what := a.Value + " is its " + a.Title
		if a.Change {
			what += "; trimlantern apply makes it secure"
		}
		r.add("addresses", certs.Good, what, "", "")
	}
}

// support writes a short text for the people who run the server.
func (r *readying) support() string {
	var b strings.Builder
	fmt.Fprintf(&b, "Hello,\n\nwe want to move %s to HTTPS. On %s we saw:\n", r.job.Site.Host, r.job.Now().UTC().Format("2006-01-02 15:04 UTC"))
	n := 0
	for _, p := range r.out.Points {
		if p.Grade == certs.Stop || p.Grade == certs.Care && p.ID != "proxy" && p.ID != "hsts" && p.ID != "locked" && p.ID != "cookie" {
			n++
			fmt.Fprintf(&b, "\n%d. %s.\n   What would help: %s.\n", n, p.What, p.Do)
		}
	}
	if n == 0 {
		b.WriteString("\nNothing that stands in the way: no help is needed. Thank you.\n")
		return b.String()
	}
	b.WriteString("\nCould you help us with that, please? Thank you.\n")
	return b.String()
}
