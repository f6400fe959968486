package cert

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/certs"
	"trimlantern/core/point"
	"trimlantern/outside/acme"
	"trimlantern/outside/certfolder"
	"trimlantern/outside/disk"
	"trimlantern/outside/dns"
	"trimlantern/outside/fetch"
	"trimlantern/outside/proof"
	"trimlantern/report/words"
	"trimlantern/work"
)

// ObtainOptions say how a certificate is obtained. What is not set is as it was the last time.
type ObtainOptions struct {
	certfolder.Plan
	Folder     string        // where certificates are kept; "": beside the site file
	Accept     bool          // the owner agrees to the authority's terms of service
	BindingID  string        // of an account that the authority knows
	BindingKey string        // file with its key
	Again      bool          // also where a good certificate is there
	KeepKey    bool          // the new certificate is for the key of the one in use
	Show       bool          // the texts for a panel
	Wait       time.Duration // for the records of a proof to be seen; 0: the usual

	pause time.Duration // between two tries of a renewal; 0: the usual

	Tell func([]Record) // called with the records that a person has to make, before they are waited for
}

// Obtained is what became of the site's certificates.
type Obtained struct {
	Site         string        `json:"site"`
	Directory    string        `json:"directory"`
	Certificates []Certificate `json:"certificates"`
	Renewing     bool          `json:"renewing"` // nobody asked for it but the timer
}

// State says what became of one certificate. The values are stable names.
type State string

// The states.
const (
	CertIssued  State = "issued"  // it is new
	CertKept    State = "kept"    // there was a good one
	CertWaiting State = "waiting" // a person has to do something first
	CertRefused State = "refused" // it was issued, and visitors could not use it
	CertBack    State = "back"    // it was put in place and taken back
	CertFailed  State = "failed"  // it could not be had
)

// Certificate is what became of one certificate.
type Certificate struct {
	Host    string            `json:"host"`
	Names   []string          `json:"names"`
	State   State             `json:"state"`
	Way     string            `json:"way,omitempty"` // how the names were proven
	Tried   []Tried           `json:"tried"`         // the ways that were tried first, and why they do not work
	Records []Record          `json:"records"`       // of the DNS, that a person has to make
	Points  []point.Point     `json:"points"`        // what our own judge says of the certificate
	Until   time.Time         `json:"until,omitzero"`
	Renew   time.Time         `json:"renew,omitzero"` // when it is due
	Folder  string            `json:"folder,omitempty"`
	Files   []string          `json:"files"`  // of the server, that were replaced
	Served  []Served          `json:"served"` // what the site's addresses showed afterwards
	Problem string            `json:"problem,omitempty"`
	Do      string            `json:"do,omitempty"`
	Texts   map[string]string `json:"texts,omitempty"` // PEM by part, for a panel
	inPlace bool              // files or a command were named, so that it must be served
}

// Tried is a way of proof that does not work for a name.
type Tried struct {
	Way  string `json:"way"`
	Name string `json:"name"`
	Why  string `json:"why"`
}

// Record is a record of the DNS that proves a name.
type Record struct {
	Name  string `json:"name"`
	Type  string `json:"type"`
	Value string `json:"value"`
	Why   string `json:"why,omitempty"` // who does not see it yet
}

// Served is what one address shows for one name.
type Served struct {
	Name string `json:"name"`
	Addr string `json:"addr"`
	New  bool   `json:"new"`           // the certificate that was put in place
	Old  bool   `json:"old,omitempty"` // one of those that it took the place of
	Why  string `json:"why,omitempty"`
}

// Code is the exit code that it comes to.
func (o *Obtained) Code() int {
	code := work.Clean
	for _, c := range o.Certificates {
		switch {
		case c.State == CertFailed:
			return work.World
		case c.State == CertWaiting || c.State == CertRefused || c.State == CertBack || c.inPlace && !c.allServe(), c.otherChain(), o.Renewing && c.showsOld():
			code = work.Remain
		}
	}
	return code
}

// otherChain reports whether the certificate came with another chain than the one that is wanted.
func (c *Certificate) otherChain() bool {
	return slices.ContainsFunc(c.Points, func(p point.Point) bool { return p.ID == words.NoSuchChain.ID })
}

