// Package system knows kinds of content-managed systems: which tables they keep,
// which settings are their addresses, which columns are permanent identifiers,
// which rows are caches, and where their configuration lies. Each kind is a YAML
// file; those in the folder shipped are built in.
package system

import (
	"embed"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"

	"trimlantern/core/envelope"
	"trimlantern/outside/yamltext"
)

// System describes one kind of system. Table names are without the prefix.
type System struct {
	Name        string      `yaml:"name" json:"name"`
	Title       string      `yaml:"title" json:"title"`
	Tables      []string    `yaml:"tables" json:"tables"`           // those by which it is recognised
	Addresses   []Address   `yaml:"addresses" json:"addresses"`     // the site's own addresses
	Identifiers []Column    `yaml:"identifiers" json:"identifiers"` // permanent identifiers: never changed
	Caches      []Cache     `yaml:"caches" json:"caches"`           // rows that the system makes anew
	Kept        []string    `yaml:"kept" json:"kept"`               // tables whose rows are never changed: old versions, rows addressed by their content
	KeptRows    []Cache     `yaml:"kept_rows" json:"kept_rows"`     // such rows of other tables, by the beginnings of a column's value
	CacheFiles  []CacheDir  `yaml:"cache_files" json:"cache_files"` // folders that the system fills anew
	Labels      []Label     `yaml:"labels" json:"labels"`           // how a row is called
	Idle        []Cache     `yaml:"idle" json:"idle"`               // rows that no visitor sees: drafts, old versions
	Sites       *Sites      `yaml:"sites" json:"sites"`             // several sites in one database
	Config      *ConfigFile `yaml:"config" json:"config"`           // the system's own configuration
	Files       []string    `yaml:"files" json:"files"`             // folders with code that writes pages, or with the content itself
	Kinds       []string    `yaml:"kinds" json:"kinds"`             // endings of text files in them, besides those of code: ".md"
	Except      []string    `yaml:"except" json:"except"`           // files in them that the system makes anew, as patterns
	After       []string    `yaml:"after" json:"after"`             // what to run when the content has changed: shown, never run
	Pages       []Cache     `yaml:"pages" json:"pages"`             // rows that are pages of their own, by their label's page
	SiteMaps    []string    `yaml:"site_maps" json:"site_maps"`     // paths of its lists of pages
	Entrances   []Entrance  `yaml:"entrances" json:"entrances"`     // addresses that sites of the kind have by themselves
	Hashes      []Hash      `yaml:"hashes" json:"hashes"`           // values with a keyed hash beside them
	Derived     []Derived   `yaml:"derived" json:"derived"`         // columns that are worked out from others

	// Columns are those that the system gives to its tables, in order: for exports that do not name them.
	Columns map[string][]string `yaml:"columns" json:"columns"`
}

// Derived names a column that the system works out from another one of the same row.
type Derived struct {
	Table  string `yaml:"table" json:"table"`
	Column string `yaml:"column" json:"column"`
	Of     string `yaml:"of" json:"of"` // the column that it is worked out from
	As     string `yaml:"as" json:"as"` // digest (of whatever kind; also ""), bytes or characters
}

// What a derived column may hold of the other: a digest, or how long it is.
const (
	Digest     = "digest"
	Bytes      = "bytes"
	Characters = "characters"
)

// DerivedFrom returns the columns that are derived from a column.
func (l *System) DerivedFrom(table, column string) (out []Derived) {
	for _, d := range l.Derived {
		if d.Table == table && d.Of == column {
			out = append(out, d)
		}
	}
	return out
}

// Entrance is an address that sites of the kind have by themselves: the login, the feed.
type Entrance struct {
	Name string `yaml:"name" json:"name"`
	Path string `yaml:"path" json:"path"` // below the site's folder; an owner may have hidden or closed it
}

// Hash tells how a value in a JSON object is sealed by a keyed hash beside it.
type Hash struct {
	Value     string   `yaml:"value" json:"value"` // the names of the two fields
	Hash      string   `yaml:"hash" json:"hash"`
	Base64    bool     `yaml:"base64" json:"base64"`       // the value is written in base64
	Algorithm string   `yaml:"algorithm" json:"algorithm"` // hmac-md5, hmac-sha1 or hmac-sha256
	Key       []string `yaml:"key" json:"key"`             // the settings of the configuration that are the key, joined
	Unset     string   `yaml:"unset" json:"unset"`         // what a setting is where nobody has set it
}

