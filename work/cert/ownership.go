package cert

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/address"
	"trimlantern/outside/acme"
	"trimlantern/outside/certfolder"
	"trimlantern/outside/dns"
	"trimlantern/outside/probe"
	"trimlantern/outside/proof"
	"trimlantern/report/words"
	"trimlantern/work"
)

// Ways are how the ownership of a name can be proven, as a user names them.
var Ways = []string{"file", "listener", "dns-update", "dns-program", "dns-by-hand"}

// way returns the way that is asked for; "" where it is to be found out.
func (r *obtaining) wanted() string {
	switch p := r.plan; {
	case p.Way != "":
		return p.Way
	case p.Update != "":
		return "dns-update"
	case p.Program != "":
		return "dns-program"
	case p.Listen != "":
		return "listener"
	case p.Roots != nil:
		return "file"
	}
	return ""
}

// findWay chooses a way of proof that works, by trying it before the authority is asked.
func (r *obtaining) findWay(ctx context.Context, c *Certificate, set *certfolder.Set) error {
	wild := slices.IndexFunc(c.Names, func(n string) bool { return strings.HasPrefix(n, "*.") })
	wanted := r.wanted()
	if wild >= 0 && (wanted == "" || wanted == "file" || wanted == "listener") {
		return work.BadUse(nil, c.Names[wild]+" can only be proven in the DNS", "add --dns-update SERVER --dns-update-key FILE, --dns-program PROGRAM, or --proof dns-by-hand")
	}
	var err error
	switch {
	case r.plan.Anyway && wanted == "":
		return work.BadUse(nil, "--anyway needs a way of proof: what is not tried cannot be chosen", "name one: --root FOLDER, --listen ADDRESS:PORT, --dns-update, --dns-program or --proof dns-by-hand")
	case r.plan.Anyway && wanted == "file":
		if roots := r.roots(); len(roots) > 0 {
			r.use(c, wanted, &proof.Files{Root: func(string) string { return roots[0] }})
			return nil
		}
	}
	switch wanted {
	case "dns-by-hand":
		r.use(c, wanted, proof.Hand{})
		return nil
	case "dns-update", "dns-program":
		return r.tryDNS(ctx, c, set, wanted)
	case "file":
		err = r.tryFiles(ctx, c, set)
	case "listener":
		err = r.tryListener(ctx, c, set)
	default:
		if err = r.tryFiles(ctx, c, set); err == nil && r.way == nil {
			err = r.tryListener(ctx, c, set)
		}
	}
	if err != nil || r.way != nil {
		return err
	}
	return work.Failed(nil, "the ownership of the site's names cannot be proven from here", "name the folder that the server serves (--root FOLDER), or prove it in the DNS (--proof dns-by-hand); if only this machine cannot see the site, add --anyway")
}

// use takes a way.
func (r *obtaining) use(c *Certificate, name string, w proof.Way) {
	r.closeWay()
	r.way, c.Way = w, name
}

func (r *obtaining) closeWay() {
	if r.way != nil {
		r.way.Close()
		r.way = nil
	}
}

// roots are the folders that may be what the server serves.
func (r *obtaining) roots() (roots []string) {
	if r.plan.Roots != nil {
		return r.plan.Roots
	}
	f := r.job.File
	add := func(dir string) {
		if dir != "" && !slices.Contains(roots, dir) {
			roots = append(roots, dir)
		}
	}
	for _, dir := range []string{f.Folder, f.Abs(f.System)} {
		if above, ok := strings.CutSuffix(filepath.ToSlash(dir), r.job.Site.Path); ok { // of a site in a folder: what the server serves is above it
			add(filepath.FromSlash(above))
		}
		add(dir)
	}
	if len(roots) == 0 && f.Path != "" {
		add(f.Dir)
	}
	return roots
}