func (c *Certificate) allServe() bool {
	return !slices.ContainsFunc(c.Served, func(s Served) bool { return !s.New })
}

// showsOld reports whether an address shows a certificate that another has taken the place of.
func (c *Certificate) showsOld() bool {
	return slices.ContainsFunc(c.Served, func(s Served) bool { return s.Old })
}

// folderOf is where the certificates of the site are kept: in the folder given, the one that was given before, or
// beside the site file.
func folderOf(j *work.Job, given string) (string, error) {
	usual := filepath.Join(filepath.Dir(j.Book.Path()), "certificates")
	if given == "" {
		return certfolder.Elsewhere(usual)
	}
	return filepath.Abs(given)
}

// obtaining is one run.
type obtaining struct {
	job        *work.Job
	o          ObtainOptions
	kept       certfolder.Plan // what renewals repeat today
	plan       certfolder.Plan // with what is asked for now
	folder     *certfolder.Folder
	web        *fetch.Client
	key        crypto.Signer
	ca         *acme.Authority
	way        proof.Way // nil: not chosen yet
	registered bool      // with the authority, in this run
	offered    []string  // the roots of the chains that were offered, where one is wanted
	out        *Obtained
}

// Obtain obtains a certificate for all names of the site, or one for each site of its network, by RFC 8555, puts
// it where the server reads it, and looks whether it is served.
func Obtain(ctx context.Context, j *work.Job, o ObtainOptions) (*Obtained, error) {
	defer j.Progress.End()
	r, release, err := begin(j, o)
	if err != nil {
		return nil, err
	}
	defer release()
	if err := r.agreeable(ctx); err != nil {
		return nil, err
	}
	if usual, err := folderOf(j, ""); err == nil && usual != r.folder.Path() { // a renewal finds it there
		if err := certfolder.SetElsewhere(filepath.Join(filepath.Dir(j.Book.Path()), "certificates"), r.folder.Path()); err != nil {
			return nil, folderFault(err)
		}
	}
	out, err := r.each(ctx, func(c *Certificate, set *certfolder.Set) error { return r.one(ctx, c, set, o.Again) })
	if err != nil || !r.worked() {
		return out, err
	}
	if err := r.folder.SetPlan(r.plan); err != nil {
		return nil, keepFault(err, r.folder)
	}
	return out, nil
}

// worked reports whether renewals are to repeat what was asked for now: a mistaken option must not spoil them.
// Where nothing worked before, it is what the same command goes on with.
func (r *obtaining) worked() bool {
	if r.kept.Directory == "" && r.ca != nil {
		return true
	}
	return !slices.ContainsFunc(r.out.Certificates, func(c Certificate) bool {
		return c.State != CertIssued && c.State != CertKept && c.State != CertWaiting
	})
}

// folderFault says that the folder of certificates cannot be used.
func folderFault(err error) error {
	if refused := work.Untrusted(err); refused != nil {
		return refused
	}
	return work.Failed(err, "the folder of the certificates cannot be used", "name another one: --folder FOLDER")
}

// keepFault says that the folder of certificates cannot be written.
func keepFault(err error, f *certfolder.Folder) error {
	if refused := work.Untrusted(err); refused != nil {
		return refused
	}
	return work.Failed(err, "the certificates cannot be kept", "make "+f.Path()+" writable, with room on its disk; then run the same command again")
}

