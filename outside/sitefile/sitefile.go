// Package sitefile reads and writes trimlantern.yaml, which describes one site.
package sitefile

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"trimlantern/core/address"
	"trimlantern/core/change"
	"trimlantern/outside/disk"
	"trimlantern/outside/yamltext"
)

// Name is the file's usual name.
const Name = "trimlantern.yaml"

// File is a site file. Paths are relative to Folder, or to the folder it lies in.
type File struct {
	Site         string            `yaml:"site"`
	Folder       string            `yaml:"folder,omitempty"` // of the site; absolute
	Also         []string          `yaml:"also,omitempty"`
	Sisters      []Sister          `yaml:"sisters,omitempty"`
	System       string            `yaml:"system"`
	Database     Database          `yaml:"database"`
	SystemFolder string            `yaml:"system-folder,omitempty"` // the system's folder, where its configuration lies elsewhere
	SystemConfig string            `yaml:"system-config,omitempty"` // the system's own configuration, where the database is not read from it
	Files        []string          `yaml:"files,omitempty"`
	Choose       change.Choice     `yaml:"choose,omitempty"` // a part of the site
	Hosts        map[string]string `yaml:"hosts,omitempty"`  // decisions: "secure", "insecure" or "leave"
	Accepted     []Accepted        `yaml:"accepted,omitempty"`
	Replaced     []Replaced        `yaml:"replaced,omitempty"`
	Copies       Copies            `yaml:"copies,omitempty"`
	Relative     []string          `yaml:"relative,omitempty"` // places whose own references are written from the path on
	Edited       []Edited          `yaml:"edited,omitempty"`
	Network      Network           `yaml:"network,omitempty"`

	text []byte // of the file on disk

	Dir  string `yaml:"-"` // what paths are relative to
	Path string `yaml:"-"` // of the file itself

	// Guard, if set, does each change of the file on disk while no other run changes it, and keeps what was written.
	Guard func(change func() (written []byte, err error)) error `yaml:"-"`
}

// Sister is another site of the same network, with an address of its own.
type Sister struct {
	Site string   `yaml:"site"`
	Also []string `yaml:"also,omitempty"`
}

// Accepted is a finding that the owner accepts: it stays visible and does not count.
type Accepted struct {
	Finding string   `yaml:"finding"`         // the stable name of its kind
	About   []string `yaml:"about,omitempty"` // the hosts or addresses that it is accepted for
	Because string   `yaml:"because"`
	Date    string   `yaml:"date,omitempty"` // when, like 2026-11-26
}

// Replaced says that one URL stands in the place of another, wherever that is stored.
type Replaced struct {
	From string `yaml:"from"`           // as it is stored: http://…
	To   string `yaml:"to"`             // https://…
	Copy string `yaml:"copy,omitempty"` // To serves a copy of what From serves: the SHA-256 of its content
	File string `yaml:"file,omitempty"` // and where that copy lies, below Copies.Folder
	Date string `yaml:"date,omitempty"` // when it was decided, like 2026-11-26
}

// Edited says that one stored text is another from now on. The logbook keeps the new one.
type Edited struct {
	Cell string `yaml:"cell"`           // table, column and key, as decisions name them
	Path string `yaml:"path,omitempty"` // of the text inside the value; "": the value as a whole
	Was  string `yaml:"was"`            // the SHA-256 of the text that was edited
	Text string `yaml:"text"`           // that of the new one, under which the logbook keeps it
	Date string `yaml:"date,omitempty"` // when it was decided, like 2026-11-26
}

// Copies says where copies of other hosts' things are kept.
type Copies struct {
	Folder  string `yaml:"folder,omitempty"`  // of the site, that its web server serves
	Address string `yaml:"address,omitempty"` // at this address: https://…
}

// Named makes a site file of addresses alone.
func Named(site string, also, sisters []string) *File {
	f := &File{Site: site, Also: also}
	for _, s := range sisters {
		f.Sisters = append(f.Sisters, Sister{Site: s})
	}
	return f
}

// Address returns the site's address, its other names and its sisters. The error names the key of a sister.
func (f *File) Address() (address.Site, error) {
	site, err := address.Parse(f.Site, f.Also...)
	if err != nil {
		return site, err
	}
	var sisters []address.Site
	for _, s := range f.Sisters {
		sister, err := address.Parse(s.Site, s.Also...)
		if err != nil {
			return site, fmt.Errorf("sisters: %w", err)
		}
		sisters = append(sisters, sister)
	}
	return site.WithSisters(sisters...), nil
}

