package cert

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/certs"
	"trimlantern/core/point"
	"trimlantern/outside/certfolder"
	"trimlantern/outside/disk"
	"trimlantern/outside/fetch"
	"trimlantern/outside/probe"
	"trimlantern/report/words"
	"trimlantern/work"
)

// place puts a certificate where the server reads it, has the server read it, and looks whether it is served. What
// makes things worse is taken back.
func (r *obtaining) place(ctx context.Context, c *Certificate, set *certfolder.Set, v *certfolder.Version) error {
	leaf := v.Chain[0]
	r.dated(c, set, leaf)
	before, err := set.Current()
	if err != nil {
		return keepFault(err, r.folder)
	}
	if r.o.Show {
		c.Texts = map[string]string{}
		for _, part := range certfolder.Parts {
			c.Texts[part] = string(v.Text[part])
		}
	}
	c.Points = r.judge(c, v)
	switch stop := point.Worst(c.Points) == point.Stop; {
	case stop && before == v.Name:
		c.Folder, c.State, c.Problem = set.CurrentLink(), CertRefused, "visitors cannot use the certificate that is in use"
		c.Do = "see what is marked; a new one: --again"
		return nil
	case stop:
		c.Folder = filepath.Join(set.Path(), v.Name)
		c.State, c.Problem = CertRefused, "it was not put in place: visitors could not use the certificate that came"
		c.Do = "see what is marked; what was in use before stays"
		return nil
	}
	c.Folder = set.CurrentLink()
	files, err := r.serverFiles(v)
	if err != nil {
		return err
	}
	changed := slices.DeleteFunc(slices.Clone(files), func(f serverFile) bool { return f.there && bytes.Equal(f.before, f.after) })
	c.inPlace = len(files) > 0 || r.plan.After != ""
	defer func() { noteServed(c, set) }()
	was, listened := served(ctx, r.job, r.web, set, leaf), r.listening(ctx)
	if before == v.Name && len(changed) == 0 {
		if c.Served = was; c.allServe() || r.plan.After == "" || r.out.Renewing && !c.showsOld() {
			return nil // nothing is due: the server is left alone
		}
		return r.checked(ctx, c, set, leaf, was, listened)
	}
	trial, err := r.job.Begin(ctx, work.Trial{Host: c.Host, Folder: r.folder.Path(), After: r.plan.After})
	if err != nil {
		return err
	}
	if err = r.swap(set, v, before, changed, c); err == nil {
		err = r.checked(ctx, c, set, leaf, was, listened)
	}
	if err != nil {
		trial.Leave()
		return err
	}
	return trial.End()
}

// checked is check, and ends the change of the server's files.
func (r *obtaining) checked(ctx context.Context, c *Certificate, set *certfolder.Set, leaf *x509.Certificate, was []Served, listened []string) error {
	if err := r.check(ctx, c, set, leaf, was, listened); err != nil {
		return err
	}
	if c.State == CertBack {
		return nil
	}
	st, err := set.State()
	if err == nil {
		st.Held = ""
		err = errors.Join(set.SetState(st), set.SetSwap(nil))
	}
	if err != nil {
		return keepFault(err, r.folder)
	}
	return nil
}

// swap replaces the server's files and the link, so that Restore can take it back after a kill too.
func (r *obtaining) swap(set *certfolder.Set, v *certfolder.Version, before string, files []serverFile, c *Certificate) error {
	change := &certfolder.Swap{Before: before, Files: []certfolder.Kept{}}
	for _, f := range files {
		kept := certfolder.Kept{Path: f.path, Mode: f.mode}
		if f.there {
			var err error
			if kept.Old, err = set.Keep(v.Name, f.path, f.before, f.mode); err != nil {
				return keepFault(err, r.folder)
			}
		}
		change.Files = append(change.Files, kept)
	}
	if err := set.SetSwap(change); err != nil {
		return keepFault(err, r.folder)
	}
	for _, f := range files {
		if err := certfolder.Put(f.path, f.after, f.mode); err != nil {
			if back := errors.Join(change.Restore(), set.SetSwap(nil)); back != nil {
				return work.Failed(errors.Join(err, back), f.path+" cannot be written, and what was replaced cannot be put back", "run the same command again once it can")
			}
			return work.Failed(err, f.path+" cannot be written", "make its folder writable, or run the command as root; nothing was replaced")
		}
		c.Files = append(c.Files, f.path)
	}
	if err := set.Use(v.Name); err != nil {
		return keepFault(err, r.folder)
	}
	return nil
}

// servedWithin is how long a server may take to serve a certificate after it was told.
const servedWithin = 10 * time.Second

