// Package certfolder keeps what obtaining certificates leaves behind: the account's key, what was asked for, each
// certificate in a folder of its own with a link to the one in use, and what is under way. Only the caller can
// enter it.
package certfolder

import (
	"bytes"
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/certs"
	"trimlantern/outside/disk"
	"trimlantern/outside/proof"
)

// Plan is what was asked for: each renewal repeats it.
type Plan struct {
	Directory string            `json:"directory"`          // the authority's
	CA        string            `json:"ca,omitempty"`       // PEM file of an authority that is trusted besides the system's
	Email     string            `json:"email,omitempty"`    // that the authority may write to
	Agreed    string            `json:"agreed,omitempty"`   // the terms of service that the owner agreed to
	Accounts  map[string]string `json:"accounts,omitempty"` // URLs by directory
	Profile   string            `json:"profile,omitempty"`
	Chain     string            `json:"chain,omitempty"` // the authority that the chain is to lead to, by a part of its name
	Key       string            `json:"key"`             // "ecdsa" or "rsa"
	Each      bool              `json:"each,omitempty"`  // a certificate for each site of a network
	Names     []string          `json:"names,omitempty"` // besides those of the site

	Way       string   `json:"way,omitempty"`    // "": what works
	Anyway    bool     `json:"anyway,omitempty"` // also where this machine does not see the proof
	Roots     []string `json:"roots,omitempty"`
	Listen    string   `json:"listen,omitempty"`
	Update    string   `json:"dns_update,omitempty"`
	UpdateKey string   `json:"dns_update_key,omitempty"`
	Program   string   `json:"dns_program,omitempty"`
	Resolvers []string `json:"resolvers,omitempty"`

	Install []string `json:"server_files,omitempty"`
	After   string   `json:"after,omitempty"`
}

// State is what is known of one certificate.
type State struct {
	Window    *certs.Window `json:"window,omitempty"`    // the authority's
	Asked     time.Time     `json:"asked,omitzero"`      // when the window was asked for
	Ran       time.Time     `json:"ran,omitzero"`        // when a renewal last looked whether it is due
	Failed    time.Time     `json:"failed,omitzero"`     // when obtaining failed; zero: it did not, the last time
	Why       string        `json:"why,omitempty"`       // it failed
	NotBefore time.Time     `json:"not_before,omitzero"` // the authority wants no question before that
	Revoked   []string      `json:"revoked,omitempty"`   // versions that the authority revoked at the owner's wish
	Stale     []string      `json:"stale,omitempty"`     // addresses that showed an earlier version when they were last asked
	Held      string        `json:"held,omitempty"`      // a version that could not be put in place
}

// Pending is an order that is under way, and what lies about for it.
type Pending struct {
	Directory string         `json:"directory"`
	Order     string         `json:"order"`
	Names     []string       `json:"names"`
	Placed    []proof.Placed `json:"placed"`
}

// Swap is a change of files in a server's folders that may have to be taken back.
type Swap struct {
	Before string `json:"before"` // the version that the link led to; "": none
	Files  []Kept `json:"files"`
}

// Kept is a file and where its content of before is.
type Kept struct {
	Path string      `json:"path"`
	Old  string      `json:"old,omitempty"` // "": there was none
	Mode fs.FileMode `json:"mode"`
}

// Folder is an open folder of certificates.
type Folder struct{ dir string }

// Open makes the folder, or takes one that is there and nobody else can write.
func Open(dir string) (*Folder, error) {
	err := disk.TrustedFolder(dir)
	if errors.Is(err, fs.ErrNotExist) {
		err = disk.PrivateFolder(dir)
	}
	return &Folder{dir}, err
}

