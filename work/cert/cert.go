// Package cert obtains, checks and renews the certificates of a site, and makes requests and proofs for who gets
// them another way.
package cert

import (
	"bytes"
	"context"
	"crypto/rand"
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
	"trimlantern/core/hops"
	"trimlantern/core/point"
	"trimlantern/outside/disk"
	"trimlantern/outside/fetch"
	"trimlantern/outside/probe"
	"trimlantern/outside/proof"
	"trimlantern/report/words"
	"trimlantern/work"
)

// Requested is what cert request wrote.
type Requested struct {
	Names   []string `json:"names"`
	Key     string   `json:"key"`     // the file of the private key
	Request string   `json:"request"` // the file of the signing request
}

// Code is the exit code that it comes to.
func (*Requested) Code() int { return work.Clean }

// Request makes a private key and a signing request for all names of the site, in
// files of folder; files that are there are never overwritten.
func Request(j *work.Job, folder, kind string) (*Requested, error) {
	if err := j.PrivatePlace(folder); err != nil {
		return nil, err
	}
	key, request, err := certs.Request(kind, j.Site.NetworkHosts())
	if err != nil {
		return nil, work.BadUse(err, "the request cannot be made", "see trimlantern cert request --help")
	}
	out := &Requested{Names: j.Site.NetworkHosts(), Key: filepath.Join(folder, j.Site.Host+".key.pem"), Request: filepath.Join(folder, j.Site.Host+".csr.pem")}
	for _, f := range []string{out.Key, out.Request} {
		if _, err := os.Lstat(f); err == nil {
			return nil, work.BadUse(nil, f+" already exists", "move it away first: a key that is in use must not be lost")
		}
	}
	if err := writeNew(out.Key, key, 0o600); err != nil {
		return nil, err
	}
	if err := writeNew(out.Request, request, 0o644); err != nil {
		return nil, err
	}
	return out, nil
}

func writeNew(file string, b []byte, mode os.FileMode) error {
	if err := disk.CreateNew(file, b, mode); err != nil {
		return work.Failed(err, "the file cannot be written", "name a folder that is writable and has room")
	}
	return nil
}

// Checked is what cert check found in files.
type Checked struct {
	Papers []certs.Paper `json:"papers"`
	Points []point.Point `json:"points"`
	Chain  string        `json:"chain,omitempty"` // the file with the chain in the server's order
	Key    string        `json:"key,omitempty"`   // the file with the key
	Kept   []string      `json:"kept"`            // where files of before are now
}

// Code is the exit code that it comes to.
func (c *Checked) Code() int {
	for _, p := range c.Points {
		if p.Grade.Fault() {
			return work.Remain
		}
	}
	return work.Clean
}

// maxPaper bounds the size of one file.
const maxPaper = 4 << 20

