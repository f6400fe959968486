package dump

import (
	"bytes"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Schema is what a dump says of its tables, wherever it says it.
type Schema struct {
	Dialect Dialect
	Tables  []*Table // in the order in which they are named first
	Drops   bool     // it removes tables before it makes them
	Makes   bool     // it makes tables

	named  map[[2]string]*Table // by schema and name
	byName map[string]*Table    // the first of a name
	lists  map[string]bool      // PostgreSQL's types of fixed values
}

// Table is one table as a dump shows it.
type Table struct {
	Schema  string // the database or schema that the dump names; "" where it does not
	Name    string
	Columns []Column // empty where the dump does not say
	Listed  []Column // those that the first statement with a list of columns names
	Unique  []Unique // the primary key and what else must be unique
	Rows    bool     // the dump has rows of it
	Updates bool     // it changes rows of it: UPDATE
	Others  bool     // another schema of the dump has a table of this name
	Shadow  bool     // SQLite: it belongs to a virtual table, whose module alone may change it
	Width   int      // how many values its first row has, where no statement names its columns; 0: none

	Triggers []string // that run when a row of it is changed
}

// String returns the table's name, with its schema where the dump has several of the name.
func (t *Table) String() string {
	if t.Others && t.Schema != "" {
		return t.Schema + "." + t.Name
	}
	return t.Name
}

// Catalogue reports whether it is one of SQLite's own tables, which a dump fills without defining them: sqlite_sequence.
func (t *Table) Catalogue() bool { return strings.HasPrefix(t.Name, "sqlite_") }

// shadows are the tables that modules of SQLite keep behind a virtual table, by their endings: if a dump has all of one row,
// they are those of one. FTS5, FTS3 and FTS4, R*Tree.
var shadows = [][]string{{"_data", "_idx", "_config"}, {"_segments", "_segdir"}, {"_node", "_parent", "_rowid"}}

// shadowEndings are further tables of the same kind.
var shadowEndings = []string{"_content", "_docsize", "_stat"}

// markShadows marks the tables that belong to virtual tables.
func (s *Schema) markShadows() {
	for _, group := range shadows {
		for _, t := range s.Tables {
			of, ok := strings.CutSuffix(t.Name, group[0])
			if !ok || slices.ContainsFunc(group[1:], func(ending string) bool { return s.byName[of+ending] == nil }) {
				continue
			}
			for _, ending := range append(group[:len(group):len(group)], shadowEndings...) {
				if part := s.byName[of+ending]; part != nil {
					part.Shadow = true
				}
			}
		}
	}
}

// Column is one column as a dump shows it.
type Column struct {
	Name     string
	Type     string // as the dump writes it, lower case
	Charset  string // of its text, lower case; "": not said
	MaxChars int64  // longest value in characters; 0: no such limit
	MaxBytes int64  // longest value in bytes; 0: no such limit
	List     bool   // an array, an enumeration or the like, whose values have a form of their own
	Bytes    bool   // bytes, of no charset
	Text     bool   // it can hold text or bytes
	Made     bool   // the database computes it from others
	Stamp    bool   // it takes the time of each update
}

// Unique is a set of columns that is different in every row.
type Unique struct {
	Primary  bool // it is the primary key
	Columns  []string
	Prefixes []int // how many characters of each column count; 0: all
}

// table returns the table of a name, which it adds where there is none.
func (s *Schema) table(schema, name string) *Table {
	key := [2]string{schema, name}
	if s.Dialect == SQLite {
		key[1] = strings.ToLower(name)
	}
	if t := s.named[key]; t != nil {
		return t
	}
	t := &Table{Schema: schema, Name: name}
	if first := s.byName[name]; first != nil {
		first.Others, t.Others = true, true
	} else {
		s.byName[name] = t
	}
	s.named[key] = t
	s.Tables = append(s.Tables, t)
	return t
}

// find returns the table of a name; one that the dump does not have only where add allows it.
func (s *Schema) find(schema, name string, add bool) *Table {
	if !add {
		key := [2]string{schema, name}
		if s.Dialect == SQLite {
			key[1] = strings.ToLower(name)
		}
		if t := s.named[key]; t != nil {
			return t
		}
		return &Table{Schema: schema, Name: name}
	}
	return s.table(schema, name)
}

// Column returns the column of a name.
func (t *Table) Column(name string) (Column, bool) {
	i := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == name })
	if i < 0 {
		if i = slices.IndexFunc(t.Columns, func(c Column) bool { return strings.EqualFold(c.Name, name) }); i < 0 {
			return Column{Name: name}, false
		}
	}
	return t.Columns[i], true
}

