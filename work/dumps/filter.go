// Package dumps turns an exported database into one with secure references: the Unix filter, and apply for a site whose
// database is a dump, which writes a new dump or a patch.
package dumps

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/disk"
	"trimlantern/outside/dump"
	"trimlantern/outside/pack"
	"trimlantern/outside/sitefile"
	"trimlantern/outside/system"
	"trimlantern/work"
)

// Options are what the user said.
type Options struct {
	Site    string
	Also    []string
	Sisters []string
	In      string   // "" or "-": standard input
	Parts   []string // the files that go on where In ends
	Out     string   // "" or "-": standard output
	As      string   // "dump", "value" or "": told from the input
	System  string   // a built-in one or a file; "": the built-in one whose tables are there
	Dialect string   // mysql, postgres or sqlite; "": told from the dump
	Charset string   // of the dump's text, where it does not say; "": UTF-8
	Tables  string   // a dump that defines the tables, where In has only their rows
	Rows    bool     // tables that nobody defines are changed all the same
	Code    bool     // references in views, triggers, functions and definitions are changed too
	Row     int      // the largest row, in MB; 0: 16
	Stdin   io.Reader
	Stdout  io.Writer
}

// Filtered is what a filter run did.
type Filtered struct {
	Site       string                 `json:"site"`
	Sisters    []string               `json:"sisters"` // the other sites of its network: those that were named, and those that the dump lists
	As         string                 `json:"as"`
	Dialect    string                 `json:"dialect,omitempty"`
	System     string                 `json:"system,omitempty"` // the kind of system whose tables were found
	BytesIn    int64                  `json:"bytes_in"`         // unpacked
	Tables     []change.TableCount    `json:"tables"`
	Rows       int64                  `json:"rows"`
	Cells      int                    `json:"cells"`
	References int                    `json:"references"`
	InCode     int                    `json:"references_in_code"` // of References, those in views, triggers, functions and definitions
	Hosts      map[string]int         `json:"hosts"`
	Counts     map[rewrite.Reason]int `json:"left"`
	Left       []change.Left          `json:"findings"` // those that need a person, and some of the others
	Nameless   []string               `json:"tables_without_columns"`
	Addresses  int                    `json:"addresses"`    // the site's own addresses that were changed
	Makes      bool                   `json:"makes_tables"` // the dump makes tables
	Drops      bool                   `json:"drops_tables"` // it removes those of the same names before
	CutOff     bool                   `json:"cut_off"`      // its program says at the end that a dump is complete, and that is missing
	Unread     int                    `json:"other_files"`  // files of an archive that are no dumps: copied as they are
	Foreign    string                 `json:"other_site"`   // a host that the dump speaks of where it never speaks of the site's; "": it does
}

// Code is the exit code that the run comes to.
func (f *Filtered) Code() int {
	for r, n := range f.Counts {
		if n > 0 && r.NeedsPerson() {
			return work.Remain
		}
	}
	if f.Foreign != "" || f.CutOff {
		return work.Remain
	}
	return work.Clean
}

// maxValue bounds what is taken as one stored value.
const maxValue = 1 << 30

// filtering is one run.
type filtering struct {
	o       Options
	site    address.Site
	systems []*system.System
	p       work.Progress
	in      *input
	defined *dump.Schema // tables that another dump defines; nil: none
	survey  *dump.Survey
	known   map[string]known // by the table's name
	taken   map[place]bool   // values whose change would break a unique key
	out     *Filtered
}

