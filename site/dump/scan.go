package dump

import (
	"bytes"
	"errors"
	"strings"

	"trimlantern/core/seek"
)

// mode is what a scanner stands in between two units.
type mode uint8

const (
	between  mode = iota // between statements
	inValues             // behind VALUES, between rows
	inCopy               // between the rows of COPY
)

// state is all that a scanner remembers: with it, scanning can go on at the end
// of any unit.
type state struct {
	dialect Dialect
	mode    mode
	table   *Table   // of the INSERT or COPY
	columns []Column // of its rows, in order; nil where nobody says
	tables  map[string]*Table
	before  string // the name and list of the INSERT or COPY before
	lines   bool   // written by MariaDB's or MySQL's own program: no line ends inside a string
}

// errMore says that a unit does not end in what was read so far.
var errMore = errors.New("more is needed")

// next reads the unit at b[p]: a comment, a statement, the head of an INSERT, a
// row. It returns the position behind it, and the fields where it is a row. fields
// is memory for them.
func (s *state) next(b []byte, p int, fields []field) (end int, row []field, err error) {
	switch s.mode {
	case inCopy:
		return s.copyRow(b, p, fields)
	case inValues:
		return s.valuesRow(b, p, fields)
	}
	for p < len(b) && b[p] <= ' ' {
		p++
	}
	rest := b[p:]
	switch {
	case len(rest) == 0:
		return p, nil, nil
	case bytes.HasPrefix(rest, []byte("--")) || rest[0] == '#' || rest[0] == '\\':
		return line(b, p)
	case len(rest) < 2: // may become a comment
		return 0, nil, errMore
	case bytes.HasPrefix(rest, []byte("/*")):
		i := bytes.Index(rest, []byte("*/"))
		if i < 0 {
			return 0, nil, errMore
		}
		return p + i + 2, nil, nil
	case hasWord(rest, "INSERT") || hasWord(rest, "REPLACE"):
		return s.insert(b, p)
	case hasWord(rest, "COPY") && s.dialect == Postgres:
		return s.copyHead(b, p)
	}
	end, err = s.statement(b, p)
	if err == nil && hasWord(rest, "CREATE") {
		if t := s.dialect.parseCreate(create(b[p:end])); t != nil {
			s.keep(t)
			s.before = ""
		}
	}
	return end, nil, err
}

// keep remembers a table. The map is a new one, since workers read the old.
func (s *state) keep(t *Table) {
	tables := make(map[string]*Table, len(s.tables)+1)
	for k, v := range s.tables {
		tables[k] = v
	}
	tables[t.Name] = t
	s.tables = tables
}

// create returns a CREATE TABLE statement, without words between the two, or nil.
func create(b []byte) []byte {
	words := bytes.Fields(b[:min(len(b), 200)])
	for i := 1; i < min(len(words), 4); i++ {
		if bytes.EqualFold(words[i], []byte("TABLE")) {
			at := bytes.Index(b, words[i])
			return append([]byte("CREATE "), b[at:]...)
		}
	}
	return nil
}

func line(b []byte, p int) (int, []field, error) {
	i := bytes.IndexByte(b[p:], '\n')
	if i < 0 {
		return 0, nil, errMore
	}
	return p + i + 1, nil, nil
}

// statement returns the position behind the semicolon of the statement at p.
func (s *state) statement(b []byte, p int) (int, error) {
	for p < len(b) {
		i := bytes.IndexAny(b[p:], ";'\"`$-/#")
		if i < 0 {
			break
		}
		p += i
		switch c := b[p]; {
		case c == ';':
			return p + 1, nil
		case c == '\'' || c == '"' || c == '`':
			end, err := s.quote(b, p)
			if err != nil {
				return 0, err
			}
			p = end
		case c == '$' && s.dialect == Postgres:
			end, err := dollar(b, p)
			if err != nil {
				return 0, err
			}
			p = end
		case c == '-' && bytes.HasPrefix(b[p:], []byte("--")), c == '#' && s.dialect == MySQL:
			end, _, err := line(b, p)
			if err != nil {
				return 0, err
			}
			p = end
		case c == '/' && bytes.HasPrefix(b[p:], []byte("/*")):
			i := bytes.Index(b[p:], []byte("*/"))
			if i < 0 {
				return 0, errMore
			}
			p += i + 2
		default:
			p++
		}
	}
	return 0, errMore
}

// dollar steps over PostgreSQL's $tag$…$tag$; a dollar sign alone is one byte.
func dollar(b []byte, p int) (int, error) {
	n := 1
	for p+n < len(b) && (b[p+n] == '_' || b[p+n]|0x20 >= 'a' && b[p+n]|0x20 <= 'z' || b[p+n] >= '0' && b[p+n] <= '9') {
		n++
	}
	if p+n >= len(b) {
		return 0, errMore
	}
	if b[p+n] != '$' {
		return p + 1, nil
	}
	tag := b[p : p+n+1]
	i := bytes.Index(b[p+n+1:], tag)
	if i < 0 {
		return 0, errMore
	}
	return p + n + 1 + i + len(tag), nil
}

