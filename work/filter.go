package work

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"

	"trimlantern/core/address"
	"trimlantern/core/envelope"
	"trimlantern/core/rewrite"
	"trimlantern/core/sheet"
	"trimlantern/site/database"
	"trimlantern/site/disk"
	"trimlantern/site/dump"
	"trimlantern/site/layout"
	"trimlantern/site/sitefile"
)

// FilterOptions are what the user said.
type FilterOptions struct {
	Site    string
	Also    []string
	Sisters []string
	In      string // "" or "-": standard input
	Out     string // "" or "-": standard output
	As      string // "dump", "value" or "": told from the input
	Layout  string // "": the built-in one that knows a table
	Row     int    // the largest row, in MB; 0: 16
	Stdin   io.Reader
	Stdout  io.Writer
}

// Filtered is what a filter run did.
type Filtered struct {
	Site       string                 `json:"site"`
	Sisters    []string               `json:"sisters"` // the other sites of its network: those that were named, and those that the dump lists
	As         string                 `json:"as"`
	Dialect    string                 `json:"dialect,omitempty"`
	BytesIn    int64                  `json:"bytes_in"` // uncompressed
	Tables     []sheet.TableCount     `json:"tables"`
	Rows       int64                  `json:"rows"`
	Cells      int                    `json:"cells"`
	References int                    `json:"references"`
	Hosts      map[string]int         `json:"hosts"`
	Counts     map[rewrite.Reason]int `json:"left"`
	Left       []sheet.Left           `json:"findings"` // those that need a person, and some of the others
	Nameless   []string               `json:"tables_without_columns"`
}

// Code is the exit code that the run comes to.
func (f *Filtered) Code() int {
	for r, n := range f.Counts {
		if n > 0 && r.NeedsPerson() {
			return Remain
		}
	}
	return Clean
}

// maxValue bounds what is taken as one stored value.
const maxValue = 1 << 30

// Filter copies a dump, or one value, with its references secure.
func Filter(ctx context.Context, o FilterOptions, p Progress) (*Filtered, error) {
	defer p.End()
	site, err := sitefile.Named(o.Site, o.Also, o.Sisters).Address()
	if err != nil {
		return nil, misuse(err, "the site's address", "give the site's HTTPS address: --site https://HOST")
	}
	layouts, err := filterLayouts(o.Layout)
	if err != nil {
		return nil, misuse(err, "the layout", "name one of: --layout "+strings.Join(layout.Names(), ", "))
	}
	in, size, closeIn, err := openInput(o)
	if err != nil {
		return nil, err
	}
	defer closeIn()
	out, err := openOutput(o)
	if err != nil {
		return nil, err
	}
	defer out.discard()
	f := &filtering{site: site, layouts: layouts, p: p, size: size, out: &Filtered{Site: site.String(), Sisters: sistersOf(site), As: o.As, Hosts: map[string]int{}, Counts: map[rewrite.Reason]int{}}}
	if f.out.As, err = f.tell(in, o); err != nil {
		return nil, f.failed(err, o)
	}
	if f.out.As == "value" {
		err = f.value(in, out)
	} else if err = f.learn(ctx, o); err == nil {
		err = f.dump(ctx, in, out, o.Row<<20)
	}
	if err != nil {
		return nil, f.failed(err, o)
	}
	if err := out.commit(); err != nil {
		return nil, f.failed(err, o)
	}
	return f.out, nil
}