// Hashed returns the values that can be sealed again with the keys of a configuration that was
// read; a key that is not there, or was never set, seals nothing.
func (l *System) Hashed(conn *Connection) (all []envelope.Hashed) {
	if conn == nil {
		return nil
	}
	for _, h := range l.Hashes {
		key := ""
		for _, name := range h.Key {
			s, ok := conn.settings[name]
			if !ok || s.How != Literally || s.Value == "" || s.Value == h.Unset {
				key = ""
				break
			}
			key += s.Value
		}
		if key != "" {
			all = append(all, envelope.Hashed{Value: h.Value, Hash: h.Hash, Base64: h.Base64, Algorithm: h.Algorithm, Key: []byte(key)})
		}
	}
	return all
}

// Address is a setting that holds an address of the site.
type Address struct {
	Name   string `yaml:"name" json:"name"`   // "public" or "core"
	Title  string `yaml:"title" json:"title"` // in words
	Table  string `yaml:"table" json:"table"`
	Column string `yaml:"column" json:"column"`
	Where  string `yaml:"where" json:"where"`   // the column that names the setting
	Equals string `yaml:"equals" json:"equals"` // its name
}

// Column names one column of one table.
type Column struct {
	Table  string `yaml:"table" json:"table"`
	Column string `yaml:"column" json:"column"`
}

// Cache names rows that the system makes anew, by the beginnings of a column's
// value; without a column it is every row of the table.
type Cache struct {
	Table  string   `yaml:"table" json:"table"`
	Column string   `yaml:"column" json:"column"`
	Begins []string `yaml:"begins" json:"begins"`
	Safe   bool     `yaml:"safe" json:"safe"` // nothing is lost where such a row is removed
}

// CacheDir is a folder of files that the system makes anew, below its own folder.
type CacheDir struct {
	Path string `yaml:"path" json:"path"`
	Safe bool   `yaml:"safe" json:"safe"` // nothing is lost where it is emptied
}

// Sites says how a system keeps several sites in one database: each has tables of
// its own, with its number and _ before their names; the first has them without.
type Sites struct {
	Table  string `yaml:"table" json:"table"`   // lists the sites
	ID     string `yaml:"id" json:"id"`         // its columns: the site's number
	Host   string `yaml:"host" json:"host"`     // its host name
	Folder string `yaml:"folder" json:"folder"` // the path it lives at
	First  int    `yaml:"first" json:"first"`   // the site whose tables have no number
}

// Label says which column calls a row by name.
type Label struct {
	Table  string `yaml:"table" json:"table"`
	Column string `yaml:"column" json:"column"`
	Word   string `yaml:"word" json:"word"` // what such a row is: "setting", "page"
	Slug   string `yaml:"slug" json:"slug"` // the column with the last part of its page's address
	Page   string `yaml:"page" json:"page"` // the address of its page, with {column} for values
}

// PageOf returns the address, below the site's, of the page that a row is shown on, or
// "" where the system does not say or a value is missing.
func (l Label) PageOf(get func(column string) string) string {
	var out strings.Builder
	for rest := l.Page; rest != ""; {
		before, more, ok := strings.Cut(rest, "{")
		out.WriteString(before)
		if !ok {
			break
		}
		column, after, _ := strings.Cut(more, "}")
		v := get(column)
		if v == "" {
			return ""
		}
		out.WriteString(url.PathEscape(v))
		rest = after
	}
	return out.String()
}

// Needs lists the columns that a label reads besides its own.
func (l Label) Needs() []string {
	var out []string
	for _, part := range strings.Split(l.Page, "{")[1:] {
		column, _, _ := strings.Cut(part, "}")
		out = append(out, column)
	}
	if l.Slug != "" {
		out = append(out, l.Slug)
	}
	return out
}

