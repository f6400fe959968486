// Package proof puts in place what an authority wants to find before it issues a certificate, looks whether it
// can be found, and takes it away again: a file in the web root or one that a little server hands out (http-01,
// RFC 8555 §8.3), or a record in the DNS (dns-01, §8.4).
package proof

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"trimlantern/core/hops"
	"trimlantern/outside/disk"
	"trimlantern/outside/dns"
	"trimlantern/outside/verbose"
)

// The kinds of proof, as the standard names them.
const (
	HTTP = "http-01"
	DNS  = "dns-01"
)

// Folder is where proofs are fetched from, on port 80 of each name.
var Folder = hops.ProofFolders[0]

// RecordOf returns the name of the record that proves a name.
func RecordOf(name string) string { return "_acme-challenge." + strings.TrimPrefix(name, "*.") }

// Claim is what has to be found: for HTTP the file Token with the content Value, for DNS the text Value.
type Claim struct {
	Name  string // of the site, without a wildcard
	Token string
	Value string
}

// Placed says what was put where, so that it can be taken away by another run too. It is written down before it
// is put there.
type Placed struct {
	Way   string `json:"way"` // "file", "update", "program"; others leave nothing behind
	Name  string `json:"name"`
	Value string `json:"value"`

	Root string   `json:"root,omitempty"`
	File string   `json:"file,omitempty"` // below Root
	Made []string `json:"made,omitempty"` // folders that were not there before

	Record  string `json:"record,omitempty"`
	Server  string `json:"server,omitempty"`
	Zone    string `json:"zone,omitempty"`
	KeyFile string `json:"key_file,omitempty"`
	Program string `json:"program,omitempty"`
}

// Way is one way of putting proofs in place.
type Way interface {
	// Kind is HTTP or DNS.
	Kind() string
	// Plan says what Put will do.
	Plan(ctx context.Context, c Claim) (Placed, error)
	// Put does it.
	Put(ctx context.Context, p Placed, c Claim) error
	// Remove takes it away. What is not there any more is no error; what others put there stays.
	Remove(ctx context.Context, p Placed) error
	// Close ends what the way keeps open.
	Close()
}

// Remove takes away what an earlier run left, by what it wrote down.
func Remove(ctx context.Context, p Placed) error {
	switch p.Way {
	case "file":
		return (&Files{}).Remove(ctx, p)
	case "update":
		return (&Update{}).Remove(ctx, p)
	case "program":
		return (&Program{}).Remove(ctx, p)
	}
	return nil
}

// Files puts proofs into web roots.
type Files struct {
	Root   func(name string) string // the web root of a name
	Folder string                   // where proofs are looked for; "": the package's
}

// Kind is HTTP.
func (*Files) Kind() string { return HTTP }

// Close does nothing.
func (*Files) Close() {}

// Plan names the file, and the folders that have to be made for it.
func (f *Files) Plan(_ context.Context, c Claim) (Placed, error) {
	folder := f.Folder
	if folder == "" {
		folder = Folder
	}
	p := Placed{Way: "file", Name: c.Name, Value: c.Value, Root: f.Root(c.Name), File: strings.Trim(folder, "/") + "/" + c.Token}
	tree, err := disk.OpenTree(p.Root)
	if err != nil {
		return p, err
	}
	defer tree.Close()
	at := ""
	for _, part := range strings.Split(path.Dir(p.File), "/") {
		at = path.Join(at, part)
		switch _, err := tree.Lstat(at); {
		case errors.Is(err, fs.ErrNotExist):
			p.Made = append(p.Made, at)
		case err != nil:
			return p, err
		}
	}
	if _, err := tree.Lstat(p.File); err == nil {
		return p, fmt.Errorf("%s %w", filepath.Join(p.Root, p.File), fs.ErrExist)
	}
	return p, nil
}

// Put makes the folders and the file.
func (*Files) Put(_ context.Context, p Placed, _ Claim) error {
	tree, err := disk.OpenTree(p.Root)
	if err != nil {
		return err
	}
	defer tree.Close()
	for _, dir := range p.Made {
		if err := tree.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return tree.Write(p.File, []byte(p.Value), disk.Looks{Mode: 0o644})
}

// maxProof bounds a file that is taken for a proof.
const maxProof = 4 << 10

// Remove removes the file where it is the proof, and the folders that were made for it where they are empty.
func (*Files) Remove(_ context.Context, p Placed) error {
	tree, err := disk.OpenTree(p.Root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer tree.Close()
	tree.ClearPart(p.File)
	b, _, err := tree.Read(p.File, maxProof)
	switch {
	case err == nil && string(b) == p.Value:
		err = tree.Remove(p.File)
	case errors.Is(err, fs.ErrNotExist):
		err = nil
	}
	for i := len(p.Made) - 1; i >= 0; i-- {
		_ = tree.Remove(p.Made[i]) // only where it is empty
	}
	return err
}

// Listener hands proofs out itself, where no web server listens.
type Listener struct {
	server *http.Server
	at     net.Listener

	mu    sync.Mutex
	known map[string]string // content by path
}

// Listen begins to listen at an address.
func Listen(addr string) (*Listener, error) {
	at, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, err
	}
	l := &Listener{at: at, known: map[string]string{}}
	l.server = &http.Server{Handler: l, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second, MaxHeaderBytes: 16 << 10}
	go func() { _ = l.server.Serve(at) }() // ends with Close
	return l, nil
}

// ServeHTTP hands out the proofs and nothing else.
func (l *Listener) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	l.mu.Lock()
	value, ok := l.known[r.URL.Path]
	l.mu.Unlock()
	if !ok {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = w.Write([]byte(value)) // who went away does not want it
}

// Kind is HTTP.
func (*Listener) Kind() string { return HTTP }

// Close stops listening.
func (l *Listener) Close() { _ = l.server.Close() }

// Plan has nothing to leave behind.
func (*Listener) Plan(_ context.Context, c Claim) (Placed, error) {
	return Placed{Way: "listener", Name: c.Name, Value: c.Value, File: Folder + c.Token}, nil
}

// Put hands the proof out from now on.
func (l *Listener) Put(_ context.Context, p Placed, _ Claim) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.known[p.File] = p.Value
	return nil
}