// begin opens the folder and puts together what is asked for.
func begin(j *work.Job, o ObtainOptions) (*obtaining, func(), error) {
	dir, err := folderOf(j, o.Folder)
	if err != nil {
		return nil, nil, folderFault(err)
	}
	if err := j.PrivatePlace(dir); err != nil {
		return nil, nil, err
	}
	release, err := j.Book.Lock("cert obtain")
	if err != nil {
		return nil, nil, work.LockFault(err)
	}
	done := func(err error) (*obtaining, func(), error) { release(); return nil, nil, err }
	folder, err := certfolder.Open(dir)
	if err != nil {
		return done(folderFault(err))
	}
	kept, _, err := folder.Plan()
	if refused := work.Untrusted(err); refused != nil {
		return done(refused)
	}
	if err != nil {
		return done(work.Failed(err, "what was asked for before cannot be read", "move "+dir+" away, then run the command with all its options"))
	}
	if kept.Accounts == nil {
		kept.Accounts = map[string]string{}
	}
	r := &obtaining{job: j, o: o, kept: kept, plan: merged(kept, o.Plan), folder: folder, out: &Obtained{Site: j.Site.String(), Certificates: []Certificate{}}}
	if r.plan.Directory == "" {
		return done(work.BadUse(nil, "no authority is named", "name the address of its directory: --directory https://…"))
	}
	if !strings.HasPrefix(r.plan.Directory, "https://") {
		return done(work.BadUse(nil, fmt.Sprintf("%q is not an https address", r.plan.Directory), "write the whole address of the authority's directory: --directory https://…"))
	}
	if j.CA != "" {
		r.plan.CA = j.CA
	} else if j.File.Network.CA == "" {
		j.CA = r.plan.CA
	}
	for i, root := range r.plan.Roots {
		if r.plan.Roots[i], err = filepath.Abs(root); err != nil {
			return done(work.Failed(err, "cannot determine the current folder", "change to a folder that exists"))
		}
	}
	for i, named := range r.plan.Install { // a renewal runs in another folder
		part, path := installPart(named)
		if path, err = filepath.Abs(path); err != nil {
			return done(work.Failed(err, "cannot determine the current folder", "change to a folder that exists"))
		}
		if r.plan.Install[i] = path; part != "" {
			r.plan.Install[i] = part + "=" + path
		}
	}
	for _, file := range []*string{&r.plan.UpdateKey, &r.plan.Program, &r.plan.CA} {
		if *file == "" {
			continue
		}
		if *file, err = filepath.Abs(*file); err != nil {
			return done(work.Failed(err, "cannot determine the current folder", "change to a folder that exists"))
		}
	}
	if r.plan.UpdateKey != "" {
		if _, err := disk.ReadSecret(r.plan.UpdateKey, work.MaxSettings); work.Untrusted(err) != nil {
			return done(work.Untrusted(err))
		}
	}
	r.out.Directory = r.plan.Directory
	if r.web, err = j.Web(); err != nil {
		return done(err)
	}
	return r, release, nil
}

// merged is the plan of before with what is asked for now.
func merged(kept, now certfolder.Plan) certfolder.Plan {
	set := func(to *string, v string) {
		if v != "" {
			*to = v
		}
	}
	list := func(to *[]string, v []string) {
		if v != nil {
			*to = v
		}
	}
	if now.Way != "" || now.Update != "" || now.Program != "" || now.Listen != "" || now.Roots != nil { // another way forgets the one of before
		kept.Way, kept.Roots, kept.Listen, kept.Update, kept.UpdateKey, kept.Program, kept.Anyway = "", nil, "", "", "", "", false
	}
	kept.Anyway = kept.Anyway || now.Anyway
	set(&kept.Directory, now.Directory)
	set(&kept.Email, now.Email)
	set(&kept.Profile, now.Profile)
	set(&kept.Chain, now.Chain)
	set(&kept.Key, now.Key)
	set(&kept.Way, now.Way)
	set(&kept.Listen, now.Listen)
	set(&kept.Update, now.Update)
	set(&kept.UpdateKey, now.UpdateKey)
	set(&kept.Program, now.Program)
	set(&kept.After, now.After)
	list(&kept.Names, now.Names)
	list(&kept.Roots, now.Roots)
	list(&kept.Resolvers, now.Resolvers)
	list(&kept.Install, now.Install)
	kept.Each = kept.Each || now.Each
	if kept.Key == "" {
		kept.Key = "ecdsa"
	}
	return kept
}

// sets returns for which names certificates are wanted, each first under the host that it is kept by.
func (r *obtaining) sets() (all []Certificate) {
	add := func(host string, names []string) {
		all = append(all, Certificate{Host: host, Names: certs.Ordered(names), Tried: []Tried{}, Records: []Record{}, Points: []point.Point{}, Files: []string{}, Served: []Served{}})
	}
	if !r.plan.Each {
		add(r.job.Site.Host, append(r.job.Site.NetworkHosts(), r.plan.Names...))
		return all
	}
	for i, site := range r.job.Site.Network() {
		names := site.Hosts()
		if i == 0 {
			names = append(slices.Clone(names), r.plan.Names...)
		}
		add(site.Host, names)
	}
	return all
}