func filterLayouts(name string) ([]*layout.Layout, error) {
	names := layout.Names()
	if name != "" {
		names = []string{name}
	}
	var out []*layout.Layout
	for _, n := range names {
		l, err := layout.Get(n)
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}

// failed says in a user's words what stopped the filter. Nothing was written
// under the output's name.
func (f *filtering) failed(err error, o FilterOptions) error {
	var broken *dump.Broken
	var large *dump.TooLarge
	name := o.In
	if name == "" || name == "-" {
		name = "the input"
	}
	kept := "nothing was written"
	if o.Out == "" || o.Out == "-" {
		kept = "what was written to standard output is incomplete: delete it"
	}
	switch {
	case errors.As(err, &broken):
		return misuse(err, name, "get a whole dump and run the command again; "+kept)
	case errors.As(err, &large):
		return misuse(err, name, fmt.Sprintf("allow it with --largest-row %d, which takes about %d MB of memory; %s", 4*(large.Limit>>20), 20*(large.Limit>>20), kept))
	case errors.Is(err, dump.ErrDialect):
		return misuse(err, name, "name a dump as the database's own dump program writes it; for one stored value: --as value")
	case errors.Is(err, syscall.EPIPE):
		return world(nil, "the reader of the output has gone", "run the command again; "+kept)
	case errors.Is(err, syscall.ENOSPC):
		return world(err, "the output cannot be written", "make room on the disk and run the command again; "+kept)
	case errors.Is(err, context.Canceled):
		return world(nil, "interrupted", "run the command again; "+kept)
	case errors.Is(err, gzip.ErrHeader), errors.Is(err, gzip.ErrChecksum), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, zstd.ErrMagicMismatch):
		return misuse(err, name+" is compressed and cannot be unpacked", "get a whole file and run the command again; "+kept)
	}
	var fault *Fault
	if errors.As(err, &fault) {
		return err
	}
	return world(err, name, "check the input and output, then run the command again; "+kept)
}

// openInput opens the input, unpacked, and tells its size where it is known.
func openInput(o FilterOptions) (in *bufio.Reader, size int64, closeIn func(), err error) {
	raw, closeIn := o.Stdin, func() {}
	if o.In != "" && o.In != "-" {
		f, err := os.Open(o.In)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, 0, nil, misuse(nil, "there is no file "+o.In, "name the dump")
		}
		if err != nil {
			return nil, 0, nil, world(err, "the input cannot be read", "make the file readable")
		}
		if info, err := f.Stat(); err == nil {
			size = info.Size()
		}
		raw, closeIn = f, func() { _ = f.Close() } // it was only read
	}
	in = bufio.NewReaderSize(raw, 1<<16)
	head, err := in.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, nil, world(err, "the input cannot be read", "name a file, or send the dump to standard input")
	}
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, 0, nil, misuse(err, "the input is compressed and cannot be unpacked", "get a whole file")
		}
		return bufio.NewReaderSize(z, 1<<16), 0, closeIn, nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(in, zstd.WithDecoderMaxMemory(1<<30), zstd.WithDecoderMaxWindow(32<<20), zstd.WithDecoderLowmem(true))
		if err != nil {
			return nil, 0, nil, misuse(err, "the input is compressed and cannot be unpacked", "get a whole file")
		}
		closeRaw := closeIn
		return bufio.NewReaderSize(z, 1<<16), 0, func() { z.Close(); closeRaw() }, nil
	}
	return in, size, closeIn, nil
}

// output is where the result goes: a file appears under its name only when all of
// it is there.
type output struct {
	w io.Writer
	z io.Closer // the packer
	f *disk.Pending
}

func openOutput(o FilterOptions) (*output, error) {
	if o.Out == "" || o.Out == "-" {
		return &output{w: o.Stdout}, nil
	}
	if a, err := os.Stat(o.In); err == nil {
		if b, err := os.Stat(o.Out); err == nil && os.SameFile(a, b) {
			return nil, misuse(nil, "input and output are the same file", "name another output: the input stays as it is")
		}
	}
	f, err := disk.Create(o.Out, 0o600)
	if err != nil {
		return nil, world(err, "the output cannot be written", "name a file in a folder that is writable")
	}
	out := &output{w: f, f: f}
	switch strings.ToLower(filepath.Ext(o.Out)) {
	case ".gz":
		z := gzip.NewWriter(f)
		out.w, out.z = z, z
	case ".zst":
		z, err := zstd.NewWriter(f, zstd.WithLowerEncoderMem(true))
		if err != nil {
			return nil, world(err, "the output cannot be written", "name another output")
		}
		out.w, out.z = z, z
	}
	return out, nil
}

func (o *output) Write(b []byte) (int, error) { return o.w.Write(b) }

