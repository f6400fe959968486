// Package ready checks whether a site can switch: certificates, names, servers, the same pages over both schemes.
package ready

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"trimlantern/core/address"
	"trimlantern/core/certs"
	"trimlantern/core/hops"
	"trimlantern/core/point"
	"trimlantern/core/rules"
	"trimlantern/outside/fetch"
	"trimlantern/outside/probe"
	"trimlantern/outside/system"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/preview"
	"trimlantern/work/reach"
)

// Result answers whether the site may switch.
type Result struct {
	Site    string        `json:"site"`
	Time    time.Time     `json:"time"`
	Points  []point.Point `json:"points"` // in the order in which they were looked at
	Days    int           `json:"days"`   // that the certificate is good for
	Until   time.Time     `json:"until"`  // when the first certificate ends
	Pages   []reach.Twin  `json:"pages"`  // what was looked at over HTTP and over HTTPS
	Support string        `json:"support,omitempty"`
}

// Worst returns the worst grade of what counts.
func (r *Result) Worst() point.Grade { return point.Worst(r.Points) }

// Code is the exit code that it comes to. Notes, and what the owner accepts, do not count.
func (r *Result) Code() int {
	if r.Worst().Fault() {
		return work.Remain
	}
	return work.Clean
}

// WantsCertificate reports whether a new certificate would help.
func (r *Result) WantsCertificate() bool {
	return slices.ContainsFunc(r.Points, func(p point.Point) bool {
		return p.Counts() && p.Grade == point.Stop && slices.Contains([]string{"names", "dates", "trust", "key", "signature", "purpose", "revoked", "tls"}, p.ID)
	})
}

// Options say how it is asked.
type Options struct {
	Origin  string        // host:port of the server behind a proxy, asked directly
	Soon    time.Duration // certificates that end within it need care
	Wait    time.Duration // ask again until nothing blocks the switch, so long
	Support bool          // write a text for the host's support

	Resolver string // the name server that is asked about the zone; "": the system's
}

// File is where the logbook keeps the last result.
const File = "ready.json"

// Check looks at everything that must be right before the switch.
func Check(ctx context.Context, j *work.Job, o Options) (*Result, error) {
	defer j.Progress.End()
	began := time.Now()
	for {
		r, err := check(ctx, j, o)
		if err != nil {
			return nil, err
		}
		left := o.Wait - time.Since(began)
		if r.Worst() != point.Stop || left <= 0 {
			return r, r.keep(j)
		}
		j.Progress.At(fmt.Sprintf("not yet (%s left)", left.Round(time.Second)), 0, 0)
		select {
		case <-time.After(min(30*time.Second, left)):
		case <-ctx.Done():
			return nil, work.Failed(nil, "interrupted", "run the same command again")
		}
	}
}

// keep writes the result into the logbook.
func (r *Result) keep(j *work.Job) error {
	if j.Book == nil {
		return nil
	}
	if err := j.Book.WriteJSON(File, r); err != nil {
		return work.Failed(err, "the result cannot be kept in the logbook", "make the folder of the site file writable")
	}
	return nil
}

type readying struct {
	job    *work.Job
	ctx    context.Context
	o      Options
	out    *Result
	dead   map[string]string               // names that give no page over HTTPS, by their certificate or without one, and why
	faults map[string]int                  // points of certificates, by kind, server and words
	prints map[string]*seenAt              // by name: the first certificate
	lists  map[string]*x509.RevocationList // by address, those that were fetched; nil: none could be
}

// seenAt is a certificate and where it was seen.
type seenAt struct {
	print [32]byte
	addr  string
}

func (r *readying) add(about string, s words.Sentence, values ...any) {
	r.out.Points = append(r.out.Points, s.Point(subject(about), values...))
}

// subject is what a point is about, as a list; "" is the site as a whole.
func subject(about string) []string {
	if about == "" {
		return []string{}
	}
	return []string{about}
}