// keptFor is how long a certificate that another took the place of is kept, with its key.
const keptFor = 90 * 24 * time.Hour

// each does something for each certificate, and keeps what it came to.
func (r *obtaining) each(ctx context.Context, do func(*Certificate, *certfolder.Set) error) (*Obtained, error) {
	defer func() {
		if r.ca != nil {
			r.ca.Close()
		}
	}()
	for _, c := range r.sets() {
		set, err := r.folder.Set(c.Host)
		if err != nil {
			return nil, keepFault(err, r.folder)
		}
		err = do(&c, set)
		r.closeWay()
		if ctx.Err() != nil {
			return nil, work.Failed(nil, "interrupted", "run the same command again: it continues where it stopped")
		}
		if err != nil {
			c.fail(err)
		}
		if err := r.note(&c, set); err != nil {
			return nil, err
		}
		r.out.Certificates = append(r.out.Certificates, c)
	}
	return r.out, nil
}

// fail keeps why a certificate could not be had.
func (c *Certificate) fail(err error) {
	c.State, c.Problem = CertFailed, err.Error()
	var f *work.Fault
	if errors.As(err, &f) {
		c.Do = f.Do
	}
}

// note keeps in the state whether it failed.
func (r *obtaining) note(c *Certificate, set *certfolder.Set) error {
	st, err := set.State()
	if err != nil {
		return keepFault(err, r.folder)
	}
	if r.out.Renewing {
		st.Ran = r.job.Now()
		if err := set.Expire(st.Ran.Add(-keptFor), st.Held); err != nil {
			return keepFault(err, r.folder)
		}
	}
	switch c.State {
	case CertFailed, CertRefused, CertBack:
		st.Failed, st.Why = r.job.Now(), c.Problem
	case CertWaiting:
	default:
		st.Failed, st.Why, st.NotBefore = time.Time{}, "", time.Time{}
	}
	if err := set.SetState(st); err != nil {
		return keepFault(err, r.folder)
	}
	switch c.State {
	case CertIssued:
		return r.job.Note("certificate", fmt.Sprintf("until %s, %s", c.Until.Format("2006-01-02"), c.Host), 0)
	case CertFailed, CertRefused, CertBack:
		return r.job.Note("certificate", c.Host+": "+string(c.State), 0)
	}
	return nil
}

// agreeable asks the authority for its directory where terms have to be agreed to first: then nothing was done.
func (r *obtaining) agreeable(ctx context.Context) error {
	if r.plan.Accounts[r.plan.Directory] != "" {
		return nil
	}
	if err := r.open(ctx); err != nil {
		return nil // told of each certificate
	}
	if terms := r.ca.Terms; terms != "" && r.plan.Agreed != terms && !r.o.Accept {
		return work.BadUse(nil, "the authority has terms of service: "+terms, "read them; if you agree, run the same command with --accept-terms")
	}
	if r.ca.Bound && r.o.BindingID == "" {
		return work.BadUse(nil, "the authority wants accounts bound to one that it knows", "get an identifier and a key from it, then add --eab-id ID --eab-key-file FILE")
	}
	if p := r.plan.Profile; p != "" {
		if _, ok := r.ca.Profiles[p]; !ok {
			var offered []string
			for name := range r.ca.Profiles {
				offered = append(offered, name)
			}
			slices.Sort(offered)
			what := "the authority offers no profiles"
			if len(offered) > 0 {
				what = fmt.Sprintf("the authority has no profile %q; it offers %s", p, strings.Join(offered, ", "))
			}
			return work.BadUse(nil, what, "name one that it offers with --profile, or none")
		}
	}
	if r.o.Accept {
		r.plan.Agreed = r.ca.Terms
	}
	return nil
}

// wrongClock is how far this machine's clock may be from the authority's.
const wrongClock = time.Hour