// Filter copies a dump, or one value, with its references secure. Nothing is written before all of the
// input was read once.
func Filter(ctx context.Context, o Options, p work.Progress) (*Filtered, error) {
	defer p.End()
	site, err := sitefile.Named(o.Site, o.Also, o.Sisters).Address()
	if err != nil {
		return nil, work.BadUse(err, "the site's address", "give the site's HTTPS address: --site https://HOST")
	}
	f := &filtering{o: o, site: site, p: p, out: &Filtered{Site: site.String(), Sisters: work.SistersOf(site), Hosts: map[string]int{}, Counts: map[rewrite.Reason]int{}, Tables: []change.TableCount{}, Left: []change.Left{}, Nameless: []string{}}}
	if f.systems, err = work.SystemsNamed(o.System); err != nil {
		return nil, work.UnknownSystem(err)
	}
	if f.in, err = openInput(o); err != nil {
		return nil, f.failed(err, true)
	}
	defer f.in.close()
	for _, s := range f.in.sources {
		f.out.Unread += s.Others
	}
	if f.out.As, err = f.tell(); err != nil {
		return nil, f.failed(err, true)
	}
	write := f.value
	if f.out.As == "dump" {
		if err := f.look(ctx); err != nil {
			return nil, f.failed(err, true)
		}
		write = f.dump
	}
	out, err := f.openOutput()
	if err != nil {
		return nil, err
	}
	defer out.discard()
	if err := write(ctx, out); err != nil {
		return nil, f.failed(err, false)
	}
	if f.out.As == "dump" && f.out.References == 0 {
		if f.out.Foreign, err = f.foreign(ctx); err != nil {
			return nil, f.failed(err, false)
		}
	}
	if err := out.commit(nil); err != nil {
		return nil, f.failed(err, false)
	}
	return f.out, nil
}

// foreign returns the host that a dump speaks of most where it never speaks of the site's; "" where it does, or
// speaks of none.
func (f *filtering) foreign(ctx context.Context) (string, error) {
	hosts := f.site.Hosts()
	for _, s := range f.site.Sisters {
		hosts = append(hosts, s.Hosts()...)
	}
	never, err := f.search(ctx, func(b []byte) bool {
		return !slices.ContainsFunc(hosts, func(h string) bool { return bytes.Contains(b, []byte(h)) })
	})
	if err != nil || !never {
		return "", err
	}
	count := map[string]int{}
	most := ""
	for _, l := range f.out.Left {
		if l.Host == "" {
			continue
		}
		if count[l.Host]++; count[l.Host] > count[most] || most == "" {
			most = l.Host
		}
	}
	return most, nil
}

// failed says in a user's words what stopped the filter.
func (f *filtering) failed(err error, before bool) error {
	return work.InputFault(err, f.o.In, f.o.Out, before)
}

// input is what is read: one source, or several behind each other.
type input struct {
	sources []*pack.Source
	head    []byte // the beginning of the text
}

const headSize = 64 << 10

func openInput(o Options) (*input, error) {
	in := &input{}
	for i, name := range append([]string{o.In}, o.Parts...) {
		if name == "-" || i == 0 && name == "" {
			name = ""
		}
		s, err := pack.Open(name, o.Stdin)
		if err != nil {
			in.close()
			return nil, err
		}
		in.sources = append(in.sources, s)
	}
	r, end, err := in.text()
	if err != nil {
		in.close()
		return nil, err
	}
	defer end()
	in.head = make([]byte, headSize)
	n, err := io.ReadFull(r, in.head)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		in.close()
		return nil, err
	}
	in.head = in.head[:n]
	return in, nil
}

func (in *input) close() {
	for _, s := range in.sources {
		_ = s.Close() // it was only read
	}
}

// text returns all of the text, from its beginning.
func (in *input) text() (io.Reader, func(), error) {
	var readers []io.Reader
	var ends []func()
	end := func() {
		for _, e := range ends {
			e()
		}
	}
	for _, s := range in.sources {
		r, e, err := s.Text()
		if err != nil {
			end()
			return nil, nil, err
		}
		readers, ends = append(readers, r), append(ends, e)
	}
	if len(readers) == 1 {
		return readers[0], end, nil
	}
	return io.MultiReader(readers...), end, nil
}

// size returns how long the input is, 0 where nobody knows before it is unpacked.
func (in *input) size() (n int64) {
	for _, s := range in.sources {
		if s.Packing != pack.Plain || s.Archive {
			return 0
		}
		n += s.Size()
	}
	return n
}

// cuts returns where the parts of an archive begin.
func (in *input) cuts() (at []int64) {
	if len(in.sources) != 1 || !in.sources[0].Archive {
		return nil
	}
	sum := int64(0)
	parts := in.sources[0].Parts
	for _, p := range parts[:len(parts)-1] {
		sum += p.Size
		at = append(at, sum)
	}
	return at
}

// output is where the result goes: a file appears under its name only when all of
// it is there.
type output struct {
	pack.Writer
	f *disk.Pending
}