// ConfigFile says where the system keeps its database and locked addresses. The
// values are names of constants or, with a dollar sign, of variables. Those of the database may be joined from several:
// {FOLDER}/{NAME}.db.
type ConfigFile struct {
	File     string            `yaml:"file" json:"file"`
	Format   string            `yaml:"format" json:"format"` // "php" (literals in code) or "env" (NAME=value lines)
	Kind     string            `yaml:"kind" json:"kind"`     // of the database: mysql, postgres or sqlite; none: the content is files
	User     string            `yaml:"user" json:"user"`
	Password string            `yaml:"password" json:"password"`
	Host     string            `yaml:"host" json:"host"` // may hold a port or a socket too
	Port     string            `yaml:"port" json:"port"`
	Database string            `yaml:"database" json:"database"` // its name; of sqlite the file, below the configuration's folder
	Charset  string            `yaml:"charset" json:"charset"`
	Prefix   string            `yaml:"prefix" json:"prefix"`
	Locks    map[string]string `yaml:"locks" json:"locks"` // address name: constant that locks it
	End      string            `yaml:"end" json:"end"`     // the file that begins the system: what is included after it is no configuration
	Content  *Content          `yaml:"content" json:"content"`
	SQLite   *SQLite           `yaml:"sqlite" json:"sqlite"`
}

// Content says which setting moves the folder that themes, plugins and uploads are in.
type Content struct {
	Folder  string `yaml:"folder" json:"folder"`   // as a rule, below the system's
	Setting string `yaml:"setting" json:"setting"` // that names another one
}

// SQLite says how a drop-in makes the system use an SQLite file in place of its server.
type SQLite struct {
	DropIn string `yaml:"drop_in" json:"drop_in"` // the file that does it, below the content folder
	File   string `yaml:"file" json:"file"`       // the database, below the content folder
	Folder string `yaml:"folder" json:"folder"`   // the settings that name another folder and file
	Name   string `yaml:"name" json:"name"`
}

// content returns the content folder of the system in folder.
func (c *ConfigFile) content(set map[string]Setting, folder string) string {
	if c.Content == nil {
		return folder
	}
	if s, ok := set[c.Content.Setting]; ok && s.How == Literally && filepath.IsAbs(s.Value) {
		return filepath.Clean(s.Value)
	}
	return filepath.Join(folder, c.Content.Folder)
}

// DropIn returns the SQLite file that a drop-in makes the system in folder use, if there is one.
func (c *ConfigFile) DropIn(config, folder string) (file string, ok bool) {
	if c.SQLite == nil {
		return "", false
	}
	set, err := c.read(config)
	if err != nil {
		return "", false
	}
	content := c.content(set, folder)
	if _, err := os.Stat(filepath.Join(content, c.SQLite.DropIn)); err != nil {
		return "", false
	}
	file = filepath.Join(content, c.SQLite.File)
	if s, ok := set[c.SQLite.Folder]; ok && s.How == Literally {
		file = filepath.Join(s.Value, filepath.Base(file))
	}
	if s, ok := set[c.SQLite.Name]; ok && s.How == Literally {
		file = filepath.Join(filepath.Dir(file), s.Value)
	}
	info, err := os.Stat(file)
	return file, err == nil && info.Mode().IsRegular()
}

// Below returns where paths of the system description lie, for the system in folder with this configuration: what is
// below the usual content folder is below the one that the configuration names.
func (l *System) Below(config, folder string, paths []string) (dirs []string) {
	content, usual := folder, ""
	if c := l.Config; c != nil && c.Content != nil && config != "" {
		usual = c.Content.Folder + "/"
		if set, err := c.read(config); err == nil {
			content = c.content(set, folder)
		} else {
			content = filepath.Join(folder, c.Content.Folder)
		}
	}
	for _, f := range paths {
		if below, ok := strings.CutPrefix(f, usual); ok && usual != "" {
			dirs = append(dirs, filepath.Join(content, filepath.FromSlash(below)))
		} else {
			dirs = append(dirs, filepath.Join(folder, filepath.FromSlash(f)))
		}
	}
	return dirs
}

//go:embed shipped/*.yaml
var shipped embed.FS

// Names lists the built-in system descriptions, in order.
func Names() []string {
	entries, err := shipped.ReadDir("shipped")
	if err != nil {
		panic(err) // it is in the binary
	}
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	sort.Strings(names)
	return names
}

// Get returns a built-in system description.
func Get(name string) (*System, error) {
	b, err := shipped.ReadFile(path.Join("shipped", name+".yaml"))
	if err != nil {
		return nil, fmt.Errorf("no system description is called %q; known are %s", name, strings.Join(Names(), ", "))
	}
	return Parse(b)
}