// Check looks what files hold, whether it belongs together and is whole, and with
// folder writes it there in the order that servers want.
// Files that are there already are kept under another name, and are not replaced by what visitors could not use.
func Check(j *work.Job, files []string, o CheckOptions) (*Checked, error) {
	out := &Checked{Kept: []string{}}
	password, err := o.password()
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		b, err := disk.Read(file, maxPaper)
		if errors.Is(err, disk.ErrTooLarge) {
			return nil, work.BadUse(nil, file+" is too large for a certificate", "name the files that the authority sent, and the key")
		}
		if err != nil {
			return nil, work.BadUse(err, "the file cannot be read", "name the files that the authority sent, and the key")
		}
		papers, err := certs.Read(file, b, password)
		if err != nil {
			return nil, work.BadUse(nil, file+" "+err.Error(), "name the files that the authority sent, and the key")
		}
		out.Papers = append(out.Papers, papers...)
	}
	bundle, err := certs.Sort(out.Papers, j.Site.NetworkHosts())
	if err != nil {
		return nil, work.BadUse(nil, err.Error(), "name the file with the site's certificate too")
	}
	client, err := j.Web()
	if err != nil {
		return nil, err
	}
	for _, p := range out.Papers {
		if p.Bad != "" {
			out.Points = append(out.Points, words.FileUnusable.Point(nil, p.What, p.File, p.Bad))
		}
	}
	sent := certs.Sent{Chain: bundle.Chain, Names: named(j, bundle.Chain[0]), Roots: client.Roots(), Now: j.Now(), Soon: o.Soon}
	out.Points = append(out.Points, words.Certificates(sent.Judge())...)
	hasKey := false
	for _, p := range out.Papers {
		hasKey = hasKey || p.Key != nil
	}
	switch {
	case bundle.Key != nil:
		out.Points = append(out.Points, words.KeyFits.Point(nil))
	case hasKey:
		out.Points = append(out.Points, words.KeyOfAnother.Point(nil))
	default:
		out.Points = append(out.Points, words.KeyMissing.Point(nil))
	}
	if o.Folder == "" {
		return out, nil
	}
	folder := o.Folder
	chain, key, err := bundle.PEM()
	if err != nil {
		return nil, work.BadUse(err, "the files cannot be written", "check the key")
	}
	if err := j.PrivatePlace(folder); err != nil {
		return nil, err
	}
	chainFile, keyFile := filepath.Join(folder, j.Site.Host+".chain.pem"), filepath.Join(folder, j.Site.Host+".key.pem")
	if _, err := os.Lstat(chainFile); err == nil && point.Worst(out.Points) == point.Stop {
		out.Points = append(out.Points, words.NotReplaced.Point(nil, chainFile))
		return out, nil
	}
	if err := writeKept(j, out, chainFile, chain, 0o644); err != nil {
		return nil, err
	}
	out.Chain = chainFile
	if key != nil {
		if err := writeKept(j, out, keyFile, key, 0o600); err != nil {
			return nil, err
		}
		out.Key = keyFile
	}
	return out, nil
}

// CheckOptions say what is done with certificate files.
type CheckOptions struct {
	Folder       string        // where chain and key are written; "": nowhere
	Soon         time.Duration // a certificate that ends within it needs attention
	PasswordEnv  string        // the variable with the password of a .p12 file
	PasswordFile string        // or the file that holds nothing else
}

func (o CheckOptions) password() (string, error) {
	if o.PasswordFile == "" {
		return os.Getenv(o.PasswordEnv), nil
	}
	b, err := disk.ReadTrusted(o.PasswordFile, work.MaxSettings)
	if refused := work.Untrusted(err); refused != nil {
		return "", refused
	}
	if err != nil {
		return "", work.BadUse(err, "the password file cannot be read", "name a file that you may read")
	}
	return strings.TrimRight(string(b), "\r\n"), nil
}

// named returns the names that a certificate should have: those of the site, and those of each sister site
// that it is also for. A sister may have a certificate of its own.
func named(j *work.Job, leaf *x509.Certificate) (names []string) {
	for _, site := range j.Site.Network() {
		if slices.ContainsFunc(site.Hosts(), func(n string) bool { return leaf.VerifyHostname(n) == nil }) {
			names = append(names, site.Hosts()...)
		}
	}
	if len(names) == 0 {
		return j.Site.Hosts()
	}
	return names
}

// writeKept writes a file; one that is there and holds something else is kept beside it.
func writeKept(j *work.Job, out *Checked, file string, b []byte, mode os.FileMode) error {
	now, err := disk.Read(file, maxPaper)
	if err == nil && bytes.Equal(now, b) {
		return nil
	}
	kept := ""
	if err == nil {
		kept = file + "." + j.Now().UTC().Format("20060102-150405") + ".old"
		if err := os.Rename(file, kept); err != nil {
			return work.Failed(err, "the previous file cannot be kept", "make the folder writable")
		}
	}
	if err := writeNew(file, b, mode); err != nil {
		if kept != "" {
			_ = os.Rename(kept, file) // as it was; the first error is what matters
		}
		return err
	}
	if kept != "" {
		out.Kept = append(out.Kept, kept)
	}
	return nil
}