// open asks the authority for its directory, once.
func (r *obtaining) open(ctx context.Context) error {
	if r.ca != nil {
		return nil
	}
	var err error
	if r.key, err = r.folder.AccountKey(r.plan.Directory); err != nil {
		return keepFault(err, r.folder)
	}
	r.job.Progress.At("asking the authority", 0, 0)
	host := ""
	if u, err := url.Parse(r.plan.Directory); err == nil {
		host = u.Hostname()
	}
	own, err := fetch.New(fetch.Options{Resolve: append(slices.Clone(r.job.Resolve), r.job.File.Network.Resolve...), Own: append(r.job.Site.NetworkHosts(), host), Timeout: r.job.Timeout})
	if err != nil {
		return work.BadUse(err, "the network options cannot be used", "check --resolve, or network in the site file")
	}
	ca, err := acme.Open(ctx, acme.Options{Directory: r.plan.Directory, Roots: r.web.Roots(), Dial: own.Dial, Agent: "TrimLantern", Key: r.key, Account: r.plan.Accounts[r.plan.Directory]})
	if err != nil {
		return authorityFault(err, r.plan.Directory)
	}
	if off := ca.Clock.Sub(r.job.Now()); !ca.Clock.IsZero() && off.Abs() > wrongClock {
		ca.Close()
		way := "behind"
		if off < 0 {
			way, off = "ahead of", -off
		}
		return work.Failed(nil, fmt.Sprintf("the clock of this machine is %s %s the authority's", words.Span(off), way), "set the clock: with a wrong one nobody knows whether a certificate is valid")
	}
	r.ca = ca
	return nil
}

// account registers the account's key, or finds its account.
func (r *obtaining) account(ctx context.Context) error {
	if r.plan.Accounts[r.plan.Directory] != "" {
		return nil
	}
	binding, err := r.binding()
	if err != nil {
		return err
	}
	if err := r.folder.KeepAccountKey(r.plan.Directory, r.key); err != nil {
		return keepFault(err, r.folder)
	}
	agreed := r.plan.Agreed == r.ca.Terms
	u, err := r.ca.Register(ctx, r.plan.Email, agreed, binding)
	if err != nil {
		return authorityFault(err, r.plan.Directory)
	}
	r.plan.Accounts[r.plan.Directory], r.registered = u, true // which is kept's too
	if err := r.folder.SetPlan(r.kept); err != nil {
		return keepFault(err, r.folder)
	}
	return nil
}

// binding reads what ties the account to one that the authority knows.
func (r *obtaining) binding() (*acme.Binding, error) {
	if r.o.BindingID == "" {
		return nil, nil
	}
	b, err := disk.ReadSecret(r.o.BindingKey, work.MaxSettings)
	if refused := work.Untrusted(err); refused != nil {
		return nil, refused
	}
	if err != nil {
		return nil, work.BadUse(err, "the binding's key cannot be read", "name the file that holds it: --eab-key-file FILE")
	}
	text := strings.TrimRight(strings.TrimSpace(string(b)), "=")
	key, err := base64.RawURLEncoding.DecodeString(strings.NewReplacer("+", "-", "/", "_").Replace(text))
	if err != nil || len(key) == 0 {
		return nil, work.BadUse(nil, r.o.BindingKey+" holds no key in base64", "write the key into it as the authority gave it, and nothing else")
	}
	return &acme.Binding{ID: r.o.BindingID, Key: key}, nil
}

// one obtains one certificate, unless a good one is there, and puts it in place.
func (r *obtaining) one(ctx context.Context, c *Certificate, set *certfolder.Set, again bool) error {
	if err := r.tidy(ctx, set); err != nil {
		return err
	}
	st, err := set.State()
	if err != nil {
		return keepFault(err, r.folder)
	}
	current, err := r.current(set)
	if err != nil {
		return err
	}
	if pending, err := set.Pending(); err == nil && pending != nil && pending.Order != "" && !r.out.Renewing {
		again = true // it was asked for, and did not come to an end
	}
	if held, _ := set.Read(st.Held); held != nil && r.good(held, c, st) == "" && point.Worst(r.judge(c, held)) != point.Stop && !again { // issued, and could not be put in place
		c.State = CertIssued
		return r.place(ctx, c, set, held)
	}
	if current != nil && !again && r.good(current, c, st) == "" {
		c.State = CertKept
		return r.place(ctx, c, set, current)
	}
	if st.NotBefore.After(r.job.Now()) {
		return work.Failed(nil, "the authority asks not to be contacted before "+st.NotBefore.UTC().Format("2006-01-02 15:04 UTC"), "run the same command then")
	}
	made, err := r.issue(ctx, c, set, current)
	if err != nil || made == nil {
		return r.limited(err, set)
	}
	return r.place(ctx, c, set, made)
}