// Parse reads a system description and checks that it is whole.
func Parse(b []byte) (*System, error) {
	var l System
	if err := yamltext.Decode(b, &l); err != nil {
		return nil, fmt.Errorf("the system: %w", err)
	}
	if l.Name == "" {
		return nil, errors.New("the system description has no name")
	}
	if len(l.Tables) == 0 && len(l.Addresses)+len(l.Identifiers)+len(l.Caches)+len(l.Labels)+len(l.Derived) > 0 {
		return nil, fmt.Errorf("system description %s: it names no tables by which it is recognised", l.Name)
	}
	for _, a := range l.Addresses {
		if a.Name == "" || a.Table == "" || a.Column == "" || a.Where == "" || a.Equals == "" {
			return nil, fmt.Errorf("system description %s: an address needs name, table, column, where and equals", l.Name)
		}
	}
	for _, c := range slices.Concat(l.Caches, l.Idle) {
		if c.Table == "" || c.Column != "" && len(c.Begins) == 0 {
			return nil, fmt.Errorf("system description %s: a cache needs a table, and with a column also begins", l.Name)
		}
	}
	for _, k := range l.KeptRows {
		if k.Table == "" || k.Column == "" || len(k.Begins) == 0 || k.Safe {
			return nil, fmt.Errorf("system description %s: kept_rows needs table, column and begins; a whole table stands in kept", l.Name)
		}
	}
	for _, m := range l.SiteMaps {
		if !strings.HasPrefix(m, "/") {
			return nil, fmt.Errorf("system description %s: site_maps: %q is no path; begin it with /", l.Name, m)
		}
	}
	for _, e := range l.Entrances {
		if e.Name == "" || !strings.HasPrefix(e.Path, "/") {
			return nil, fmt.Errorf("system description %s: entrances needs name, and a path that begins with /", l.Name)
		}
	}
	for _, d := range l.Derived {
		if d.Table == "" || d.Column == "" || d.Of == "" || !slices.Contains([]string{"", Digest, Bytes, Characters}, d.As) {
			return nil, fmt.Errorf("system description %s: derived needs table, column, of, and as: digest, bytes or characters", l.Name)
		}
	}
	for _, d := range l.CacheFiles {
		if !filepath.IsLocal(d.Path) {
			return nil, fmt.Errorf("system description %s: cache_files: %q is not a folder below the system's own", l.Name, d.Path)
		}
	}
	for _, k := range l.Kinds {
		if !strings.HasPrefix(k, ".") || strings.ContainsAny(k, "/*") {
			return nil, fmt.Errorf("system description %s: kinds: %q is no ending; write it as .md", l.Name, k)
		}
	}
	if c := l.Config; c != nil && c.Kind == "none" {
		if c.File == "" {
			return nil, fmt.Errorf("system description %s: config needs file, by which a site of the kind is found", l.Name)
		}
		return &l, nil
	}
	if c := l.Config; c != nil && (c.File == "" || c.Database == "" || !slices.Contains([]string{"php", "env"}, c.Format) || !slices.Contains([]string{"mysql", "postgres", "sqlite"}, c.Kind)) {
		return nil, fmt.Errorf("system description %s: config needs file, format (php or env), kind (mysql, postgres or sqlite) and database", l.Name)
	}
	if s := l.Sites; s != nil && (s.Table == "" || s.ID == "" || s.Host == "") {
		return nil, fmt.Errorf("system description %s: sites needs table, id and host", l.Name)
	}
	for _, h := range l.Hashes {
		if h.Value == "" || h.Hash == "" || len(h.Key) == 0 || !envelope.KnowsHash(h.Algorithm) || l.Config == nil {
			return nil, fmt.Errorf("system description %s: hashes needs value, hash, key, a config to read the key from, and algorithm: hmac-md5, hmac-sha1 or hmac-sha256", l.Name)
		}
	}
	return &l, nil
}

// IsIdentifier reports whether a column holds permanent identifiers.
func (l *System) IsIdentifier(table, column string) bool {
	for _, c := range l.Identifiers {
		if c.Table == table && c.Column == column {
			return true
		}
	}
	return false
}