func check(ctx context.Context, j *work.Job, o Options) (*Result, error) {
	client, err := j.Web()
	if err != nil {
		return nil, err
	}
	r := &readying{job: j, ctx: ctx, o: o, prints: map[string]*seenAt{}, dead: map[string]string{}, faults: map[string]int{}, out: &Result{Site: j.Site.String(), Time: j.Now(), Pages: []reach.Twin{}}}
	for _, site := range j.Site.Network() {
		if err := r.names(client, site); err != nil {
			return nil, err
		}
	}
	if o.Origin != "" {
		r.origin(client)
	}
	if err := r.answers(); err != nil {
		return nil, err
	}
	if r.out.Pages, err = reach.Twins(ctx, j, r.dead); err != nil {
		return nil, err
	}
	alive := slices.DeleteFunc(slices.Clone(r.out.Pages), func(t reach.Twin) bool { return r.dead[work.HostOf("https://"+t.Page)] != "" })
	r.out.Points = append(r.out.Points, reach.TwinPoints(alive)...)
	r.locked()
	r.addresses()
	if r.out.Points, err = j.WithDecisions(r.out.Points); err != nil {
		return nil, err
	}
	if o.Support {
		r.out.Support = r.support()
	}
	return r.out, nil
}

// names looks at the names of one site: where they lead, what listens there, and with which certificates.
func (r *readying) names(client *fetch.Client, site address.Site) error {
	var all [][]string
	for _, name := range site.Hosts() {
		if r.ctx.Err() != nil {
			return work.Failed(nil, "interrupted", "run the same command again")
		}
		r.job.Progress.At("asking "+name, 0, 0)
		addrs, err := probe.Addresses(r.ctx, client, name, "443")
		if err != nil {
			r.add(name, words.NameUnknown, name)
			continue
		}
		var hosts []string
		for _, a := range addrs {
			if h, _, err := net.SplitHostPort(a); err == nil {
				hosts = append(hosts, h)
			}
		}
		slices.Sort(hosts)
		all = append(all, hosts)
		r.add(name, words.NameLeads, name, strings.Join(hosts, ", "))
		plain, err := probe.Addresses(r.ctx, client, name, "80")
		if err == nil && len(plain) > 0 && probe.Listens(r.ctx, plain[0]) != nil {
			r.add(name, words.NoPort80, name)
		}
		alive, why := false, ""
		for _, a := range slices.Compact(slices.Sorted(slices.Values(addrs))) {
			if failed := r.certificate(client, site, a, name); failed == "" {
				alive = true
			} else {
				why = failed
			}
		}
		if !alive {
			r.dead[name] = why
		}
		if why == unreached && !alive { // of this name nothing is known
			r.add(name, words.NotChecked, name)
		}
	}
	for i := 1; i < len(all); i++ {
		if !slices.Equal(all[0], all[i]) {
			r.add(site.Host, words.NamesApart, site.Host)
			break
		}
	}
	r.partner(client, site)
	return r.zone(client, site)
}

// partner asks about the name that visitors type as well: the site's with www, or without.
func (r *readying) partner(client *fetch.Client, site address.Site) {
	for _, name := range reach.OtherName(r.job, site) {
		switch ok, err := probe.Known(r.ctx, client, name); {
		case err != nil:
			r.add(name, words.PartnerUnclear, name)
		case ok:
			r.add(name, words.PartnerOther, name)
		default:
			r.add(name, words.PartnerNone, name)
		}
	}
}

// unreached says that nothing is known of a server.
const unreached = "this machine cannot reach it"