// limited keeps until when a rate limit holds.
func (r *obtaining) limited(err error, set *certfolder.Set) error {
	var refused *acme.Refused
	if !errors.As(err, &refused) || refused.Kind != acme.RateLimited || refused.After == 0 {
		return err
	}
	st, serr := set.State()
	if serr != nil {
		return err
	}
	st.NotBefore = r.job.Now().Add(min(refused.After, 14*24*time.Hour))
	_ = set.SetState(st) // then it is asked once more, and says the same
	return err
}

// current reads the version in use; nil where there is none.
func (r *obtaining) current(set *certfolder.Set) (*certfolder.Version, error) {
	name, err := set.Current()
	if err != nil {
		return nil, keepFault(err, r.folder)
	}
	v, err := set.Read(name)
	if err != nil {
		return nil, nil // it cannot be used: a new one takes its place
	}
	return v, nil
}

// good says why a certificate has to be replaced; "" where it has not.
func (r *obtaining) good(v *certfolder.Version, c *Certificate, st certfolder.State) string {
	now := r.job.Now()
	leaf := v.Chain[0]
	missing := certs.Uncovered(leaf, c.Names)
	switch {
	case slices.Contains(st.Revoked, v.Name):
		return "it was revoked"
	case len(missing) > 0:
		return "it does not cover " + strings.Join(missing, ", ")
	case !certs.Fits(v.Key, leaf):
		return "the key does not belong to it"
	case !now.Before(leaf.NotAfter):
		return "it expired"
	case !now.Before(certs.RenewAt(leaf, st.Window)):
		return "it is due"
	}
	return ""
}

// tidy takes away what an earlier run left when it was killed: proofs, and files that were being replaced.
func (r *obtaining) tidy(ctx context.Context, set *certfolder.Set) error {
	set.Sweep()
	pending, err := set.Pending()
	if err != nil {
		return keepFault(err, r.folder)
	}
	if pending == nil {
		if err := set.SetPending(nil); err != nil { // a key may be left
			return keepFault(err, r.folder)
		}
	}
	if pending != nil && len(pending.Placed) > 0 {
		for _, p := range pending.Placed {
			err := proof.Remove(ctx, p)
			if err != nil && p.Way == "update" && r.plan.UpdateKey != "" { // the key may be another by now
				p.KeyFile = r.plan.UpdateKey
				err = proof.Remove(ctx, p)
			}
			if err != nil && !errors.Is(err, dns.ErrRefused) { // what may not be removed was not made with that key either
				return work.Failed(err, "the proof of an earlier run cannot be removed", "remove it by hand: "+filepath.Join(p.Root, p.File)+p.Record)
			}
		}
		if pending.Placed = nil; pending.Order == "" { // they were only tried
			pending = nil
		}
		if err := set.SetPending(pending); err != nil {
			return keepFault(err, r.folder)
		}
	}
	_, err = putBack(ctx, r.folder, set, r.plan.After)
	return err
}

// PutBack puts back the server's files that a run was replacing when it died. It returns whether there were any.
func PutBack(ctx context.Context, t *work.Trial) (bool, error) {
	folder, err := certfolder.Open(t.Folder)
	if err != nil {
		return false, folderFault(err)
	}
	set, err := folder.Set(t.Host)
	if err != nil {
		return false, keepFault(err, folder)
	}
	return putBack(ctx, folder, set, t.After)
}