// unique adds a unique key, once.
func (t *Table) unique(u Unique) {
	if i := slices.IndexFunc(t.Unique, func(v Unique) bool { return slices.Equal(u.Columns, v.Columns) }); i >= 0 {
		t.Unique[i].Primary = t.Unique[i].Primary || u.Primary
		return
	}
	if len(u.Columns) > 0 {
		t.Unique = append(t.Unique, u)
	}
}

// learn reads what a statement says of tables.
func (s *Schema) learn(x *session, b []byte) {
	r := reader{x: &x.syntax, b: b}
	switch {
	case r.take("CREATE"):
		for r.take("OR", "REPLACE", "TEMP", "TEMPORARY", "UNLOGGED", "GLOBAL", "LOCAL", "FOREIGN", "VIRTUAL") {
		}
		unique := r.take("UNIQUE")
		r.take("CLUSTERED", "NONCLUSTERED")
		if r.take("AGGREGATE", "DEFINER") {
			for t := r.peek(); t.kind != noToken && !t.is(b, "TRIGGER", "VIEW", "FUNCTION", "PROCEDURE", "EVENT", "SQL"); t = r.peek() {
				r.p = t.end // whose it is
			}
		}
		r.take("CONSTRAINT")
		switch {
		case r.take("TRIGGER"):
			s.trigger(x, &r)
		case r.take("TABLE"):
			s.create(x, &r)
		case r.take("INDEX") && unique:
			s.index(x, &r)
		case r.take("TYPE"):
			if _, name := r.qualified(); r.take("AS") && r.take("ENUM") {
				s.lists[name] = true
			}
		}
	case r.take("ALTER"):
		r.take("ONLINE", "IGNORE")
		if r.take("TABLE") {
			s.alter(x, &r)
		}
	case r.take("DROP"):
		s.Drops = s.Drops || r.take("TABLE")
	}
}

// of reads the name of the table that a statement is about; nil where there is none.
func (s *Schema) of(x *session, r *reader) *Table {
	for r.take("IF", "NOT", "EXISTS", "ONLY") {
	}
	schema, name := r.qualified()
	if name == "" {
		return nil
	}
	return s.table(x.in(schema), name)
}

// trigger reads CREATE TRIGGER.
func (s *Schema) trigger(x *session, r *reader) {
	for r.take("IF", "NOT", "EXISTS") {
	}
	_, name := r.qualified()
	update := false
	for t := r.token(); !t.is(r.b, "ON"); t = r.token() {
		if t.kind == noToken || t.is(r.b, "BEGIN", ";") {
			return
		}
		update = update || t.is(r.b, "UPDATE")
	}
	schema, table := r.qualified()
	if t := s.find(x.in(schema), table, false); t != nil && update {
		t.Triggers = append(t.Triggers, name)
	}
}

// create reads CREATE TABLE.
func (s *Schema) create(x *session, r *reader) {
	t := s.of(x, r)
	if t == nil {
		return
	}
	s.Makes = true
	if !r.take("(") {
		return // like another one, or from a query
	}
	t.Columns = nil
	for {
		def := r.element()
		if len(def) > 0 {
			t.define(x, def, r.b)
			s.fixed(t)
		}
		if !r.take(",") {
			break
		}
	}
	r.take(")")
	charset := ""
	for t := r.token(); t.kind != noToken; t = r.token() { // the table's options
		if t.is(r.b, "CHARSET") || t.is(r.b, "SET") {
			r.take("=")
			charset = strings.ToLower(x.name(r.b, r.token()))
		}
	}
	for i, c := range t.Columns {
		if c.Charset == "" && !c.Bytes {
			t.Columns[i].Charset = charset
		}
	}
}

// define reads one element of CREATE TABLE: a column or a key.
func (t *Table) define(x *session, def []token, b []byte) {
	is := func(i int, words ...string) bool { return i < len(def) && def[i].is(b, words...) }
	if def[0].kind == wordToken {
		i := 0
		if is(0, "CONSTRAINT") {
			i = 2
			if is(1, "PRIMARY", "UNIQUE") {
				i = 1
			}
		}
		switch {
		case is(i, "PRIMARY", "UNIQUE") && (is(i+1, "KEY", "INDEX", "(") || i+1 < len(def) && i > 0 || is(i+2, "(")):
			t.unique(keyColumns(x, def[i:], b))
			return
		case is(i, "KEY", "FULLTEXT", "INDEX", "CHECK", "FOREIGN", "EXCLUDE", "LIKE", "SPATIAL", "PERIOD", "INHERITS") && !isType(def, 1, b), i > 0:
			return
		}
	}
	c := x.column(x.name(b, def[0]), def[1:], b)
	for i := 1; i < len(def); i++ {
		if is(i, "PRIMARY", "UNIQUE") {
			t.unique(Unique{Primary: is(i, "PRIMARY"), Columns: []string{c.Name}, Prefixes: []int{0}})
		}
	}
	t.Columns = append(t.Columns, c)
}