// Database says where the site's database is. The password is never in it.
type Database struct {
	Kind         string `yaml:"kind"`
	File         string `yaml:"file,omitempty"`
	Config       string `yaml:"config,omitempty"` // the system's own configuration, read for all that is not set here
	Host         string `yaml:"host,omitempty"`
	Port         int    `yaml:"port,omitempty"`
	Socket       string `yaml:"socket,omitempty"`
	User         string `yaml:"user,omitempty"`
	PasswordEnv  string `yaml:"password-env,omitempty"`  // name of an environment variable
	PasswordFile string `yaml:"password-file,omitempty"` // a file that holds nothing else
	Name         string `yaml:"name,omitempty"`
	Schema       string `yaml:"schema,omitempty"` // PostgreSQL
	Charset      string `yaml:"charset,omitempty"`
	TLS          string `yaml:"tls,omitempty"`      // off, encrypt or verify; empty: where the server has it
	TLSCA        string `yaml:"tls-ca,omitempty"`   // PEM file of the authority that verify trusts
	Identity     string `yaml:"identity,omitempty"` // which database it is, where the server moved; as a journal names it
	Prefix       string `yaml:"prefix"`
}

// Network says how the site is reached where names alone do not do.
type Network struct {
	Resolve []string `yaml:"resolve,omitempty"` // HOST:PORT:ADDR
	CA      string   `yaml:"ca,omitempty"`      // PEM file of a private authority

	// Credentials is a file with the headers that a staging site wants to be shown.
	Credentials string `yaml:"credentials,omitempty"`
}

const head = `# The site file of Trim Lantern: one site, its database and its files.
# Passwords are never kept here. Paths are relative to folder, or else to this file's.
`

// decisions are what may stand under hosts.
var decisions = map[string]bool{"secure": true, "insecure": true, "leave": true}

// maxSize bounds a site file.
const maxSize = 1 << 20

// Read reads a site file. An error says what is wrong and in which line. A file that others
// could have written is refused with a *disk.Untrusted: it says where passwords are read, where
// they are sent, and which files are changed.
func Read(path string) (*File, error) {
	b, err := disk.ReadTrusted(path, maxSize)
	if err != nil {
		return nil, err
	}
	var f File
	if err := yamltext.Decode(b, &f); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if f.Site == "" {
		return nil, fmt.Errorf("%s: %w", path, errors.New("it needs site"))
	}
	if f.Database.Kind == "" && f.Database != (Database{}) {
		return nil, fmt.Errorf("%s: %w", path, errors.New("database needs kind"))
	}
	for i, a := range f.Accepted {
		if a.Finding == "" || a.Because == "" {
			return nil, fmt.Errorf("%s: accepted: entry %d needs finding and because", path, i+1)
		}
	}
	for i, r := range f.Replaced {
		if r.From == "" || !strings.HasPrefix(r.To, "https://") {
			return nil, fmt.Errorf("%s: replaced: entry %d needs from, and to, which begins with https://", path, i+1)
		}
	}
	for i, e := range f.Edited {
		if e.Cell == "" || e.Was == "" || e.Text == "" {
			return nil, fmt.Errorf("%s: edited: entry %d needs cell, was and text", path, i+1)
		}
	}
	for host, d := range f.Hosts {
		if !decisions[d] {
			return nil, fmt.Errorf("%s: hosts: %s: %q is no decision; write secure, insecure or leave", path, host, d)
		}
	}
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	f.text = b
	f.Path, f.Dir = abs, filepath.Dir(abs)
	if f.Folder != "" {
		if !filepath.IsAbs(f.Folder) {
			return nil, fmt.Errorf("%s: folder: %q is not absolute; write it from / on", path, f.Folder)
		}
		f.Dir = f.Folder
	}
	return &f, nil
}

// Write writes the file, mode 0600; it refuses to overwrite one.
func (f *File) Write(path string) error {
	var buf bytes.Buffer
	buf.WriteString(head)
	e := yaml.NewEncoder(&buf)
	e.SetIndent(2)
	if err := e.Encode(f); err != nil {
		return err
	}
	f.text = buf.Bytes()
	return disk.CreateNew(path, buf.Bytes(), 0o600)
}

// Text is the file as it is on disk.
func (f *File) Text() []byte { return f.text }

// ChangedLines lists the lines of the file on disk that are not in another writing of it, as `line 3: site: …`, and those
// that are gone.
func (f *File) ChangedLines(was []byte) (out []string) {
	if bytes.Equal(f.text, was) {
		return nil
	}
	counts := map[string]int{}
	for line := range strings.Lines(string(was)) {
		counts[strings.TrimSpace(line)]++
	}
	n := 0
	for line := range strings.Lines(string(f.text)) {
		n++
		line = strings.TrimSpace(line)
		if counts[line]--; counts[line] < 0 {
			out = append(out, fmt.Sprintf("line %d: %s", n, line))
		}
	}
	for line := range strings.Lines(string(was)) {
		line = strings.TrimSpace(line)
		if counts[line] > 0 {
			counts[line]--
			out = append(out, "no longer there: "+line)
		}
	}
	if out == nil {
		out = []string{"the order of its lines, or blanks"}
	}
	return out
}