func putBack(ctx context.Context, folder *certfolder.Folder, set *certfolder.Set, after string) (bool, error) {
	swap, err := set.Swap()
	if err != nil {
		return false, keepFault(err, folder)
	}
	if swap == nil {
		return false, nil
	}
	if err := errors.Join(swap.Restore(), set.Use(swap.Before)); err != nil {
		return false, work.Failed(err, "an earlier run was killed while it replaced the server's files, and they cannot be put back", "put them back by hand; copies are in "+set.Path())
	}
	if err := work.Reload(ctx, after); err != nil {
		return false, err
	}
	if err := set.SetSwap(nil); err != nil {
		return false, keepFault(err, folder)
	}
	return true, nil
}

// issue has the certificate issued, checks it, and keeps it; nil: it is not here yet, or of no use.
func (r *obtaining) issue(ctx context.Context, c *Certificate, set *certfolder.Set, current *certfolder.Version) (*certfolder.Version, error) {
	if err := r.open(ctx); err != nil {
		return nil, err
	}
	if err := r.account(ctx); err != nil {
		return nil, err
	}
	order, pending, err := r.order(ctx, c, set)
	if err != nil {
		return nil, err
	}
	key, err := r.orderKey(set, current)
	if err != nil {
		return nil, err
	}
	if order.Status == "pending" {
		if done, err := r.prove(ctx, c, set, order, pending); err != nil || !done {
			return nil, err
		}
	}
	r.job.Progress.At("waiting for the certificate", 0, 0)
	request, err := certs.Asking(key, c.Names)
	if err != nil {
		return nil, work.Failed(err, "the signing request cannot be made", "run the command again")
	}
	chain, offered, err := r.ca.Finalize(ctx, order, request, r.plan.Chain)
	r.offered = offered
	if err != nil {
		return nil, r.over(err, set)
	}
	name, err := set.Add(chain, key, r.job.Now())
	if err != nil {
		return nil, keepFault(err, r.folder)
	}
	st, err := set.State()
	if err == nil {
		st.Held, st.Window, st.Asked = name, nil, time.Time{}
		err = errors.Join(set.SetState(st), set.SetPending(nil))
	}
	if err != nil {
		return nil, keepFault(err, r.folder)
	}
	made := &certfolder.Version{Name: name, Chain: chain, Key: key}
	if made.Text, err = certfolder.Texts(chain, key); err != nil {
		return nil, work.Failed(err, "the certificate cannot be written", "run the command again")
	}
	c.State = CertIssued
	return made, nil
}

// again reports whether the same question may have another answer later.
func again(err error) bool {
	var refused *acme.Refused
	return errors.As(err, &refused) && refused.Again()
}

// orderKey is the key that the certificate is for: a new one, unless it is to stay or an order is under way.
func (r *obtaining) orderKey(set *certfolder.Set, current *certfolder.Version) (crypto.Signer, error) {
	key, err := set.PendingKey()
	if err != nil {
		return nil, keepFault(err, r.folder)
	}
	if key != nil {
		return key, nil
	}
	if key, err = certs.NewKey(r.plan.Key); err != nil {
		return nil, work.BadUse(err, "--key", "write ecdsa or rsa")
	}
	if r.o.KeepKey && current != nil {
		key = current.Key
	}
	if err := set.SetPendingKey(key); err != nil {
		return nil, keepFault(err, r.folder)
	}
	return key, nil
}

// order goes on with the order that is under way, or makes one.
func (r *obtaining) order(ctx context.Context, c *Certificate, set *certfolder.Set) (*acme.Order, *certfolder.Pending, error) {
	pending, err := set.Pending()
	if err != nil {
		return nil, nil, keepFault(err, r.folder)
	}
	if pending != nil && pending.Order != "" && pending.Directory == r.plan.Directory && slices.Equal(pending.Names, c.Names) {
		order, err := r.ca.Resume(ctx, pending.Order)
		key, _ := set.PendingKey() // none: what is issued for it already is of no use
		if err == nil && order.Status != "invalid" && (key != nil || order.Status == "pending" || order.Status == "ready") {
			return order, pending, nil
		}
		if err != nil && (again(err) || ctx.Err() != nil) {
			return nil, nil, authorityFault(err, r.plan.Directory)
		}
	}
	if err := set.SetPending(nil); err != nil {
		return nil, nil, keepFault(err, r.folder)
	}
	if err := r.permitted(ctx, c.Names); err != nil {
		return nil, nil, err
	}
	if err := r.findWay(ctx, c, set); err != nil {
		return nil, nil, err
	}
	r.job.Progress.At("ordering a certificate for "+c.Names[0], 0, 0)
	order, err := r.ca.Order(ctx, c.Names, r.plan.Profile)
	if r.strange(err) {
		// The account's key was lost, the authority forgot the account, or it is another one under the same address.
		delete(r.plan.Accounts, r.plan.Directory)
		r.ca.Forget()
		if err := r.account(ctx); err != nil {
			return nil, nil, err
		}
		order, err = r.ca.Order(ctx, c.Names, r.plan.Profile)
	}
	if err != nil {
		return nil, nil, authorityFault(err, r.plan.Directory)
	}
	pending = &certfolder.Pending{Directory: r.plan.Directory, Order: order.URL, Names: c.Names}
	if err := set.SetPending(pending); err != nil {
		return nil, nil, keepFault(err, r.folder)
	}
	return order, pending, nil
}