// tryFiles looks under which root a file is found for each name.
func (r *obtaining) tryFiles(ctx context.Context, c *Certificate, set *certfolder.Set) error {
	rootOf := map[string]string{}
	files := &proof.Files{Root: func(name string) string { return rootOf[name] }}
	roots := r.roots()
	if len(roots) == 0 {
		c.Tried = append(c.Tried, Tried{"file", c.Names[0], "which folder the server serves is not known"})
	}
	failed := false
	for _, name := range c.Names {
		var tried []Tried
		for _, root := range roots {
			rootOf[name] = root
			why, err := r.tryHTTP(ctx, files, name, set)
			if err != nil {
				return err
			}
			if why == "" {
				tried = nil
				break
			}
			delete(rootOf, name)
			tried = append(tried, Tried{"file", name, "in " + root + ": " + why})
		}
		if rootOf[name] == "" {
			failed = true
		}
		c.Tried = append(c.Tried, tried...)
	}
	if !failed && len(roots) > 0 {
		r.use(c, "file", files)
	}
	return nil
}

// port80 is where proofs are fetched.
const port80 = ":80"

// tryListener looks whether a little server of our own would be asked.
func (r *obtaining) tryListener(ctx context.Context, c *Certificate, set *certfolder.Set) error {
	at := r.plan.Listen
	if at == "" {
		at = port80
	}
	l, err := proof.Listen(at)
	if err != nil {
		why := "port 80 cannot be listened on: " + err.Error()
		if r.listens(ctx, c.Names[0]) {
			why = "a web server listens on port 80 already"
		}
		c.Tried = append(c.Tried, Tried{"listener", c.Names[0], why})
		return nil
	}
	failed := false
	for _, name := range c.Names {
		if r.plan.Anyway {
			break
		}
		why, err := r.tryHTTP(ctx, l, name, set)
		if err != nil {
			l.Close()
			return err
		}
		if why != "" {
			failed = true
			c.Tried = append(c.Tried, Tried{"listener", name, "at " + at + ": " + why})
		}
	}
	if failed {
		l.Close()
		return nil
	}
	r.use(c, "listener", l)
	return nil
}

func (r *obtaining) listens(ctx context.Context, name string) bool {
	addrs, err := probe.Addresses(ctx, r.web, name, "80")
	return err == nil && slices.ContainsFunc(addrs, func(a string) bool { return probe.Listens(ctx, a) == nil })
}

// tryHTTP puts a made-up proof of one name in place, fetches it, and takes it away. why says why it was not found.
func (r *obtaining) tryHTTP(ctx context.Context, w proof.Way, name string, set *certfolder.Set) (why string, err error) {
	r.job.Progress.At("trying whether a proof can be fetched from "+name, 0, 0)
	claim := proof.Claim{Name: name, Token: "trimlantern-" + rand.Text(), Value: rand.Text()}
	placed, err := w.Plan(ctx, claim)
	if err != nil {
		return whyNotPlaced(err), nil
	}
	remove, err := r.put(ctx, w, set, &certfolder.Pending{}, []proof.Placed{placed}, []proof.Claim{claim})
	if err == nil {
		why = r.fetched(ctx, claim)
	} else {
		why, err = whyNotPlaced(err), nil
	}
	return why, errors.Join(err, remove())
}

func whyNotPlaced(err error) string {
	switch {
	case errors.Is(err, os.ErrNotExist):
		return "there is no such folder"
	case errors.Is(err, os.ErrPermission):
		return "you may not write there"
	}
	return err.Error()
}

// put writes down what will be placed, and places it. remove takes it away again, whatever happened.
func (r *obtaining) put(ctx context.Context, w proof.Way, set *certfolder.Set, pending *certfolder.Pending, placed []proof.Placed, claims []proof.Claim) (remove func() error, err error) {
	pending.Placed = placed
	remove = func() error {
		ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer stop()
		var failed error
		for _, p := range placed {
			if err := w.Remove(ctx, p); err != nil {
				failed = errors.Join(failed, work.Failed(err, "the proof of "+p.Name+" cannot be removed", "run the same command again, or remove it by hand: "+filepath.Join(p.Root, p.File)+p.Record))
			}
		}
		if failed != nil {
			return failed
		}
		pending.Placed = nil
		keep := pending
		if pending.Order == "" {
			keep = nil
		}
		if err := set.SetPending(keep); err != nil {
			return keepFault(err, r.folder)
		}
		return nil
	}
	if err := set.SetPending(pending); err != nil {
		return remove, keepFault(err, r.folder)
	}
	for i, p := range placed {
		err := w.Put(ctx, p, claims[i])
		if errors.Is(err, dns.ErrRefused) { // neither this nor those behind it were made
			placed = placed[:i]
		}
		if err != nil {
			return remove, err
		}
	}
	return remove, nil
}