// There returns the folder if there is one; nil where nothing was obtained yet.
func There(dir string) (*Folder, error) {
	err := disk.TrustedFolder(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return &Folder{dir}, err
}

// Path returns where it is.
func (f *Folder) Path() string { return f.dir }

const elsewhereFile = "elsewhere.json"

// Elsewhere returns where the certificates are kept whose usual folder is dir: there, unless SetElsewhere said
// otherwise.
func Elsewhere(dir string) (string, error) {
	var at struct{ Folder string }
	if err := disk.TrustedFolder(dir); err != nil {
		return dir, gone(err)
	}
	if there, err := readJSON(filepath.Join(dir, elsewhereFile), &at); err != nil || !there || at.Folder == "" {
		return dir, err
	}
	return at.Folder, nil
}

// SetElsewhere says that certificates whose usual folder is dir are kept in another one.
func SetElsewhere(dir, folder string) error {
	if err := disk.PrivateFolder(dir); err != nil {
		return err
	}
	return writeJSON(filepath.Join(dir, elsewhereFile), struct{ Folder string }{folder})
}

// maxFile bounds what is read.
const maxFile = 4 << 20

func readJSON(path string, v any) (there bool, err error) {
	b, err := disk.ReadTrusted(path, maxFile)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if err := json.Unmarshal(b, v); err != nil {
		return false, fmt.Errorf("%s is broken: %w", path, err)
	}
	return true, nil
}

// write replaces a file in one step.
func write(path string, b []byte, mode fs.FileMode) error {
	p, err := disk.Create(path, mode)
	if err != nil {
		return err
	}
	defer p.Discard()
	if _, err := p.Write(b); err != nil {
		return err
	}
	return p.Commit()
}

func writeJSON(path string, v any) error {
	b, err := json.MarshalIndent(v, "", " ")
	if err != nil {
		return err
	}
	return write(path, append(b, '\n'), 0o600)
}

const planFile = "plan.json"

// Plan reads what was asked for; the zero value where nothing was.
func (f *Folder) Plan() (p Plan, there bool, err error) {
	there, err = readJSON(filepath.Join(f.dir, planFile), &p)
	return p, there, err
}

// SetPlan keeps it.
func (f *Folder) SetPlan(p Plan) error { return writeJSON(filepath.Join(f.dir, planFile), p) }

func (f *Folder) accountPath(directory string) string {
	sum := sha256.Sum256([]byte(directory))
	return filepath.Join(f.dir, "account-"+hex.EncodeToString(sum[:4])+".key.pem")
}

// AccountKey returns the key of the account with an authority. If there is none, it is a new one, which KeepAccountKey is to
// keep before an account is made with it.
func (f *Folder) AccountKey(directory string) (crypto.Signer, error) {
	path := f.accountPath(directory)
	b, err := disk.ReadTrusted(path, maxFile)
	if err == nil {
		key, err := certs.ReadKey(b)
		if err != nil {
			return nil, fmt.Errorf("%s %w", path, err)
		}
		return key, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return certs.NewKey("ecdsa")
}

// KeepAccountKey keeps the key of the account with an authority.
func (f *Folder) KeepAccountKey(directory string, key crypto.Signer) error {
	b, err := certs.KeyPEM(key)
	if err != nil {
		return err
	}
	return write(f.accountPath(directory), b, 0o600)
}

// Set is one certificate with its versions.
type Set struct{ dir string }

// Set opens the folder of one certificate.
func (f *Folder) Set(host string) (*Set, error) {
	dir := filepath.Join(f.dir, host)
	return &Set{dir}, disk.PrivateFolder(dir)
}

// Sweep removes what runs that were killed left half-written. The caller holds the site's lock.
func (s *Set) Sweep() {
	sweep(s.dir)
	sweep(filepath.Dir(s.dir))
}

// Sets returns the certificates that there are.
func (f *Folder) Sets() (hosts []string, err error) {
	entries, err := os.ReadDir(f.dir)
	for _, e := range entries {
		if e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
			hosts = append(hosts, e.Name())
		}
	}
	return hosts, err
}

// Path returns where it is.
func (s *Set) Path() string { return s.dir }

const (
	stateFile   = "state.json"
	pendingFile = "pending.json"
	pendingKey  = "pending.key.pem"
	swapFile    = "swap.json"
	currentLink = "current"
)

// State reads what is known of the certificate.
func (s *Set) State() (st State, err error) {
	_, err = readJSON(filepath.Join(s.dir, stateFile), &st)
	return st, err
}

// SetState keeps it.
func (s *Set) SetState(st State) error { return writeJSON(filepath.Join(s.dir, stateFile), st) }

// Pending reads the order that is under way; nil where there is none.
func (s *Set) Pending() (*Pending, error) {
	var p Pending
	there, err := readJSON(filepath.Join(s.dir, pendingFile), &p)
	if !there {
		return nil, err
	}
	return &p, err
}

// SetPending keeps it, through to the disk; nil: there is none any more, and no key for it.
func (s *Set) SetPending(p *Pending) error {
	if p != nil {
		return writeJSON(filepath.Join(s.dir, pendingFile), p)
	}
	err := gone(os.Remove(filepath.Join(s.dir, pendingFile))) // first: an order without its key is of no use
	return errors.Join(err, gone(os.Remove(filepath.Join(s.dir, pendingKey))))
}

// gone makes "not there" no error.
func gone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// PendingKey returns the key of the order that is under way; nil where there is none.
func (s *Set) PendingKey() (crypto.Signer, error) {
	b, err := disk.ReadTrusted(filepath.Join(s.dir, pendingKey), maxFile)
	if err != nil {
		return nil, gone(err)
	}
	return certs.ReadKey(b)
}

// SetPendingKey keeps the key of an order.
func (s *Set) SetPendingKey(key crypto.Signer) error {
	b, err := certs.KeyPEM(key)
	if err != nil {
		return err
	}
	return write(filepath.Join(s.dir, pendingKey), b, 0o600)
}

// Swap reads a change of files that was begun and not ended; nil where there is none.
func (s *Set) Swap() (*Swap, error) {
	var w Swap
	there, err := readJSON(filepath.Join(s.dir, swapFile), &w)
	if !there {
		return nil, err
	}
	return &w, err
}

// SetSwap keeps it, through to the disk; nil: it has ended.
func (s *Set) SetSwap(w *Swap) error {
	if w != nil {
		return writeJSON(filepath.Join(s.dir, swapFile), w)
	}
	return gone(os.Remove(filepath.Join(s.dir, swapFile)))
}

// Parts are the files of a version, by what servers and panels call them.
var Parts = []string{"key", "certificate", "intermediates", "certificate-with-chain"}

// Version is one certificate as it was issued.
type Version struct {
	Name  string
	Chain []*x509.Certificate
	Key   crypto.Signer
	Text  map[string][]byte // PEM by part
}

// File returns where a part of the version called name lies.
func (s *Set) File(name, part string) string { return filepath.Join(s.dir, name, part+".pem") }

// Texts writes a chain and its key in all the forms that servers and panels want.
func Texts(chain []*x509.Certificate, key crypto.Signer) (map[string][]byte, error) {
	full, k, err := certs.Bundle{Chain: chain, Key: key}.PEM()
	if err != nil {
		return nil, err
	}
	leaf, _, err := certs.Bundle{Chain: chain[:1]}.PEM()
	if err != nil {
		return nil, err
	}
	rest, _, err := certs.Bundle{Chain: chain[1:]}.PEM()
	return map[string][]byte{"key": k, "certificate": leaf, "intermediates": rest, "certificate-with-chain": full}, err
}

// Add keeps a new version, which is not in use yet.
func (s *Set) Add(chain []*x509.Certificate, key crypto.Signer, now time.Time) (name string, err error) {
	texts, err := Texts(chain, key)
	if err != nil {
		return "", err
	}
	for i := 0; ; i++ {
		name = now.UTC().Format(versionForm)
		if i > 0 {
			name += fmt.Sprintf("-%d", i)
		}
		err := os.Mkdir(filepath.Join(s.dir, name), 0o700)
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrExist) || i > 100 {
			return "", err
		}
	}
	for part, b := range texts {
		mode := fs.FileMode(0o644)
		if part == "key" {
			mode = 0o600
		}
		if err := disk.CreateNew(s.File(name, part), b, mode); err != nil {
			_ = os.RemoveAll(filepath.Join(s.dir, name)) // it is not all there, and nothing knows of it
			return "", err
		}
	}
	return name, nil
}