// Abs makes a path of the file absolute.
func (f *File) Abs(p string) string {
	if p == "" || filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(f.Dir, p)
}

// Configuration returns where the system's own configuration is, as an absolute path; "": that is not known.
func (f *File) Configuration() string { return f.Abs(cmp.Or(f.Database.Config, f.SystemConfig)) }

// Add adds an entry to a list of the file on disk, like accepted; the rest of it, comments too, stays.
func (f *File) Add(list string, entry any) error {
	return f.change(func(top *yaml.Node) error {
		return appendTo(top, list, entry)
	})
}

// Set sets an entry of a group of the file on disk, like hosts; value "" takes it out. The rest of it,
// comments too, stays.
func (f *File) Set(group, name, value string) error {
	return f.change(func(top *yaml.Node) error {
		into := child(top, group, yaml.MappingNode)
		for i := 0; i+1 < len(into.Content); i += 2 {
			if into.Content[i].Value == name {
				if into.Content[i+1].SetString(value); value == "" {
					into.Content = append(into.Content[:i], into.Content[i+2:]...)
				}
				return nil
			}
		}
		if value != "" {
			node := &yaml.Node{}
			node.SetString(value)
			key := &yaml.Node{}
			key.SetString(name)
			into.Content = append(into.Content, key, node)
		}
		return nil
	})
}

// Drop takes the entries of a list of the file on disk out for which gone says so.
func (f *File) Drop(list string, gone func(entry *yaml.Node) bool) error {
	return f.change(func(top *yaml.Node) error {
		from := child(top, list, yaml.SequenceNode)
		from.Content = slices.DeleteFunc(from.Content, gone)
		return nil
	})
}

// change edits the file on disk, and reads it again.
func (f *File) change(edit func(top *yaml.Node) error) error {
	guard := f.Guard
	if guard == nil {
		guard = func(change func() ([]byte, error)) error {
			_, err := change()
			return err
		}
	}
	return guard(func() ([]byte, error) { return f.edited(edit) })
}

// edited is change without its guard. It returns what was written.
func (f *File) edited(edit func(top *yaml.Node) error) ([]byte, error) {
	b, err := disk.ReadTrusted(f.Path, maxSize)
	if err != nil {
		return nil, err
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(b, &doc); err != nil {
		return nil, fmt.Errorf("%s: %w", f.Path, yamltext.Explain(err))
	}
	if doc.Kind != yaml.DocumentNode || len(doc.Content) != 1 || doc.Content[0].Kind != yaml.MappingNode {
		return nil, fmt.Errorf("%s: is not a list of keys and values", f.Path)
	}
	top := doc.Content[0]
	before, err := encoded(&doc)
	if err != nil {
		return nil, err
	}
	if err := edit(top); err != nil {
		return nil, err
	}
	for i := 0; i+1 < len(top.Content); i += 2 { // what became empty goes
		if c := top.Content[i+1]; c.Kind != yaml.ScalarNode && c.Kind != yaml.AliasNode && len(c.Content) == 0 {
			top.Content = append(top.Content[:i], top.Content[i+2:]...)
			i -= 2
		}
	}
	out, err := encoded(&doc)
	if err != nil {
		return nil, err
	}
	if bytes.Equal(before, out) {
		return b, nil // it is not written again
	}
	tree, err := disk.OpenTree(filepath.Dir(f.Path))
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	if err := tree.Write(filepath.Base(f.Path), out, disk.Looks{Mode: 0o600}); err != nil {
		return nil, err
	}
	now, err := Read(f.Path)
	if err != nil {
		return nil, err
	}
	now.Guard = f.Guard
	*f = *now
	return out, nil
}

func encoded(doc *yaml.Node) ([]byte, error) {
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	err := e.Encode(doc)
	return out.Bytes(), err
}

// child returns a key's value in a mapping, which is made where it is not there.
func child(top *yaml.Node, key string, kind yaml.Kind) *yaml.Node {
	for i := 0; i+1 < len(top.Content); i += 2 {
		if top.Content[i].Value == key {
			if top.Content[i+1].Kind != kind { // null
				top.Content[i+1] = &yaml.Node{Kind: kind}
			}
			return top.Content[i+1]
		}
	}
	node := &yaml.Node{Kind: kind}
	top.Content = append(top.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: key}, node)
	return node
}

func appendTo(top *yaml.Node, key string, entry any) error {
	var node yaml.Node
	if err := node.Encode(entry); err != nil {
		return err
	}
	list := child(top, key, yaml.SequenceNode)
	list.Content = append(list.Content, &node)
	return nil
}