// certificate judges what one address sends for one name.
// It returns why visitors get no page by it, or "".
func (r *readying) certificate(client *fetch.Client, site address.Site, addr, name string) string {
	seen := probe.Handshake(r.ctx, addr, name)
	if seen.Far {
		r.add(name+" "+addr, words.TooFar, name, addr)
		return unreached
	}
	if seen.Err != "" {
		none := words.NoTLS
		if seen.Plain {
			none = words.NoTLSPlain
		}
		r.add(name+" "+addr, none, name, addr, seen.Err)
		return seen.Err
	}
	if seen.Version == "TLS 1.0" || seen.Version == "TLS 1.1" {
		r.add(name+" "+addr, words.OldTLS, name, addr, seen.Version)
	}
	sent := certs.Sent{Chain: seen.Chain, Names: []string{name}, Roots: client.Roots(), Now: r.job.Now(), Soon: r.o.Soon, Served: true, Staple: seen.Staple}
	leaf, _ := sent.Leaf()
	sent.Lists = r.revocations(client, leaf, name)
	if print := sha256.Sum256(leaf.Raw); r.prints[name] == nil {
		r.prints[name] = &seenAt{print, addr}
	} else if r.prints[name].print != print {
		r.add(name+" "+addr, words.OtherCertificate, name, addr, r.prints[name].addr)
	}
	end := sent.End()
	left := end.Sub(r.job.Now())
	if r.out.Until.IsZero() || end.Before(r.out.Until) {
		r.out.Days, r.out.Until = int(left.Hours()/24), end.UTC()
	}
	bad, stop := false, ""
	for _, p := range words.Certificates(sent.Judge()) {
		if p.Grade != point.Good {
			bad = bad || p.Grade.Fault()
			if p.ID == "names" {
				p.Do = "get a certificate for all names: " + strings.Join(site.Hosts(), ", ")
			}
			if p.Grade == point.Stop {
				stop = "certificate: " + p.What
			}
			r.certified(p, name, addr)
		}
	}
	if !bad {
		r.add(name+" "+addr, words.CertificateGood, name, addr, words.GoodFor(left))
	}
	return stop
}

// certified adds a fault of a certificate. What is wrong for several names on one server is said once.
func (r *readying) certified(p point.Point, name, addr string) {
	id := p.ID + " " + addr + " " + p.What
	at, said := r.faults[id]
	if !said {
		r.faults[id] = len(r.out.Points)
		p.About = subject(name + " " + addr)
		p.What = fmt.Sprintf("the certificate for %s at %s: %s", name, addr, p.What)
		r.out.Points = append(r.out.Points, p)
		return
	}
	one := &r.out.Points[at]
	one.About = append(one.About, name+" "+addr)
	var names []string
	for _, a := range one.About {
		n, _, _ := strings.Cut(a, " ")
		names = append(names, n)
	}
	one.What = fmt.Sprintf("the certificate for %s at %s: %s", strings.Join(names, ", "), addr, p.What)
}

// maxLists bounds how many lists of one certificate are fetched.
const maxLists = 2

// revocations fetches the lists in which the authority names what it revoked (RFC 5280 §5), each once.
func (r *readying) revocations(client *fetch.Client, leaf *x509.Certificate, name string) (lists []*x509.RevocationList) {
	for _, u := range leaf.CRLDistributionPoints[:min(len(leaf.CRLDistributionPoints), maxLists)] {
		if !strings.HasPrefix(u, "http://") && !strings.HasPrefix(u, "https://") || r.job.Offline {
			continue
		}
		list, asked := r.lists[u]
		if !asked {
			why := ""
			res, err := client.Get(r.ctx, u, nil)
			switch {
			case err != nil:
				why = probe.Failure(err)
			case res.Status != http.StatusOK:
				why = fmt.Sprintf("answers %d", res.Status)
			default:
				if list, err = x509.ParseRevocationList(res.Body); err != nil {
					why = "is not a list of revoked certificates"
				}
			}
			if r.lists == nil {
				r.lists = map[string]*x509.RevocationList{}
			}
			r.lists[u] = list
			if why != "" {
				r.add(name, words.RevocationUnclear, name, u, why)
			}
		}
		if list != nil {
			lists = append(lists, list)
		}
	}
	return lists
}