// maxEarlier is how many earlier versions are looked at.
const maxEarlier = 50

// versions returns the names of all versions, the newest first.
func (s *Set) versions() (names []string) {
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return nil // whoever opens it says so
	}
	for _, e := range slices.Backward(entries) {
		if e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	return names
}

// Earlier returns the certificates of the versions besides one, as DER.
func (s *Set) Earlier(than *x509.Certificate) (all [][]byte) {
	for _, name := range s.versions() {
		b, err := disk.ReadTrusted(s.File(name, "certificate"), maxFile)
		if err != nil || len(all) == maxEarlier {
			continue
		}
		if block, _ := pem.Decode(b); block != nil && !bytes.Equal(block.Bytes, than.Raw) {
			all = append(all, block.Bytes)
		}
	}
	return all
}

// Expire removes versions that others took the place of before a time, with their keys and what was kept of the server's
// files. The one in use and the one held stay.
func (s *Set) Expire(before time.Time, held string) error {
	current, err := s.Current()
	if err != nil {
		return err
	}
	newer := time.Time{} // when the next version was made: since then this one was not in use
	for _, name := range s.versions() {
		made, err := time.Parse(versionForm, name[:min(len(name), len(versionForm))])
		if err != nil {
			continue // none of ours
		}
		if name != current && name != held && !newer.IsZero() && newer.Before(before) {
			if err := os.RemoveAll(filepath.Join(s.dir, name)); err != nil {
				return err
			}
		}
		newer = made
	}
	return nil
}