// quote returns the position behind the string or name in quotes at p.
func (s *state) quote(b []byte, p int) (int, error) {
	q := b[p]
	backslash := q != '`' && (s.dialect == MySQL || s.dialect == Postgres && q == '\'' && p > 0 && (b[p-1] == 'E' || b[p-1] == 'e'))
	for p++; ; {
		next := -1
		if backslash {
			next = seek.Quote(b, min(p, len(b)), q)
		} else if n := bytes.IndexByte(b[p:], q); n >= 0 {
			next = p + n
		}
		if p = next; p < 0 {
			return 0, errMore
		}
		switch {
		case p+1 >= len(b):
			return 0, errMore // it may be doubled
		case b[p+1] != q:
			return p + 1, nil
		default:
			p += 2
		}
	}
}

// insert reads the head of an INSERT up to VALUES.
func (s *state) insert(b []byte, p int) (int, []field, error) {
	var words []string
	at := p
	var list string
	for {
		for at < len(b) && b[at] <= ' ' {
			at++
		}
		if at >= len(b) {
			return 0, nil, errMore
		}
		switch c := b[at]; {
		case c == '(':
			i := bytes.IndexByte(b[at:], ')')
			if i < 0 {
				return 0, nil, errMore
			}
			list = string(b[at+1 : at+i+1])
			at += i + 1
			continue
		case c == ';':
			return at + 1, nil, nil
		}
		start := at
		for at < len(b) && b[at] > ' ' && b[at] != '(' && b[at] != ';' {
			if b[at] == '`' || b[at] == '"' {
				end, err := s.quote(b, at)
				if err != nil {
					return 0, nil, err
				}
				at = end
				continue
			}
			at++
		}
		if at >= len(b) {
			return 0, nil, errMore
		}
		word := string(b[start:at])
		if strings.EqualFold(word, "VALUES") || strings.EqualFold(word, "VALUE") {
			break
		}
		if strings.EqualFold(word, "SELECT") || strings.EqualFold(word, "SET") || len(words) > 12 {
			end, err := s.statement(b, p) // a statement like others
			return end, nil, err
		}
		words = append(words, word)
	}
	name := ""
	for i, w := range words {
		if strings.EqualFold(w, "INTO") && i+1 < len(words) {
			name = unquoteName(words[i+1])
		}
	}
	s.begin(inValues, name, list)
	return at, nil, nil
}

// begin remembers whose rows follow.
func (s *state) begin(m mode, name, list string) {
	s.mode = m
	if this := name + "\x00" + list; s.before == this && s.table != nil {
		return // single rows, each in a statement of its own
	} else {
		s.before = this
	}
	s.table = s.tables[name]
	if s.table == nil {
		s.table = &Table{Name: name}
		s.keep(s.table)
	}
	s.columns = s.table.Columns
	if strings.TrimSpace(list) == "" {
		return
	}
	s.columns = nil
	if !strings.HasSuffix(list, ")") {
		list += ")"
	}
	for _, part := range splitTop(list) {
		c := Column{Name: unquoteName(part)}
		for _, known := range s.table.Columns {
			if known.Name == c.Name {
				c = known
			}
		}
		s.columns = append(s.columns, c)
	}
}

// copyHead reads COPY name (columns) FROM stdin;
func (s *state) copyHead(b []byte, p int) (int, []field, error) {
	end, _, err := line(b, p)
	if err != nil {
		return 0, nil, err
	}
	head := strings.TrimSpace(string(b[p:end]))
	if !strings.HasSuffix(strings.ToLower(head), " from stdin;") {
		end, err := s.statement(b, p)
		return end, nil, err
	}
	name, rest := strings.TrimSpace(head[5:len(head)-len(" from stdin;")]), ""
	if i := strings.IndexByte(name, '('); i > 0 {
		name, rest = name[:i], name[i+1:]
	}
	s.begin(inCopy, unquoteName(name), rest)
	return end, nil, nil
}

// copyRow reads one line of COPY.
func (s *state) copyRow(b []byte, p int, fields []field) (int, []field, error) {
	end, _, err := line(b, p)
	if err != nil {
		return 0, nil, err
	}
	stop := end - 1
	if stop > p && b[stop-1] == '\r' {
		stop--
	}
	if string(b[p:stop]) == `\.` {
		s.mode = between
		return end, nil, nil
	}
	for at := p; ; {
		i := bytes.IndexByte(b[at:stop], '\t')
		to := stop
		if i >= 0 {
			to = at + i
		}
		f := field{form: copyText, start: at, end: to}
		switch raw := b[at:to]; {
		case string(raw) == `\N`:
			f.form = bare
		case bytes.HasPrefix(raw, []byte(`\\x`)) && len(raw)%2 == 1 && isHex(raw[3:]):
			f.form, f.start = copyHex, at+3
		}
		fields = append(fields, f)
		if i < 0 {
			return end, fields, nil
		}
		at = to + 1
	}
}

func isHex(b []byte) bool {
	for _, c := range b {
		if !(c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f') {
			return false
		}
	}
	return true
}