// How long a proof may take to be seen, and how often it is looked.
const (
	fileSeen    = 5 * time.Second
	recordSeen  = 2 * time.Minute
	handSeen    = 10 * time.Minute
	lookFile    = time.Second
	lookRecord  = time.Second
	lookForHand = 3 * time.Second
)

// fetched says why a proof is not found over HTTP at each address of its name; "": it is.
func (r *obtaining) fetched(ctx context.Context, claim proof.Claim) string {
	addrs, err := probe.Addresses(ctx, r.web, claim.Name, "80")
	if err != nil || len(addrs) == 0 {
		return claim.Name + " cannot be looked up"
	}
	reached := 0
	for _, addr := range addrs {
		for began := time.Now(); ; {
			_, err := probe.Proof(ctx, r.web, claim.Name, addr, proof.Folder+claim.Token, claim.Value)
			if err == nil {
				reached++
				break
			}
			if probe.Unreachable(err) {
				break // this machine has no way there: that says nothing
			}
			if time.Since(began) > fileSeen || ctx.Err() != nil || !errors.Is(err, probe.ErrOtherContent) {
				return fmt.Sprintf("%s %s", addr, probe.Failure(err))
			}
			r.rest(ctx, lookFile)
		}
	}
	if reached == 0 {
		return "this machine cannot reach " + strings.Join(addrs, ", ")
	}
	return ""
}

func (r *obtaining) rest(ctx context.Context, d time.Duration) {
	select {
	case <-time.After(d):
	case <-ctx.Done():
	}
}

// resolver returns the client of the first name server that is asked.
func (r *obtaining) resolver() (*dns.Client, error) {
	c, err := dns.New(append(slices.Clone(r.plan.Resolvers), "")[0])
	if errors.Is(err, dns.ErrNone) {
		return nil, work.Failed(nil, "no name server is known to ask", "name one: --resolver 192.0.2.53")
	}
	if err != nil {
		return nil, work.BadUse(err, "--resolver", "write the address of a name server: --resolver 192.0.2.53")
	}
	return c, nil
}

// tryDNS sets up the way by the DNS and tries it with a made-up record of each name.
func (r *obtaining) tryDNS(ctx context.Context, c *Certificate, set *certfolder.Set, wanted string) error {
	client, err := r.resolver()
	if err != nil {
		return err
	}
	var w proof.Way = &proof.Program{Path: r.plan.Program}
	if wanted == "dns-update" {
		if r.plan.Update == "" || r.plan.UpdateKey == "" {
			return work.BadUse(nil, "the name server or its key is not named", "add --dns-update SERVER --dns-update-key FILE")
		}
		server, err := dns.ServerAddr(ctx, r.plan.Update)
		if err != nil {
			return work.Failed(err, "--dns-update", "name the server that takes updates of the zone")
		}
		w = &proof.Update{Client: client, Server: server, KeyFile: r.plan.UpdateKey}
	} else if r.plan.Program == "" {
		return work.BadUse(nil, "no program is named", "add --dns-program PROGRAM")
	}
	var placed []proof.Placed
	var claims []proof.Claim
	for _, name := range c.Names {
		claim := proof.Claim{Name: strings.TrimPrefix(name, "*."), Value: "trimlantern-test-" + rand.Text()}
		if slices.ContainsFunc(claims, func(o proof.Claim) bool { return o.Name == claim.Name }) {
			continue
		}
		r.job.Progress.At("trying a record for "+claim.Name, 0, 0)
		p, err := w.Plan(ctx, claim)
		if err != nil {
			return work.Failed(err, "the record for "+claim.Name+" cannot be made", "check --dns-update, and that the server has the zone")
		}
		placed, claims = append(placed, p), append(claims, claim)
	}
	if r.plan.Anyway {
		r.use(c, wanted, w)
		return nil
	}
	remove, err := r.put(ctx, w, set, &certfolder.Pending{}, placed, claims)
	if err == nil {
		err = r.awaitRecords(ctx, c, placed, r.waiting(recordSeen), lookRecord, false)
	} else if !work.IsFault(err) {
		err = work.Failed(err, "the record cannot be made", "fix that, then run the same command again")
	}
	if err = errors.Join(err, remove()); err != nil {
		return err
	}
	r.use(c, wanted, w)
	return nil
}