// check has the server read the files, and compares what the site's addresses show with before.
func (r *obtaining) check(ctx context.Context, c *Certificate, set *certfolder.Set, leaf *x509.Certificate, was []Served, listened []string) error {
	if err := work.Reload(ctx, r.plan.After); err != nil {
		return r.takeBack(ctx, c, set, leaf, was, "the server does not take it: "+err.Error())
	}
	for began := time.Now(); ; {
		c.Served = served(ctx, r.job, r.web, set, leaf)
		worse := worseServed(was, c.Served)
		if now := r.listening(ctx); worse == "" && len(listened) > 0 && len(now) == 0 {
			worse = "nothing listens at " + listened[0] + " any more"
		}
		patient := time.Since(began) < servedWithin && ctx.Err() == nil
		switch {
		case worse != "" && !patient:
			return r.takeBack(ctx, c, set, leaf, was, worse)
		case worse == "" && (c.allServe() || !c.inPlace || r.plan.After == "" || !patient):
			return nil
		}
		r.job.Progress.At("waiting for the server to show the new certificate", 0, 0)
		r.rest(ctx, 300*time.Millisecond)
	}
}

// takeBack puts back what was there before, has the server read it again, and looks whether it serves as before.
func (r *obtaining) takeBack(ctx context.Context, c *Certificate, set *certfolder.Set, leaf *x509.Certificate, was []Served, why string) error {
	c.State, c.Problem = CertBack, why
	c.Do = "fix that, then run the same command again: the new certificate is kept and needs no new order"
	change, err := set.Swap()
	if err == nil && change != nil {
		err = errors.Join(change.Restore(), set.Use(change.Before))
	}
	if err != nil {
		return work.Failed(err, "the new certificate harms the site ("+why+"), and the files cannot be put back", "put them back by hand; copies are in "+set.Path())
	}
	c.Files = []string{}
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer stop()
	if err := work.Reload(ctx, r.plan.After); err != nil {
		c.Problem += "; after the old files were put back: " + err.Error()
	}
	for began := time.Now(); ; r.rest(ctx, 300*time.Millisecond) {
		c.Served = served(ctx, r.job, r.web, set, leaf)
		worse := worseServed(was, c.Served)
		if worse == "" {
			break
		}
		if time.Since(began) > servedWithin {
			c.Problem += "; the old files are back, and still " + worse
			break
		}
	}
	if err := set.SetSwap(nil); err != nil {
		return keepFault(err, r.folder)
	}
	return nil
}

// listening returns where something listens for plain HTTP.
func (r *obtaining) listening(ctx context.Context) (out []string) {
	for _, name := range r.job.Site.NetworkHosts() {
		addrs, err := probe.Addresses(ctx, r.web, name, "80")
		if err != nil {
			continue // that is said of port 443
		}
		for _, a := range addrs {
			if !slices.Contains(out, a) && probe.Listens(ctx, a) == nil {
				out = append(out, a)
			}
		}
	}
	return out
}

// noteServed keeps which addresses show an earlier certificate.
func noteServed(c *Certificate, set *certfolder.Set) {
	st, err := set.State()
	if err != nil || len(c.Served) == 0 {
		return // whoever reads it next says so
	}
	st.Stale = nil
	for _, s := range c.Served {
		if s.Old {
			st.Stale = append(st.Stale, strings.TrimSpace(s.Name+" "+s.Addr))
		}
	}
	_ = set.SetState(st) // the next look finds the same
}

// served asks each address of each name which certificate it shows.
func served(ctx context.Context, j *work.Job, web *fetch.Client, set *certfolder.Set, leaf *x509.Certificate) []Served {
	out := []Served{}
	var earlier [][]byte
	for _, name := range j.Site.NetworkHosts() {
		if len(certs.Uncovered(leaf, []string{name})) > 0 {
			continue
		}
		j.Progress.At("asking "+name, 0, 0)
		addrs, err := probe.Addresses(ctx, web, name, "443")
		if err != nil {
			out = append(out, Served{Name: name, Why: "cannot be looked up"})
			continue
		}
		for _, addr := range slices.Compact(slices.Sorted(slices.Values(addrs))) {
			s := Served{Name: name, Addr: addr}
			switch seen := probe.Handshake(ctx, addr, name); {
			case seen.Far:
				continue // nothing can be said of it
			case seen.Err != "":
				s.Why = seen.Err
			case bytes.Equal(seen.Chain[0].Raw, leaf.Raw):
				s.New = true
				if len(seen.Chain) < 2 && !bytes.Equal(leaf.RawIssuer, leaf.RawSubject) {
					s.New, s.Why = false, alone
				}
			default:
				s.Why = another
				if earlier == nil {
					earlier = append(set.Earlier(leaf), nil)
				}
				if s.Old = slices.ContainsFunc(earlier, func(raw []byte) bool { return bytes.Equal(raw, seen.Chain[0].Raw) }); s.Old {
					s.Why = former
				}
				sent := certs.Sent{Chain: seen.Chain, Names: []string{name}, Roots: web.Roots(), Now: j.Now()}
				for _, p := range words.Certificates(sent.Judge()) {
					if p.Grade == point.Stop {
						s.Why = unusable + p.What
						break
					}
				}
			}
			out = append(out, s)
		}
	}
	return out
}