// valuesRow reads (value, …) behind VALUES, or what ends the statement.
func (s *state) valuesRow(b []byte, p int, fields []field) (int, []field, error) {
	for p < len(b) && (b[p] <= ' ' || b[p] == ',') {
		p++
	}
	switch {
	case p >= len(b):
		return 0, nil, errMore
	case b[p] == ';':
		s.mode = between
		return p + 1, nil, nil
	case bytes.HasPrefix(b[p:], []byte("/*")):
		i := bytes.Index(b[p:], []byte("*/"))
		if i < 0 {
			return 0, nil, errMore
		}
		return p + i + 2, nil, nil
	case b[p] != '(': // ON DUPLICATE KEY …
		end, err := s.statement(b, p)
		if err == nil {
			s.mode = between
		}
		return end, nil, err
	}
	p++
	for {
		f, end, err := s.value(b, p)
		if err != nil {
			return 0, nil, err
		}
		fields = append(fields, f)
		if b[end] == ')' {
			return end + 1, fields, nil
		}
		p = end + 1
	}
}

// skipRows steps over whole lines of rows without reading them, where lines can be
// trusted, and returns the position behind the last.
func (s *state) skipRows(b []byte, p int, wanted func(start, end int) bool) int {
	for s.lines && s.mode == inValues {
		start := p
		for start < len(b) && (b[start] == '\n' || b[start] == '\r') {
			start++
		}
		if start >= len(b) || b[start] != '(' || start > 0 && b[start-1] != '\n' {
			return p
		}
		n := bytes.IndexByte(b[start:], '\n')
		if n < 2 {
			return p
		}
		end := start + n
		switch {
		case b[end-2] != ')' || wanted != nil && wanted(start, end):
			return p
		case b[end-1] == ',':
		case b[end-1] == ';':
			s.mode = between
		default:
			return p
		}
		p = end + 1
	}
	return p
}

// value reads one value up to the comma or parenthesis behind it.
func (s *state) value(b []byte, p int) (f field, end int, err error) {
	for p < len(b) && b[p] <= ' ' {
		p++
	}
	first := p
	depth := 0
	for p < len(b) {
		switch c := b[p]; {
		case c == '\'' || c == '"' && s.dialect == MySQL:
			end, err := s.quote(b, p)
			if err != nil {
				return f, 0, err
			}
			if depth == 0 {
				f = s.literal(b, first, p, end)
			}
			p = end
			continue
		case c == '(':
			depth++
		case c == ')' && depth > 0:
			depth--
			if depth == 0 && s.dialect == SQLite {
				f = s.call(b[:p+1], first)
			}
		case depth == 0 && (c == ',' || c == ')'):
			if f.form == bare && p-first > 2 && b[first] == '0' && b[first+1] == 'x' && isHex(b[first+2:p]) && (p-first)%2 == 0 {
				f = field{form: hexText, start: first + 2, end: p}
			}
			return f, p, nil
		}
		p++
	}
	return f, 0, errMore
}

// literal tells what the string at b[open:end] is, from what stands before it.
func (s *state) literal(b []byte, first, open, end int) field {
	f := field{form: quoted, start: open + 1, end: end - 1}
	prefix := ""
	if first < open {
		prefix = strings.TrimSpace(string(b[first:open]))
	}
	inner := b[f.start:f.end]
	switch {
	case strings.EqualFold(prefix, "x"):
		f.form = hexText
	case strings.EqualFold(prefix, "b"):
		f.form = bare
	case s.dialect == MySQL, strings.EqualFold(prefix, "e"):
		f.form = escaped
	case s.dialect == Postgres && bytes.HasPrefix(inner, []byte(`\x`)) && len(inner)%2 == 0 && len(inner) > 2 && isHex(inner[2:]):
		f.form, f.start = hexText, f.start+2
	}
	return f
}

// call reads the functions around a string that SQLite's shell writes.
func (s *state) call(b []byte, first int) field {
	text := b[first:]
	if bytes.HasPrefix(text, []byte("unistr('")) {
		open := first + len("unistr(")
		if end, err := s.quote(b, open); err == nil && end == len(b)-1 {
			return field{form: unistring, start: open + 1, end: end - 1}
		}
		return field{}
	}
	n := 0
	for bytes.HasPrefix(text, []byte("replace(")) {
		text = text[len("replace("):]
		n++
	}
	if n == 0 || len(text) == 0 || text[0] != '\'' {
		return field{}
	}
	open := len(b) - len(text)
	end, err := s.quote(b, open)
	if err != nil {
		return field{}
	}
	f := field{form: replaced, start: open + 1, end: end - 1}
	for at := end; n > 0; n-- { // ,'\n',char(10))
		if at+2 >= len(b) || b[at] != ',' || b[at+1] != '\'' {
			return field{}
		}
		stop, err := s.quote(b, at+1)
		if err != nil {
			return field{}
		}
		h := holder{mark: b[at+2 : stop-1]}
		switch {
		case bytes.HasPrefix(b[stop:], []byte(",char(10))")):
			h.is = '\n'
		case bytes.HasPrefix(b[stop:], []byte(",char(13))")):
			h.is = '\r'
		default:
			return field{}
		}
		f.holders = append(f.holders, h)
		at = stop + len(",char(10))")
	}
	return f
}