// fixed marks the last column where its type is one of fixed values.
func (s *Schema) fixed(t *Table) {
	if len(t.Columns) == 0 {
		return
	}
	c := &t.Columns[len(t.Columns)-1]
	name := c.Type[strings.LastIndexByte(c.Type, '.')+1:]
	c.List = c.List || s.lists[strings.Trim(name, `"`)]
}

// isType tells a column called "key" from a key.
func isType(def []token, i int, b []byte) bool {
	return i < len(def) && def[i].is(b, "int", "integer", "bigint", "varchar", "char", "text", "longtext", "mediumtext", "blob", "datetime", "timestamp", "date", "numeric", "real", "smallint", "tinyint", "character", "boolean", "json", "uuid")
}

// keyColumns reads the columns of a key from its parentheses.
func keyColumns(x *session, def []token, b []byte) (u Unique) {
	depth := 0
	u.Primary = len(def) > 0 && def[0].is(b, "PRIMARY")
	for i, t := range def {
		switch {
		case t.is(b, "("):
			if depth++; depth == 2 && len(u.Prefixes) > 0 && i+1 < len(def) {
				n, err := strconv.Atoi(string(b[def[i+1].start:def[i+1].end]))
				if err != nil {
					return Unique{} // an expression
				}
				u.Prefixes[len(u.Prefixes)-1] = n
			}
		case t.is(b, ")"):
			if depth--; depth == 0 {
				return u
			}
		case depth == 1 && (def[i-1].is(b, "(", ",")):
			if i+1 < len(def) && def[i+1].is(b, "(") && !isNumber(def, i+2, b) {
				return Unique{} // a function
			}
			u.Columns, u.Prefixes = append(u.Columns, x.name(b, t)), append(u.Prefixes, 0)
		}
	}
	return Unique{}
}

func isNumber(def []token, i int, b []byte) bool {
	if i >= len(def) {
		return false
	}
	_, err := strconv.Atoi(string(b[def[i].start:def[i].end]))
	return err == nil
}

// index reads CREATE UNIQUE INDEX.
func (s *Schema) index(x *session, r *reader) {
	r.take("CONCURRENTLY")
	for t := r.token(); t.kind != noToken; t = r.token() {
		if !t.is(r.b, "ON") {
			continue
		}
		r.take("ONLY")
		schema, name := r.qualified()
		if name == "" {
			return
		}
		if r.take("USING") {
			r.token()
		}
		s.table(x.in(schema), name).unique(keyColumns(x, r.rest(), r.b))
		return
	}
}

// alter reads the unique keys that ALTER TABLE adds.
func (s *Schema) alter(x *session, r *reader) {
	table := s.of(x, r)
	if table == nil {
		return
	}
	for {
		def := r.element()
		for i, t := range def {
			if t.is(r.b, "PRIMARY", "UNIQUE") {
				table.unique(keyColumns(x, def[i:], r.b))
				break
			}
		}
		if !r.take(",") {
			return
		}
	}
}

// textBytes are how many bytes MariaDB's and MySQL's types hold.
var textBytes = map[string]int64{"tinytext": 1<<8 - 1, "tinyblob": 1<<8 - 1, "text": 1<<16 - 1, "blob": 1<<16 - 1,
	"mediumtext": 1<<24 - 1, "mediumblob": 1<<24 - 1}

// listType tells PostgreSQL's types of lists, whose values have a form of their own.
var listType = regexp.MustCompile(`^([^,'()]*(\(\d+\))?\[\]|(\w+\.)?hstore\b)`)