// origin asks the server behind a proxy directly, with the site's name.
func (r *readying) origin(client *fetch.Client) {
	addr := r.o.Origin
	if _, _, err := net.SplitHostPort(addr); err != nil {
		addr = net.JoinHostPort(addr, "443")
	}
	knows := r.forwarded()
	seen := probe.Handshake(r.ctx, addr, r.job.Site.Host)
	switch {
	case (seen.Plain || seen.Err != "") && knows:
		r.add(addr, words.OriginOpenTold, addr, seen.Err)
	case seen.Plain || seen.Err != "":
		r.add(addr, words.OriginOpen, addr, seen.Err)
	default:
		sent := certs.Sent{Chain: seen.Chain, Names: []string{r.job.Site.Host}, Roots: client.Roots(), Now: r.job.Now(), Soon: r.o.Soon}
		var bad []string
		for _, p := range words.Certificates(sent.Judge()) {
			if p.Grade != point.Good {
				bad = append(bad, p.What)
			}
		}
		if len(bad) > 0 {
			r.add(addr, words.OriginCertificate, addr, strings.Join(bad, "; "))
			return
		}
		r.add(addr, words.OriginGood, addr)
	}
}

// forwarded asks the server behind a proxy over plain HTTP, once as a visitor who
// came over HTTP and once as one who came over HTTPS: does it tell them apart, and redirect the one?
func (r *readying) forwarded() (knows bool) {
	addr := r.o.Origin
	if _, _, err := net.SplitHostPort(addr); err != nil {
		addr = net.JoinHostPort(addr, "80")
	}
	client, err := fetch.New(fetch.Options{Resolve: []string{"*:80:" + addr}, Own: r.job.Site.Hosts(), Timeout: 15 * time.Second})
	if err != nil {
		r.add(addr, words.OriginUnusable, err)
		return false
	}
	front := "http://" + r.job.Site.Host + r.job.Site.Path + "/"
	to := func(proto string) (string, bool) {
		res, location, err := client.StepWith(r.ctx, http.MethodGet, front, rules.Told(proto))
		return location, err == nil && res.StatusCode != http.StatusBadRequest && res.StatusCode < 500 // 400: it wants TLS
	}
	plain, ok1 := to("http")
	secure, ok2 := to("https")
	switch {
	case !ok1 || !ok2:
		return false // it speaks no plain HTTP: then there is nothing to be told
	case strings.HasPrefix(secure, "https:"):
		r.add(addr, words.OriginLoops)
	case strings.HasPrefix(plain, "https:"):
		r.add(addr, words.OriginKnows)
		return true
	default:
		r.add(addr, words.OriginBlind)
	}
	return false
}

// proxyHeaders are what servers in front leave in answers.
var proxyHeaders = []string{"Via", "X-Cache", "X-Served-By", "Age", "X-Proxy-Cache", "Forwarded"}

// answers goes the way of every name's front page on both schemes and looks at what comes along.
func (r *readying) answers() error {
	for _, site := range r.job.Site.Network() {
		for _, name := range site.Hosts() {
			for _, scheme := range []string{"http", "https"} {
				if scheme == "https" && r.dead[name] != "" {
					continue // said already
				}
				journey := hops.Journey{Typed: scheme + "://" + name + site.Path + "/", Method: http.MethodGet, Kind: hops.Page}
				if err := reach.Travel(r.ctx, r.job, &journey); err != nil {
					return err
				}
				r.journey(site, journey, scheme == "http")
			}
		}
	}
	return r.along()
}