// versionForm is how versions are named: by when they were issued.
const versionForm = "20060102-150405"

// Current returns the name of the version in use; "" where there is none.
func (s *Set) Current() (string, error) {
	to, err := os.Readlink(filepath.Join(s.dir, currentLink))
	if err != nil {
		return "", gone(err)
	}
	if to != filepath.Base(to) {
		return "", fmt.Errorf("%s leads to %s, which is not beside it", filepath.Join(s.dir, currentLink), to)
	}
	return to, nil
}

// Use makes a version the one in use, in one step; "": none.
func (s *Set) Use(name string) error {
	link := filepath.Join(s.dir, currentLink)
	if name == "" {
		return gone(os.Remove(link))
	}
	part := filepath.Join(s.dir, ".current.part")
	_ = os.Remove(part) // what a run that was killed left
	if err := os.Symlink(name, part); err != nil {
		return err
	}
	return os.Rename(part, link)
}

// CurrentLink returns where the link to the version in use is.
func (s *Set) CurrentLink() string { return filepath.Join(s.dir, currentLink) }

// Read reads a version; nil where name is "".
func (s *Set) Read(name string) (*Version, error) {
	if name == "" {
		return nil, nil
	}
	v := &Version{Name: name, Text: map[string][]byte{}}
	for _, part := range Parts {
		b, err := disk.ReadTrusted(s.File(name, part), maxFile)
		if err != nil {
			return nil, err
		}
		v.Text[part] = b
	}
	key, err := certs.ReadKey(v.Text["key"])
	if err != nil {
		return nil, fmt.Errorf("%s %w", s.File(name, "key"), err)
	}
	papers, err := certs.Read(s.File(name, "certificate-with-chain"), v.Text["certificate-with-chain"], "")
	if err != nil {
		return nil, fmt.Errorf("%s %w", s.File(name, "certificate-with-chain"), err)
	}
	for _, p := range papers {
		if p.Cert != nil {
			v.Chain = append(v.Chain, p.Cert)
		}
	}
	if v.Key = key; len(v.Chain) == 0 {
		return nil, fmt.Errorf("%s holds no certificate", s.File(name, "certificate-with-chain"))
	}
	return v, nil
}

// Keep copies what a server's file holds into the version called name, from where Restore takes it; mode is
// the file's.
func (s *Set) Keep(name, path string, b []byte, mode fs.FileMode) (string, error) {
	sum := sha256.Sum256([]byte(path))
	kept := filepath.Join(s.dir, name, "replaced-"+hex.EncodeToString(sum[:4])+"-"+filepath.Base(path))
	return kept, write(kept, b, mode&0o600)
}

// Restore puts back what files held before.
func (w *Swap) Restore() error {
	var failed error
	for _, k := range w.Files {
		if k.Old == "" {
			failed = errors.Join(failed, at(k.Path, func(t *disk.Tree, name string) error {
				t.ClearPart(name)
				return gone(t.Remove(name))
			}))
			continue
		}
		b, err := disk.ReadTrusted(k.Old, maxFile)
		if err == nil {
			err = Put(k.Path, b, k.Mode)
		}
		failed = errors.Join(failed, err)
	}
	return failed
}

// Put writes a server's file in one step; one that is there keeps its owner. A link stays a link: what it leads
// to is written. What a run that was killed left beside it goes.
func Put(path string, b []byte, mode fs.FileMode) error {
	return at(path, func(t *disk.Tree, name string) error { return t.Write(name, b, disk.Looks{Mode: mode}) })
}

// at works on a file in its folder.
func at(path string, work func(t *disk.Tree, name string) error) error {
	path, err := disk.Followed(path)
	if err != nil {
		return err
	}
	tree, err := disk.OpenTree(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer tree.Close()
	return work(tree, filepath.Base(path))
}

// sweep removes what runs that were killed left half-written in a folder of ours, which nobody else works in.
func sweep(dir string) {
	parts, _ := filepath.Glob(filepath.Join(dir, ".trimlantern-*.part")) // the pattern is one
	for _, p := range parts {
		_ = os.Remove(p) // then it stays
	}
}