func (f *filtering) openOutput() (*output, error) {
	o := f.o
	if o.Out == "" || o.Out == "-" {
		w, err := f.in.sources[0].Write(o.Stdout, "", "")
		return &output{Writer: w}, err
	}
	for _, in := range append([]string{o.In}, o.Parts...) {
		if a, err := os.Stat(in); err == nil {
			if b, err := os.Stat(o.Out); err == nil && os.SameFile(a, b) && b.Mode().IsRegular() {
				return nil, work.BadUse(nil, "input and output are the same file", "name another output: the input stays as it is")
			}
		}
	}
	file, err := disk.Create(o.Out, 0o600)
	if err != nil {
		return nil, work.Failed(err, "the output cannot be written", "name a file in a folder that is writable")
	}
	base, _, _ := strings.Cut(filepath.Base(o.Out), ".")
	w, err := f.in.sources[0].Write(file, o.Out, base+".sql")
	if err != nil {
		file.Discard()
		return nil, work.Failed(err, "the output cannot be written", "name another output")
	}
	return &output{w, file}, nil
}

// commit ends the output and gives it its name, where prove, which reads it before, finds it right; nil: nobody reads it.
func (o *output) commit(prove func(name string) error) error {
	if err := o.Close(); err != nil {
		return err
	}
	if o.f != nil && prove != nil {
		if name := o.f.Unnamed(); name != "" {
			if err := prove(name); err != nil {
				return err
			}
		}
	}
	if o.f == nil {
		return nil
	}
	return o.f.Commit()
}

// discard removes incomplete output; after commit it does nothing.
func (o *output) discard() {
	if o.f != nil {
		o.f.Discard()
	}
}

// value takes the whole input as one stored value.
func (f *filtering) value(_ context.Context, out *output) error {
	in, end, err := f.in.text()
	if err != nil {
		return err
	}
	defer end()
	b, err := io.ReadAll(io.LimitReader(in, maxValue+1))
	if err != nil {
		return err
	}
	if len(b) > maxValue {
		return work.BadUse(nil, "the value is longer than 1 GB", "filter a dump instead: --as dump")
	}
	f.out.BytesIn = int64(len(b))
	rules := rewrite.Rules{Site: f.site}
	res := rules.Value(b)
	after, err := rewrite.Apply(b, res.Edits)
	if err != nil {
		return err
	}
	if len(res.Edits) > 0 {
		f.out.Cells = 1
	}
	f.out.References = res.References
	for _, h := range res.Hosts {
		f.out.Hosts[h.Host] += h.Count
	}
	for _, l := range res.Left {
		f.out.Counts[l.Reason]++
		f.out.Left = append(f.out.Left, change.Left{Reason: l.Reason, Host: l.Host, URL: l.URL, Path: l.Path, Note: l.Note, Count: 1})
	}
	_, err = out.Write(after)
	return err
}

// tell tells a dump from one value. What is neither is refused, with what it looks like.
func (f *filtering) tell() (string, error) {
	text := bytes.TrimSpace(bytes.TrimPrefix(f.in.head, []byte("\xef\xbb\xbf")))
	whole := len(f.in.head) < headSize
	switch {
	case f.o.As == "value":
		return "value", nil
	case len(text) == 0:
		return "", work.BadUse(nil, "the input is empty", "send a dump or a value")
	case f.o.As == "dump" || dump.Sniff(f.in.head) != dump.Unknown:
		return "dump", nil
	}
	if f.o.Dialect != "" || looksLikeSQL(text) {
		return "dump", nil
	}
	if k := otherExport(text); k.what != "" {
		return "", work.BadUse(nil, cmp.Or(f.o.In, "the input")+" is "+k.what, k.do)
	}
	if strings.Contains(f.o.In, ".sql") || f.in.sources[0].Archive {
		return "dump", nil
	}
	switch {
	case bytes.IndexByte(text, 0) >= 0 && !isValue(text):
		return "", work.BadUse(nil, "the input is neither a dump nor text", "for a stored value of bytes: --as value")
	case !isValue(text) && (!whole || bytes.ContainsAny(text, "\n\r")):
		return "", work.BadUse(nil, "the input is not a dump, and has more than one line", "give an SQL dump; for one stored value of several lines: --as value")
	}
	return "value", nil
}