// What an address may show besides the new certificate.
const (
	another  = "another certificate"
	former   = "the certificate of before"
	alone    = "the new certificate, without the chain behind it"
	unusable = "a certificate that visitors cannot use: "
)

// worseServed says which address shows something worse than before; "": none does.
func worseServed(was, now []Served) string {
	rank := func(s Served) int {
		switch {
		case s.New:
			return 3
		case s.Why == another || s.Why == former || s.Why == alone:
			return 2
		case strings.HasPrefix(s.Why, unusable):
			return 1
		}
		return 0
	}
	for _, n := range now {
		at := slices.IndexFunc(was, func(w Served) bool { return w.Name == n.Name && w.Addr == n.Addr })
		if at >= 0 && rank(n) < rank(was[at]) {
			return fmt.Sprintf("%s at %s shows something worse than before: %s", n.Name, n.Addr, n.Why)
		}
	}
	return ""
}

// serverFile is a file that the server's configuration names.
type serverFile struct {
	path          string
	before, after []byte
	mode          fs.FileMode
	there         bool
}

// serverFiles reads the files that the certificate is to be installed as, and says what each gets: what it holds
// today, or what is named before it: key=FILE.
func (r *obtaining) serverFiles(v *certfolder.Version) ([]serverFile, error) {
	var out []serverFile
	var parts []string
	for _, named := range r.plan.Install {
		part, path := installPart(named)
		f := serverFile{path: path, mode: 0o644}
		var err error
		f.before, err = disk.Read(path, maxPaper)
		switch {
		case err == nil:
			f.there = true
			if info, serr := os.Stat(path); serr == nil {
				f.mode = info.Mode().Perm()
			}
		case !errors.Is(err, fs.ErrNotExist):
			return nil, work.BadUse(err, path+" cannot be read", "name the files that the server's configuration names, as a user who may read and replace them")
		case part == "":
			return nil, work.BadUse(nil, path+" is not there, so what it should hold is not known", fmt.Sprintf("say what it is to hold: --server-file key=%[1]s, or certificate-with-chain=, certificate=, intermediates=, all=", path))
		case part == "key" || part == "all":
			f.mode = 0o600
		}
		if part == "" {
			if part = holds(f.before); part == "" {
				return nil, work.BadUse(nil, path+" holds neither a certificate nor a key", "name the files that the server's configuration names, or say what it is to hold: certificate-with-chain="+path)
			}
		}
		out, parts = append(out, f), append(parts, part)
	}
	chained := slices.Contains(parts, "intermediates")
	for i, part := range parts {
		if part == "alone" { // one certificate alone: the chain goes with it, unless it has a file of its own
			part = "certificate-with-chain"
			if chained {
				part = "certificate"
			}
		}
		parts[i] = part
		out[i].after = v.Text[part]
		if part == "all" {
			out[i].after = append(slices.Clone(v.Text["certificate-with-chain"]), v.Text["key"]...)
		}
	}
	if len(out) > 0 && !slices.Contains(parts, "all") && !(slices.Contains(parts, "key") && (slices.Contains(parts, "certificate-with-chain") || slices.Contains(parts, "certificate"))) {
		return nil, work.BadUse(nil, "the files to install are not both a key and a certificate", "name both with --server-file: the server does not start with a key that does not belong to its certificate")
	}
	return out, nil
}

// installPart takes apart what a certificate is to be installed as: FILE, or what the file is to hold before it,
// like key=FILE.
func installPart(named string) (part, path string) {
	part, path, ok := strings.Cut(named, "=")
	if !ok || part != "all" && !slices.Contains(certfolder.Parts, part) {
		return "", named
	}
	return part, path
}

// holds says what a file of a server holds: a part, "all", or "alone" for one certificate alone; "" where
// it is neither.
func holds(b []byte) string {
	papers, err := certs.Read("", b, "")
	if err != nil {
		return ""
	}
	key, leaf, above := false, false, 0
	for _, p := range papers {
		switch {
		case p.Key != nil:
			key = true
		case p.Cert != nil && p.Cert.IsCA && !bytes.Equal(p.Cert.RawIssuer, p.Cert.RawSubject):
			above++
		case p.Cert != nil && !leaf:
			leaf = true
		case p.Cert != nil:
			above++
		}
	}
	switch {
	case key && (leaf || above > 0):
		return "all"
	case key:
		return "key"
	case leaf && above > 0:
		return "certificate-with-chain"
	case leaf:
		return "alone"
	case above > 0:
		return "intermediates"
	}
	return ""
}