// strange reports whether an authority refused an order because it does not know the account, or not by its key. One that
// was registered in this run it knows.
func (r *obtaining) strange(err error) bool {
	var refused *acme.Refused
	return errors.As(err, &refused) && refused.Step == acme.Ordering && len(refused.Names) == 0 && !r.registered &&
		(refused.Kind == acme.NoAccount || refused.Kind == acme.Unauthorized || refused.Kind == acme.Malformed)
}

// permitted asks the DNS whether the authority may issue for the names, as it will ask itself.
func (r *obtaining) permitted(ctx context.Context, names []string) error {
	if len(r.ca.Issuers) == 0 || r.job.Offline {
		return nil
	}
	client, err := dns.New(append(r.plan.Resolvers, "")[0])
	if err != nil {
		return nil // nobody to ask: the authority asks
	}
	for _, name := range names {
		if len(r.plan.Resolvers) == 0 && len(r.web.Override(strings.TrimPrefix(name, "*."), "443")) > 0 {
			continue
		}
		allowed, at, err := client.Issuers(ctx, name)
		if err != nil || at == "" || slices.ContainsFunc(allowed, func(a string) bool { return slices.Contains(r.ca.Issuers, a) }) {
			continue
		}
		who := "no authority"
		if len(allowed) > 0 {
			who = "only " + strings.Join(allowed, ", ")
		}
		return work.Failed(nil, fmt.Sprintf("the DNS of %s lets %s issue certificates for %s (CAA); this authority goes by %s", at, who, name, strings.Join(r.ca.Issuers, ", ")),
			fmt.Sprintf("add a CAA record: %s. CAA 0 issue %q; or take an authority that is allowed", at, r.ca.Issuers[0]))
	}
	return nil
}

// judge is what our own judge says of a certificate before it replaces anything.
func (r *obtaining) judge(c *Certificate, v *certfolder.Version) []point.Point {
	var names []string
	for _, n := range c.Names {
		if !strings.HasPrefix(n, "*.") {
			names = append(names, n)
		}
	}
	leaf := v.Chain[0]
	sent := certs.Sent{Chain: v.Chain, Names: names, Roots: r.web.Roots(), Now: r.job.Now()}
	points := words.Certificates(sent.Judge())
	if missing := certs.Uncovered(leaf, c.Names); len(missing) > 0 && len(names) < len(c.Names) {
		points = append(points, words.IssuedWithout.Point(nil, strings.Join(missing, ", ")))
	}
	if r.offered != nil && !acme.LeadsTo(v.Chain, r.plan.Chain) {
		points = append(points, words.NoSuchChain.Point(nil, r.plan.Chain, strings.Join(r.offered, ", ")))
	}
	if !certs.Fits(v.Key, leaf) {
		points = append(points, words.IssuedOtherKey.Point(nil))
	}
	return points
}

// dated fills in until when a certificate is good.
func (r *obtaining) dated(c *Certificate, set *certfolder.Set, leaf *x509.Certificate) {
	st, err := set.State()
	if err != nil {
		st = certfolder.State{}
	}
	c.Until, c.Renew = leaf.NotAfter.UTC(), certs.RenewAt(leaf, st.Window).UTC()
}