func (r *obtaining) waiting(usual time.Duration) time.Duration {
	if r.o.Wait > 0 {
		return r.o.Wait
	}
	return usual
}

// awaitRecords waits until every name server of the zone that answers has the records, and with resolvers those too.
func (r *obtaining) awaitRecords(ctx context.Context, c *Certificate, placed []proof.Placed, most, pause time.Duration, resolvers bool) error {
	began := time.Now()
	for {
		c.Records = []Record{}
		missing := 0
		for _, p := range placed {
			rec := Record{Name: p.Record, Type: "TXT", Value: p.Value, Why: r.unseen(ctx, p, resolvers)}
			if rec.Why != "" {
				missing++
			}
			c.Records = append(c.Records, rec)
		}
		if missing == 0 {
			return nil
		}
		left := most - time.Since(began)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if left <= 0 {
			at := slices.IndexFunc(c.Records, func(rec Record) bool { return rec.Why != "" })
			return work.Failed(nil, fmt.Sprintf("the record %s is not seen after %s: %s", c.Records[at].Name, words.Span(most), c.Records[at].Why), "see that the zone's servers answer with it; a longer time: --wait TIME")
		}
		r.job.Progress.At(fmt.Sprintf("waiting for %s to be seen (%s left)", words.Count(missing, "record"), left.Round(time.Second)), 0, 0)
		r.rest(ctx, min(pause, left))
	}
}

// unseen says who does not see a record yet; "": all that answer do. The zone's own servers are asked first, and
// nothing but them where the record is made up: a resolver remembers what it was told.
func (r *obtaining) unseen(ctx context.Context, p proof.Placed, andResolvers bool) string {
	client, err := r.resolver()
	if err != nil {
		return err.Error()
	}
	seen := 0
	look := func(who, addr string) string {
		texts, err := client.TXT(ctx, addr, p.Record)
		switch {
		case err != nil:
			return ""
		case !slices.Contains(texts, p.Value):
			return who + " does not have it yet"
		}
		seen++
		return ""
	}
	if p.Server != "" {
		if why := look("the name server "+p.Server, p.Server); why != "" {
			return why
		}
	}
	_, zone, _ := strings.Cut(p.Record, ".")   // the record itself is asked of nobody who would remember that there is none
	_, servers, _ := client.Servers(ctx, zone) // none: the resolvers are asked
	for _, s := range servers {
		host, _, err := net.SplitHostPort(s.Addr)
		if err != nil || address.IsPrivate(host) && !r.private(ctx, client, p.Name) { // what a zone names must not steer us into a private network
			continue
		}
		if why := look(s.Name, s.Addr); why != "" {
			return why
		}
	}
	if !andResolvers && seen > 0 {
		return ""
	}
	resolvers := r.plan.Resolvers
	if len(resolvers) == 0 {
		resolvers = dns.Resolvers()
	}
	for _, s := range resolvers[:min(2, len(resolvers))] {
		addr, err := dns.ServerAddr(ctx, s)
		if err != nil {
			continue
		}
		if why := look("the resolver "+s, addr); why != "" {
			return why
		}
	}
	if seen == 0 {
		return "no name server answers"
	}
	return ""
}

// private reports whether the site itself lives in a private network.
func (r *obtaining) private(ctx context.Context, c *dns.Client, name string) bool {
	addrs, err := c.Addresses(ctx, name)
	return err == nil && slices.ContainsFunc(addrs, address.IsPrivate)
}