// IsKept reports whether rows of a table are never changed.
func (l *System) IsKept(table string) bool { return slices.Contains(l.Kept, table) }

// IsKeptRow reports whether a row of a table that is not kept as a whole is never changed; get returns a column's value.
func (l *System) IsKeptRow(table string, get func(column string) string) bool {
	kept, _ := among(l.KeptRows, table, get)
	return kept
}

// IsCache reports whether a row is a cached copy, and whether it may be removed;
// get returns a column's value.
func (l *System) IsCache(table string, get func(column string) string) (cached, safe bool) {
	return among(l.Caches, table, get)
}

// Needs returns the columns that tell whether a row of a table is a page that visitors see, and its
// address.
func (l *System) Needs(table string) (columns []string) {
	for _, rules := range [][]Cache{l.Pages, l.Idle, l.Caches} {
		for _, r := range rules {
			if r.Table == table && r.Column != "" {
				columns = append(columns, r.Column)
			}
		}
	}
	if lb, ok := l.LabelOf(table); ok {
		columns = append(columns, lb.Needs()...)
	}
	return columns
}

// IsPage reports whether a row is a page of its own, whose address its label tells.
func (l *System) IsPage(table string, get func(column string) string) bool {
	page, _ := among(l.Pages, table, get)
	return page
}

// IsIdle reports whether no visitor sees a row.
func (l *System) IsIdle(table string, get func(column string) string) bool {
	idle, _ := among(l.Idle, table, get)
	return idle
}

func among(rules []Cache, table string, get func(column string) string) (found, safe bool) {
	for _, c := range rules {
		if c.Table != table {
			continue
		}
		if c.Column == "" {
			return true, c.Safe
		}
		v := get(c.Column)
		for _, b := range c.Begins {
			if strings.HasPrefix(v, b) {
				return true, c.Safe
			}
		}
	}
	return false, false
}

// Set takes a table's name without the prefix apart: the number of the site that
// it belongs to and its name in the system description. known says which numbers are sites.
func (l *System) Set(table string, known func(site int) bool) (site int, short string) {
	if l.Sites == nil {
		return 0, table
	}
	number, rest, ok := strings.Cut(table, "_")
	if n, err := strconv.Atoi(number); ok && err == nil && strconv.Itoa(n) == number && known(n) {
		return n, rest
	}
	return l.Sites.First, table
}

// LabelOf returns the rule for how rows of a table are called.
func (l *System) LabelOf(table string) (Label, bool) {
	for _, lb := range l.Labels {
		if lb.Table == table {
			return lb, true
		}
	}
	return Label{}, false
}

// Prefix tells from the names of all tables which prefixes have all tables of
// the system description behind them, the shortest first.
func (l *System) Prefix(tables []string) []string {
	if len(l.Tables) == 0 {
		return nil
	}
	have := map[string]bool{}
	for _, t := range tables {
		have[t] = true
	}
	var prefixes []string
	for _, t := range tables {
		prefix, ok := strings.CutSuffix(t, l.Tables[0])
		for _, other := range l.Tables {
			ok = ok && have[prefix+other]
		}
		if ok {
			prefixes = append(prefixes, prefix)
		}
	}
	sort.Slice(prefixes, func(i, j int) bool { return len(prefixes[i]) < len(prefixes[j]) })
	return prefixes
}

// Known lists the tables that the system description says anything of, the longest names first.
func (l *System) Known() []string {
	seen := map[string]bool{}
	add := func(t string) { seen[t] = true }
	for _, t := range l.Tables {
		add(t)
	}
	for _, c := range l.Identifiers {
		add(c.Table)
	}
	for _, c := range l.Caches {
		add(c.Table)
	}
	for _, t := range l.Kept {
		add(t)
	}
	for _, k := range l.KeptRows {
		add(k.Table)
	}
	for _, lb := range l.Labels {
		add(lb.Table)
	}
	for t := range l.Columns {
		add(t)
	}
	names := make([]string, 0, len(seen))
	for t := range seen {
		names = append(names, t)
	}
	sort.Slice(names, func(i, j int) bool {
		if len(names[i]) != len(names[j]) {
			return len(names[i]) > len(names[j])
		}
		return names[i] < names[j]
	})
	return names
}