// journey says what is wrong on the way to a front page. That HTTP is not redirected yet is no fault before
// the switch; that HTTPS cannot be loaded is said by the comparison of both.
func (r *readying) journey(site address.Site, journey hops.Journey, plain bool) {
	problems := journey.Judge(site, nil)
	good := true
	for _, p := range problems {
		if p.Grade().Fault() && p != hops.Mixed { // before the switch each name answers for itself
			good = false
		}
		switch {
		case p == hops.Insecure && plain:
			r.add(journey.Typed, words.NoRedirectYet, journey.Typed)
		case p == hops.Mixed, p == hops.Insecure, p == hops.Downgrade && !plain, p == hops.Missing, p == hops.Broken, p == hops.Failed && (!plain || r.dead[work.HostOf(journey.Landing())] != ""):
			continue // said by the comparison, or of the certificate
		case p == hops.Loop:
			r.add(journey.Typed, words.FrontLoop, journey.Typed, words.Fix(p))
		case p == hops.Failed:
			r.add(journey.Typed, words.FrontSilent, journey.Typed, journey.Err, words.Fix(p))
		default:
			r.add(journey.Typed, words.Meets(p), journey.Typed)
		}
	}
	if good {
		r.add(journey.Typed, words.FrontLeads, journey.Typed, journey.Landing())
	}
}

// along looks at what comes with the front page: what browsers remember, cookies, a proxy in front.
func (r *readying) along() error {
	j := r.job
	client, err := j.Web()
	if err != nil {
		return err
	}
	if r.dead[j.Site.Host] != "" {
		return nil // said already
	}
	res, _, err := client.Step(r.ctx, http.MethodGet, j.Site.String()+"/")
	if err != nil {
		return nil // the same
	}
	if h := res.Header.Get("Strict-Transport-Security"); h != "" {
		r.add(j.Site.Host, words.HSTSSent, words.HSTS(h))
	}
	for _, c := range res.Cookies() {
		if !c.Secure {
			r.add(c.Name, words.CookieOpen, c.Name)
		}
	}
	var told []string
	for _, h := range proxyHeaders {
		if v := res.Header.Get(h); v != "" {
			told = append(told, h+": "+v)
		}
	}
	if len(told) > 0 && r.o.Origin == "" {
		r.add(j.Site.Host, words.ProxyInFront, strings.Join(told, "; "))
	}
	return nil
}

// locked names addresses that the system's configuration holds.
func (r *readying) locked() {
	j := r.job
	locks, err := j.Locks()
	if err != nil {
		r.add("", words.ConfigUnread, err)
		return
	}
	for _, l := range locks {
		switch {
		case l.Insecure():
			r.add(l.Constant, words.AddressLocked, l.Words(), l.Secure())
		case l.How == system.Possibly:
			r.add(l.Constant, words.AddressPerhaps, l.Words())
		case l.Unknown():
			r.add(l.Constant, words.AddressUnclear, l.Words())
		}
	}
}

// addresses shows the site's own addresses as the database has them.
func (r *readying) addresses() {
	j := r.job
	if !j.Stored() || len(j.System.Addresses) == 0 {
		return
	}
	db, tables, err := j.Open(r.ctx, true)
	if err != nil {
		r.add("", words.DatabaseSilent, err)
		return
	}
	defer db.Close()
	own, err := preview.OwnAddresses(r.ctx, j, db, tables)
	if err != nil {
		r.add("", words.AddressesElse, err)
		return
	}
	for _, a := range own {
		is := words.AddressSecure
		if a.Change {
			is = words.AddressToBeSecure
		}
		r.add(a.Value+" "+a.Name, is, a.Value, a.Title)
	}
}

// support writes a short text for the people who run the server: what was seen and what is asked for, with
// no word of commands that they do not have.
func (r *readying) support() string {
	var b strings.Builder
	fmt.Fprintf(&b, "Hello,\n\nwe want to move %s to HTTPS. On %s we saw:\n", r.job.Site.Host, r.job.Now().UTC().Format("2006-01-02 15:04 UTC"))
	n := 0
	for _, p := range r.out.Points {
		if ask, ok := words.ForHost[p.ID]; ok && p.Counts() {
			n++
			fmt.Fprintf(&b, "\n%d. %s.\n   We need: %s.\n", n, p.What, ask)
		}
	}
	if n == 0 {
		b.WriteString("\nNothing that stands in the way: no help is needed. Thank you.\n")
		return b.String()
	}
	b.WriteString("\nCould you help us with that, please? Thank you.\n")
	return b.String()
}