// column reads the definition of a column behind its name.
func (x *session) column(name string, def []token, b []byte) Column {
	c := Column{Name: name}
	if len(def) == 0 {
		return c
	}
	typ := strings.ToLower(string(b[def[0].start:def[len(def)-1].end]))
	typeEnd := slices.IndexFunc(def, func(t token) bool {
		return t.is(b, "NOT", "NULL", "DEFAULT", "COLLATE", "CONSTRAINT", "GENERATED", "PRIMARY", "UNIQUE", "CHECK", "REFERENCES", "COMMENT", "AS")
	})
	switch {
	case typeEnd < 0:
		c.Type = typ
	case typeEnd > 0:
		c.Type = strings.ToLower(string(b[def[0].start:def[typeEnd-1].end]))
	}
	identity := hasWord(def, b, "IDENTITY")
	for i, t := range def {
		if i > 0 && t.is(b, "UPDATE") && def[i-1].is(b, "ON") {
			c.Stamp = true
		}
	}
	for i, t := range def {
		if t.is(b, "DEFAULT", "COMMENT") {
			break
		}
		followed := i+1 < len(def)
		switch {
		case t.is(b, "GENERATED") && !identity, t.is(b, "AS") && x.dialect != Postgres && followed && def[i+1].is(b, "("):
			c.Made = true
		case followed && (t.is(b, "CHARSET") || i > 0 && t.is(b, "SET") && def[i-1].is(b, "CHARACTER")):
			c.Charset = strings.ToLower(x.name(b, def[i+1]))
		}
	}
	if x.dialect == SQLite { // which stores what it is given
		c.Text = !hasWord(def, b, "INTEGER")
		return c
	}
	word, _, _ := strings.Cut(typ, "(")
	if words := strings.Fields(word); len(words) > 0 {
		word = words[0]
	} else { // as in `a (10)`, where SQLite lets the type be missing
		word = ""
	}
	c.List = x.dialect == Postgres && listType.MatchString(typ) || x.dialect == MySQL && (word == "enum" || word == "set")
	c.Bytes = strings.Contains(word, "blob") || strings.Contains(word, "binary") || word == "bytea" || word == "bit"
	c.Text = c.Bytes || c.List || strings.Contains(word, "char") || strings.Contains(word, "text") || strings.Contains(word, "json") || word == "xml" || word == "inet" || word == "name"
	limit := int64(0)
	if open := strings.IndexByte(typ, '('); open > 0 {
		digits, _, _ := strings.Cut(typ[open+1:], ")")
		limit, _ = strconv.ParseInt(strings.TrimSpace(digits), 10, 64) // else it is no limit
	}
	switch {
	case word == "varbinary" || word == "binary":
		c.MaxBytes = limit
	case word == "varchar" || word == "char" || word == "character" || word == "nvarchar" || word == "nchar":
		c.MaxChars = limit
	case x.dialect == MySQL:
		c.MaxBytes = textBytes[word]
	}
	return c
}

func hasWord(def []token, b []byte, word string) bool {
	return slices.ContainsFunc(def, func(t token) bool { return t.is(b, word) })
}

// reader reads a statement token by token. Behind a fault it is at its end.
type reader struct {
	x    *syntax
	b    []byte
	p    int
	tail []byte // where set, what stands behind base, with a line break at its end
	base int
}

// lookBack is how far before a token stands what says how it is read: the E of PostgreSQL's strings.
const lookBack = 64

func (r *reader) peek() token {
	t, err := r.next()
	if err != nil && r.tail == nil { // the end of the text ends a string or a comment
		r.base = max(0, r.p-lookBack)
		r.tail = append(bytes.Clone(r.b[r.base:]), '\n')
		t, err = r.next()
	}
	if err != nil {
		r.p = len(r.b)
		return token{start: r.p, end: r.p}
	}
	return t
}

func (r *reader) next() (token, error) {
	if r.tail == nil {
		return r.x.next(r.b, r.p)
	}
	t, err := r.x.next(r.tail, r.p-r.base)
	t.start, t.end = min(r.base+t.start, len(r.b)), min(r.base+t.end, len(r.b))
	return t, err
}

func (r *reader) token() token {
	t := r.peek()
	r.p = t.end
	return t
}

// take steps over the next token if it is one of the words.
func (r *reader) take(words ...string) bool {
	t := r.peek()
	if !t.is(r.b, words...) {
		return false
	}
	r.p = t.end
	return true
}

func (r *reader) qualified() (schema, name string) {
	b, base := r.b, 0
	if r.tail != nil {
		b, base = r.tail, r.base
	}
	schema, name, end, err := r.x.qualified(b, r.p-base)
	if err != nil {
		r.p = len(r.b)
		return "", ""
	}
	r.p = min(base+end, len(r.b))
	return schema, name
}

// element returns the tokens up to the comma or parenthesis that ends an element of a list.
func (r *reader) element() (all []token) {
	depth := 0
	for {
		t := r.peek()
		switch {
		case t.kind == noToken, depth == 0 && t.is(r.b, ",", ")", ";"):
			return all
		case t.is(r.b, "("):
			depth++
		case t.is(r.b, ")"):
			depth--
		}
		all = append(all, t)
		r.p = t.end
	}
}

// rest returns all tokens that are left.
func (r *reader) rest() (all []token) {
	for t := r.token(); t.kind != noToken; t = r.token() {
		all = append(all, t)
	}
	return all
}