func (o *output) commit() error {
	if o.z != nil {
		if err := o.z.Close(); err != nil {
			return err
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

type filtering struct {
	site    address.Site
	layouts []*layout.Layout
	p       Progress
	size    int64
	out     *Filtered
}

// tell tells a dump from one value.
func (f *filtering) tell(in *bufio.Reader, o FilterOptions) (string, error) {
	if o.As != "" {
		return o.As, nil
	}
	head, err := in.Peek(1 << 16)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	text := bytes.TrimSpace(head)
	first, _, _ := strings.Cut(strings.ToUpper(string(text[:min(len(text), 40)])), " ")
	switch {
	case len(text) == 0:
		return "", misuse(nil, "the input is empty", "send a dump or a value")
	case dump.Sniff(head) != dump.Unknown:
		return "dump", nil
	case slices.Contains([]string{"--", "/*", "CREATE", "INSERT", "SET", "BEGIN", "DROP", "USE", "COPY"}, first) || strings.Contains(o.In, ".sql"):
		return "", f.failed(dump.ErrDialect, o)
	case bytes.IndexByte(head, 0) >= 0 && !utf8.Valid(head[:max(0, len(head)-4)]) && !envelope.LooksSerialized(text):
		return "", misuse(nil, "the input is neither a dump nor text", "for a stored value of bytes: --as value")
	}
	return "value", nil
}

// value takes the whole input as one stored value.
func (f *filtering) value(in io.Reader, out io.Writer) error {
	b, err := io.ReadAll(io.LimitReader(in, maxValue+1))
	if err != nil {
		return err
	}
	if len(b) > maxValue {
		return misuse(nil, "the value is longer than 1 GB", "filter a dump instead: --as dump")
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
		f.out.Left = append(f.out.Left, sheet.Left{Reason: l.Reason, Host: l.Host, URL: l.URL, Path: l.Path, Note: l.Note, Count: 1})
	}
	_, err = out.Write(after)
	return err
}

// tally is what one worker counted; workers share nothing.
type tally struct {
	judge    judge
	tables   map[string]*sheet.TableCount
	nameless map[string]bool
	known    map[knownKey]*knownTable
	last     knownKey    // the table of the row before
	lastIs   *knownTable // what is known of it
	hosts    map[string]int
	counts   map[rewrite.Reason]int
	left     []sheet.Left
	kept     map[rewrite.Reason]int
	err      error
	_        [64]byte // each on a cache line of its own
}

// knownKey names a table with its columns in the order of one statement.
type knownKey struct {
	table   *dump.Table
	columns *dump.Column
}

// knownTable is what a worker knows of a table.
type knownTable struct {
	count   *sheet.TableCount
	short   string
	layout  *layout.Layout
	columns []database.Column
}

func (f *filtering) dump(ctx context.Context, in io.Reader, out io.Writer, row int) error {
	workers := make([]*tally, runtime.GOMAXPROCS(0))
	for i := range workers {
		workers[i] = &tally{judge: judge{rules: &rewrite.Rules{Site: f.site}, lean: true}, tables: map[string]*sheet.TableCount{}, nameless: map[string]bool{},
			known: map[knownKey]*knownTable{}, hosts: map[string]int{}, counts: map[rewrite.Reason]int{}, kept: map[rewrite.Reason]int{}}
		workers[i].judge.wants = workers[i].keeps
	}
	// What is kept is small: collect seldom, and before much has gathered.
	defer debug.SetGCPercent(debug.SetGCPercent(800))
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(64 << 20))
	read := func(n int64) {
		f.out.BytesIn += n
		f.p.At("filtering", f.out.BytesIn>>20, f.size>>20)
	}
	dialect, err := dump.Rewrite(ctx, in, out, func(n int, r *dump.Row) { workers[n].row(r, f.layouts) }, dump.Options{MaxUnit: row, Read: read})
	if err != nil {
		return err
	}
	f.out.Dialect = dialect.String()
	tables := map[string]*sheet.TableCount{}
	nameless := map[string]bool{}
	for _, t := range workers {
		if t.err != nil {
			return t.err
		}
		for name, c := range t.tables {
			sum := tables[name]
			if sum == nil {
				sum = &sheet.TableCount{Table: name}
				tables[name] = sum
			}
			sum.Rows, sum.Read, sum.Cells, sum.References = sum.Rows+c.Rows, sum.Read+c.Read, sum.Cells+c.Cells, sum.References+c.References
		}
		for name := range t.nameless {
			nameless[name] = true
		}
		for h, n := range t.hosts {
			f.out.Hosts[h] += n
		}
		for r, n := range t.counts {
			f.out.Counts[r] += n
		}
		f.out.Left = append(f.out.Left, t.left...)
	}
	for _, c := range tables {
		f.out.Tables = append(f.out.Tables, *c)
		f.out.Rows, f.out.Cells, f.out.References = f.out.Rows+c.Rows, f.out.Cells+c.Cells, f.out.References+c.References
	}
	for name := range nameless {
		f.out.Nameless = append(f.out.Nameless, name)
	}
	slices.Sort(f.out.Nameless)
	slices.SortFunc(f.out.Tables, func(a, b sheet.TableCount) int { return strings.Compare(a.Table, b.Table) })
	slices.SortStableFunc(f.out.Left, func(a, b sheet.Left) int {
		return cmp.Or(strings.Compare(string(a.Reason), string(b.Reason)), strings.Compare(a.Table, b.Table), strings.Compare(a.Label, b.Label))
	})
	return nil
}

// row decides over one row of the dump.
func (t *tally) row(r *dump.Row, layouts []*layout.Layout) {
	key := knownKey{r.Table, nil}
	if r.Columns != nil {
		key.columns = &r.Columns[0]
	}
	known := t.lastIs
	if known == nil || key != t.last {
		if known = t.known[key]; known == nil {
			if len(t.known) > 1000 { // a dump that alternates between tables, row by row
				clear(t.known)
			}
			known = t.know(r, layouts)
			t.known[key] = known
		}
		t.last, t.lastIs = key, known
	}
	known.count.Rows++
	may := false
	for i := range r.Len() {
		may = may || r.May(i)
	}
	if !may {
		return
	}
	known.count.Read++
	columns := known.columns
	if len(columns) != r.Len() {
		columns = dumpColumns(r)
	}
	t.judge.layout = known.layout
	label, outcomes, err := t.judge.row(known.short, columns, r.Value, r.May, true, nil)
	if err != nil {
		t.err = err
		return
	}
	for _, o := range outcomes {
		for _, l := range o.left {
			t.counts[l.Reason] += l.Count
			keep := t.keeps(l.Reason)
			if t.kept[l.Reason]++; keep {
				l.Table, l.Column, l.Label = r.Table.Name, columns[o.column].Name, label
				t.left = append(t.left, l)
			}
		}
		if len(o.edits) == 0 {
			continue
		}
		r.Edit(o.column, o.edits)
		known.count.Cells++
		known.count.References += o.references
		for _, h := range o.hosts {
			t.hosts[h.Host] += h.Count
		}
	}
}

// keeps reports whether one more finding of that reason is kept, and not only counted.
func (t *tally) keeps(r rewrite.Reason) bool {
	if r.NeedsPerson() {
		return t.kept[r] < maxLeft
	}
	return t.kept[r] < keepLeft
}

func dumpColumns(r *dump.Row) []database.Column {
	columns := make([]database.Column, max(r.Len(), len(r.Columns)))
	for i, c := range r.Columns {
		columns[i] = database.Column{Name: c.Name, MaxChars: c.MaxChars, MaxBytes: c.MaxBytes}
		if c.List {
			columns[i].Kind = database.List
		}
	}
	return columns
}

// know finds out once what the layouts know of a table.
func (t *tally) know(r *dump.Row, layouts []*layout.Layout) *knownTable {
	name := r.Table.Name
	count := t.tables[name]
	if count == nil {
		count = &sheet.TableCount{Table: name}
		t.tables[name] = count
	}
	k := &knownTable{count: count, short: name, layout: &layout.Layout{}}
	if r.Columns == nil {
		t.nameless[name] = true
	} else {
		k.columns = dumpColumns(r)
	}
	for _, l := range layouts {
		for _, known := range l.Known() {
			if name == known || strings.HasSuffix(name, "_"+known) {
				k.short, k.layout = known, l
				return k
			}
		}
	}
	return k
}