// Remove hands it out no more.
func (l *Listener) Remove(_ context.Context, p Placed) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.known, p.File)
	return nil
}

// Hand leaves the records to a person.
type Hand struct{}

// Kind is DNS.
func (Hand) Kind() string { return DNS }

// Close does nothing.
func (Hand) Close() {}

// Plan names the record.
func (Hand) Plan(_ context.Context, c Claim) (Placed, error) {
	return Placed{Way: "hand", Name: c.Name, Value: c.Value, Record: RecordOf(c.Name)}, nil
}

// Put does nothing: a person does.
func (Hand) Put(context.Context, Placed, Claim) error { return nil }

// Remove does nothing: a person does.
func (Hand) Remove(context.Context, Placed) error { return nil }

// Update writes the records by dynamic update (RFC 2136).
type Update struct {
	Client  *dns.Client
	Server  string // host:port
	KeyFile string
}

// Kind is DNS.
func (*Update) Kind() string { return DNS }

// Close does nothing.
func (*Update) Close() {}

// Plan names the record, behind aliases, and the zone that it is in.
func (u *Update) Plan(ctx context.Context, c Claim) (Placed, error) {
	p := Placed{Way: "update", Name: c.Name, Value: c.Value, Record: RecordOf(c.Name), Server: u.Server, KeyFile: u.KeyFile}
	if target, err := u.Client.Target(ctx, u.Server, p.Record); err == nil { // what keeps it from answering says the next question
		p.Record = target
	}
	var err error
	if p.Zone, err = u.Client.Zone(ctx, u.Server, p.Record); err != nil {
		return p, fmt.Errorf("the name server %s: %w", u.Server, err)
	}
	return p, nil
}

// maxKey bounds the file of a key.
const maxKey = 64 << 10

func change(ctx context.Context, p Placed, add bool) error {
	b, err := disk.ReadSecret(p.KeyFile, maxKey)
	if err != nil {
		return err
	}
	key, err := dns.ReadKey(string(b))
	if err != nil {
		return fmt.Errorf("%s %w", p.KeyFile, err)
	}
	return dns.Change(ctx, p.Server, p.Zone, key, add, p.Record, p.Value)
}

// Put adds the record.
func (*Update) Put(ctx context.Context, p Placed, _ Claim) error { return change(ctx, p, true) }

// Remove removes it, and no other text of that name.
func (*Update) Remove(ctx context.Context, p Placed) error { return change(ctx, p, false) }

// Program has a program of the user's own write the records. It is called without a shell:
//
//	PROGRAM add NAME VALUE
//	PROGRAM remove NAME VALUE
//
// NAME is the record's whole name, VALUE its text. It ends with 0 where that is done; what it prints is shown
// where it ends otherwise. Both may be called again for what is done already, and several values of one name
// may have to stand side by side.
type Program struct {
	Path string
}

// Kind is DNS.
func (*Program) Kind() string { return DNS }

// Close does nothing.
func (*Program) Close() {}

// Plan names the record.
func (h *Program) Plan(_ context.Context, c Claim) (Placed, error) {
	return Placed{Way: "program", Name: c.Name, Value: c.Value, Record: RecordOf(c.Name), Program: h.Path}, nil
}

// programTime bounds one call.
const programTime = 5 * time.Minute

func call(ctx context.Context, p Placed, verb string) error {
	ctx, cancel := context.WithTimeout(ctx, programTime)
	defer cancel()
	c := exec.CommandContext(ctx, p.Program, verb, p.Record, p.Value)
	c.WaitDelay = time.Second
	began := time.Now()
	said, err := c.CombinedOutput()
	verbose.Took(ctx, began, "program run", err, "program", p.Program, "verb", verb)
	if ctx.Err() != nil && ctx.Err() == context.DeadlineExceeded {
		return fmt.Errorf("%s %s did not end in %s", p.Program, verb, programTime)
	}
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, os.ErrPermission) || errors.Is(err, exec.ErrNotFound) {
		return fmt.Errorf("%s cannot be run: name a program with its path, which you may run", p.Program)
	}
	if err != nil {
		text := strings.Join(strings.Fields(string(said[max(0, len(said)-500):])), " ")
		return fmt.Errorf("%s %s %s: %w: %s", p.Program, verb, p.Record, err, text)
	}
	return nil
}

// Put has the record added.
func (*Program) Put(ctx context.Context, p Placed, _ Claim) error { return call(ctx, p, "add") }

// Remove has it removed.
func (*Program) Remove(ctx context.Context, p Placed) error { return call(ctx, p, "remove") }