// Proof is what became of a file that proves who owns the site.
type Proof struct {
	File  string       `json:"file"`
	Kept  bool         `json:"kept"` // it stays for the authority
	Asked []ProofAsked `json:"asked"`
}

// ProofAsked is what one name answered, at one of its addresses.
type ProofAsked struct {
	URL string `json:"url"`
	At  string `json:"at,omitempty"` // the address, where the name has several
	OK  bool   `json:"ok"`
	Why string `json:"why,omitempty"`
}

// Code is the exit code that it comes to.
func (p *Proof) Code() int {
	for _, a := range p.Asked {
		if !a.OK {
			return work.Remain
		}
	}
	return work.Clean
}

// Prove puts a file below the well-known folder of root, asks for it over HTTP under every name and at every
// address as an authority would, and takes it away again unless keep is set. Without name and content it makes
// some up.
func Prove(ctx context.Context, j *work.Job, root, name, content string, folder int, keep bool) (_ *Proof, err error) {
	defer j.Progress.End()
	if name == "" {
		name, content = "trimlantern-"+rand.Text(), rand.Text()
	}
	if name != filepath.Base(name) || strings.HasPrefix(name, ".") || strings.ContainsAny(name, `/\`) {
		return nil, work.BadUse(nil, fmt.Sprintf("%q is not a file name", name), "write the name that the authority gave, without folders")
	}
	client, err := j.Web()
	if err != nil {
		return nil, err
	}
	files := &proof.Files{Root: func(string) string { return root }, Folder: hops.ProofFolders[folder]}
	claim := proof.Claim{Name: j.Site.Host, Token: name, Value: content}
	placed, err := files.Plan(ctx, claim)
	switch {
	case errors.Is(err, fs.ErrExist):
		return nil, work.Failed(nil, filepath.Join(placed.Root, placed.File)+" already exists", "remove it first, if nobody needs it")
	case err != nil:
		return nil, work.BadUse(nil, root+" is not a folder", "name the folder that the server serves the site from")
	}
	out := &Proof{File: filepath.Join(placed.Root, placed.File), Kept: keep, Asked: []ProofAsked{}}
	if err := files.Put(ctx, placed, claim); err != nil {
		_ = files.Remove(ctx, placed) // what failed first counts
		return nil, work.Failed(err, "the file cannot be written", "make "+root+" writable")
	}
	if !keep {
		defer func() {
			if failed := files.Remove(context.WithoutCancel(ctx), placed); failed != nil && err == nil {
				err = work.Failed(failed, "the file cannot be removed", "remove it by hand: "+out.File)
			}
		}()
	}
	for _, host := range j.Site.NetworkHosts() {
		out.Asked = append(out.Asked, askProof(ctx, j, client, host, files.Folder+name, content)...)
	}
	return out, nil
}

// askProof asks for a proof of one name at each of its addresses.
func askProof(ctx context.Context, j *work.Job, client *fetch.Client, host, path, content string) (all []ProofAsked) {
	asked := ProofAsked{URL: "http://" + host + path}
	j.Progress.At("asking "+asked.URL, 0, 0)
	addrs, err := probe.Addresses(ctx, client, host, "80")
	if err != nil || len(addrs) == 0 {
		asked.Why = "its name cannot be looked up"
		return append(all, asked)
	}
	for _, addr := range addrs {
		one := asked
		if len(addrs) > 1 {
			one.At = addr
		}
		redirects, err := probe.Proof(ctx, client, host, addr, path, content)
		switch {
		case err != nil:
			one.Why = probe.Failure(err)
		default:
			if one.OK = true; redirects > 0 {
				one.Why = "after " + words.Count(redirects, "redirect") + "; some authorities follow none"
			}
		}
		all = append(all, one)
	}
	return all
}