// prove proves the ownership of each name of an order. done is false where a person has to do something first.
func (r *obtaining) prove(ctx context.Context, c *Certificate, set *certfolder.Set, order *acme.Order, pending *certfolder.Pending) (done bool, err error) {
	if r.way == nil { // it goes on with an earlier order
		if err := r.findWay(ctx, c, set); err != nil {
			return false, err
		}
	}
	challenges, err := r.ca.Challenges(ctx, order, r.way.Kind())
	if err != nil {
		return false, r.over(err, set)
	}
	var placed []proof.Placed
	var claims []proof.Claim
	for _, ch := range challenges {
		claim := proof.Claim{Name: ch.Name, Token: ch.Token, Value: ch.Value}
		p, err := r.way.Plan(ctx, claim)
		if err != nil {
			return false, work.Failed(err, "the proof of "+ch.Name+" cannot be put in place", "fix that, then run the same command again")
		}
		placed, claims = append(placed, p), append(claims, claim)
	}
	remove, err := r.put(ctx, r.way, set, pending, placed, claims)
	defer func() {
		if failed := remove(); failed != nil && err == nil {
			err = failed
		}
		if again, _ := set.Pending(); err != nil && again != nil && ended(err) {
			_ = set.SetPending(nil) // the order comes to nothing any more; else it is looked at once more
		}
	}()
	if err != nil {
		if !work.IsFault(err) {
			err = work.Failed(err, "the proof cannot be put in place", "fix that, then run the same command again")
		}
		return false, err
	}
	if waits, err := r.seen(ctx, c, placed, claims); err != nil || waits {
		return false, err
	}
	for _, ch := range challenges {
		r.job.Progress.At("the authority looks at "+ch.Name, 0, 0)
		if err := r.ca.Accept(ctx, ch); err != nil {
			return false, authorityFault(err, r.plan.Directory)
		}
	}
	for _, ch := range challenges {
		r.job.Progress.At("the authority looks at "+ch.Name, 0, 0)
		if err := r.ca.Await(ctx, ch); err != nil {
			return false, authorityFault(err, r.plan.Directory)
		}
	}
	return true, nil
}

// dead are refusals after which an order comes to nothing. After others it is looked at once more: what the
// authority has given up it says then.
var dead = []acme.Kind{acme.Invalid, acme.CAA, acme.BadName, acme.NotOffered, "unsupportedIdentifier", "malformed", "badCSR", "orderNotReady"}

// ended reports whether an order can be given up.
func ended(err error) bool {
	var refused *acme.Refused
	return errors.As(err, &refused) && slices.Contains(dead, refused.Kind)
}

// over gives up an order that comes to nothing.
func (r *obtaining) over(err error, set *certfolder.Set) error {
	if ended(err) {
		_ = set.SetPending(nil) // else it is looked at once more
	}
	return authorityFault(err, r.plan.Directory)
}

// seen waits until the proofs can be seen. waits: a person has not made the records yet.
func (r *obtaining) seen(ctx context.Context, c *Certificate, placed []proof.Placed, claims []proof.Claim) (waits bool, err error) {
	_, byHand := r.way.(proof.Hand)
	switch {
	case r.plan.Anyway && !byHand:
		return false, nil
	case r.way.Kind() == proof.HTTP:
		for _, claim := range claims {
			if why := r.fetched(ctx, claim); why != "" {
				return false, work.Failed(nil, "the proof of "+claim.Name+" is not found: "+why, "let the server serve "+proof.Folder+" over plain HTTP, for every name; if only this machine cannot see it, add --anyway")
			}
		}
		return false, nil
	case !byHand:
		return false, r.awaitRecords(ctx, c, placed, r.waiting(recordSeen), lookRecord, true)
	}
	if len(placed) > 0 && r.o.Tell != nil {
		var records []Record
		for _, p := range placed {
			records = append(records, Record{Name: p.Record, Type: "TXT", Value: p.Value})
		}
		r.o.Tell(records)
	}
	err = r.awaitRecords(ctx, c, placed, r.waiting(handSeen), lookForHand, true)
	if err != nil && ctx.Err() == nil {
		c.State, c.Problem, c.Do = CertWaiting, err.Error(), "make the records, then run the same command again: it goes on with the same records"
		return true, nil
	}
	return false, err
}
