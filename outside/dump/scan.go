package dump

import (
	"bytes"
	"errors"
	"slices"
	"strings"
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
	session
	mode    mode
	model   *Schema
	table   *Table   // of the INSERT or COPY
	columns []Column // of its rows, in order; nil where nobody says
	begun   int      // how many heads of rows there were
	before  string   // the name and list of the INSERT or COPY before
	lines   bool     // written by MariaDB's or MySQL's own program: no line ends inside a string
	learns  bool     // the model is being made
}

// unitKind is what a unit is.
type unitKind uint8

const (
	remark unitKind = iota // a comment, or nothing
	beside                 // a statement that is none of the others
	code                   // what the database will run or keep: a view, trigger, function, event, default
	row                    // a row of VALUES or COPY, or the values that a statement sets
)

// unit is one piece of a dump: a comment, a statement, the head of an INSERT, a row.
type unit struct {
	kind    unitKind
	end     int
	fields  []field  // of a row
	columns []Column // of the fields, where they are not those of the statement's head
	own     bool     // columns counts
	assigns bool     // UPDATE
	more    bool     // what a statement sets besides its rows
	rest    []span   // what of a row may hold text and is no field
}

// span is b[start:end].
type span struct{ start, end int }

// around adds what of a value is not in its field: all of an expression, comments before and behind it.
func (u *unit) around(f field, from, to int) {
	const least = 12 // no reference is shorter
	switch {
	case f.form == bare:
	case f.form == computed:
		u.rest = append(u.rest, span{from, to})
	default:
		if f.start-from > least {
			u.rest = append(u.rest, span{from, f.start})
		}
		if to-f.end > least {
			u.rest = append(u.rest, span{f.end, to})
		}
	}
}

// next reads the unit at b[p]. fields is memory for those of a row.
func (s *state) next(b []byte, p int, fields []field) (u unit, err error) {
	switch s.mode {
	case inCopy:
		return s.copyRow(b, p, fields)
	case inValues:
		return s.valuesRow(b, p, fields)
	}
	for p < len(b) && (b[p] <= ' ' || p == 0 && bytes.HasPrefix(b, bom)) {
		if b[p] > ' ' {
			p += len(bom) - 1
		}
		p++
	}
	if p >= len(b) {
		return unit{end: p}, nil
	}
	if b[p] == '\\' && s.dialect != SQLite { // a command to PostgreSQL's client
		end, err := line(b, p)
		return unit{end: end}, err
	}
	if end, err := s.comment(b, p); err != nil || end > p {
		return unit{end: end}, err
	}
	t, err := s.syntax.next(b, p)
	if err != nil {
		return unit{}, err
	}
	switch {
	case t.kind == wordToken && t.end == len(b):
		return unit{}, errMore
	case t.is(b, "DELIMITER") && s.dialect == MySQL:
		end, err := line(b, p)
		if err == nil {
			if d := strings.Fields(string(b[t.end:end])); len(d) > 0 {
				s.delimiter = d[0]
			}
		}
		return unit{end: end}, err
	case t.is(b, "INSERT", "REPLACE"):
		return s.insert(b, p, t.end, fields)
	case t.is(b, "COPY") && s.dialect == Postgres:
		return s.copyHead(b, p, t)
	case t.is(b, "UPDATE"):
		return s.update(b, p, t.end, fields)
	}
	return s.other(b, p, t)
}

var bom = []byte("\xef\xbb\xbf")

// other reads a statement that holds no rows.
func (s *state) other(b []byte, p int, first token) (unit, error) {
	end, err := s.statement(b, p)
	if err != nil {
		return unit{}, err
	}
	u := unit{kind: beside, end: end}
	stmt := b[p:end]
	if !s.begins(b, first) {
		return unit{}, ErrStatement
	}
	switch {
	case first.is(b, "SET", "USE", "SELECT"):
		s.set(stmt)
	case first.is(b, "CREATE", "ALTER", "DROP"):
		u.kind = code
		if s.learns {
			s.model.learn(&s.session, stmt)
		}
	case first.is(b, "BEGIN", "DO", "CALL", "EXECUTE", "COMMENT"):
		u.kind = code
	}
	return u, nil
}

// ErrStatement says that something is no statement of SQL.
var ErrStatement = errors.New("this is no statement of SQL")

// verbs are the words that statements begin with, of all dialects.
var verbs = func() map[string]bool {
	all := map[string]bool{}
	for _, v := range strings.Fields("; ( ABORT ALTER ANALYZE ATTACH BEGIN BINLOG CALL CHANGE CHECK CHECKPOINT CHECKSUM CLOSE CLUSTER COMMENT COMMIT COPY CREATE " +
		"DEALLOCATE DECLARE DELETE DESCRIBE DETACH DISCARD DO DROP END EXECUTE EXPLAIN FETCH FLUSH GET GRANT HANDLER IMPORT INSERT INSTALL KILL LISTEN LOAD LOCK " +
		"MERGE MOVE NOTIFY OPEN OPTIMIZE PRAGMA PREPARE PURGE REASSIGN REFRESH REINDEX RELEASE RENAME REPAIR REPLACE RESET RESIGNAL REVOKE ROLLBACK SAVEPOINT SECURITY SELECT " +
		"SET SHOW SIGNAL SLAVE START STOP TABLE TRUNCATE UNINSTALL UNLISTEN UNLOCK UPDATE USE VACUUM VALUES WITH XA") {
		all[v] = true
	}
	return all
}()

// begins reports whether a statement can begin with a token.
func (s *state) begins(b []byte, t token) bool {
	word := strings.ToUpper(string(b[t.start:min(t.end, t.start+20)]))
	return verbs[word] || s.dialect == MySQL && word == "DELIMITER"
}

// insert reads the head of an INSERT up to VALUES, or all of it where it has none. at is behind its
// first word.
func (s *state) insert(b []byte, p, at int, fields []field) (unit, error) {
	r := reader{x: &s.syntax, b: b, p: at}
	for r.take("LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "IGNORE", "OR", "REPLACE", "ROLLBACK", "ABORT", "FAIL", "INTO") {
	}
	schema, name, end, err := s.qualified(b, r.p)
	if err != nil {
		return unit{}, err
	}
	at = end
	list := span{}
	for name != "" {
		t, err := s.syntax.next(b, at)
		switch {
		case err != nil:
			return unit{}, err
		case t.kind == noToken || t.kind == wordToken && t.end == len(b):
			return unit{}, errMore
		case t.is(b, "VALUES", "VALUE"):
			s.begin(inValues, schema, name, string(b[list.start:list.end]))
			return unit{end: t.end}, nil
		case t.is(b, "SET"):
			s.begin(between, schema, name, "")
			return s.assignments(b, t.end, fields)
		case t.is(b, "("):
			if list.start, list.end, at, err = s.list(b, t.end); err != nil {
				return unit{}, err
			}
			continue
		case t.is(b, "PARTITION", "AS", "OVERRIDING", "SYSTEM", "USER"), t.kind == nameToken:
			at = t.end
			continue
		case t.kind == wordToken && !t.is(b, "SELECT", "WITH", "DEFAULT", "TABLE"):
			at = t.end
			continue
		}
		break
	}
	end, err = s.statement(b, p) // from a query
	return unit{kind: beside, end: end}, err
}

// list reads to the parenthesis that closes a list.
func (s *state) list(b []byte, p int) (start, stop, end int, err error) {
	for depth, at := 1, p; ; {
		t, err := s.syntax.next(b, at)
		switch {
		case err != nil:
			return 0, 0, 0, err
		case t.kind == noToken:
			return 0, 0, 0, errMore
		case t.is(b, "("):
			depth++
		case t.is(b, ")"):
			if depth--; depth == 0 {
				return p, t.start, t.end, nil
			}
		}
		at = t.end
	}
}

// begin remembers whose rows follow.
func (s *state) begin(m mode, schema, name, list string) {
	s.mode = m
	s.begun++
	if this := schema + "\x00" + name + "\x00" + list; s.before == this && s.table != nil {
		return // single rows, each in a statement of its own
	} else {
		s.before = this
	}
	s.table = s.model.find(s.in(schema), name, s.learns)
	if s.learns {
		s.table.Rows = true
	}
	s.columns = s.table.Columns
	if strings.TrimSpace(list) == "" {
		return
	}
	s.columns = nil
	r := reader{x: &s.syntax, b: []byte(list)}
	for t := r.token(); t.kind != noToken; t = r.token() {
		if t.kind == markToken {
			continue
		}
		c, _ := s.table.Column(s.name(r.b, t))
		s.columns = append(s.columns, c)
	}
	if s.learns && len(s.table.Listed) == 0 {
		s.table.Listed = s.columns
	}
}

// copyHead reads COPY name (columns) FROM stdin;
func (s *state) copyHead(b []byte, p int, first token) (unit, error) {
	end, err := s.statement(b, p)
	if err != nil {
		return unit{}, err
	}
	schema, name, at, err := s.qualified(b[:end], first.end)
	if err != nil {
		return unit{}, err
	}
	r := reader{x: &s.syntax, b: b[:end], p: at}
	list := ""
	if r.take("(") {
		from, to, behind, err := s.list(b[:end], r.p)
		if err != nil {
			return unit{}, err
		}
		list, r.p = string(b[from:to]), behind
	}
	if !r.take("FROM") || !r.take("stdin") {
		return unit{kind: beside, end: end}, nil
	}
	if !r.take(";") {
		return unit{}, errors.New("rows of COPY in another format than the usual one")
	}
	if end, err = line(b, end); err != nil {
		return unit{}, err
	}
	s.begin(inCopy, schema, name, list)
	return unit{end: end}, nil
}

// copyRow reads one line of COPY.
func (s *state) copyRow(b []byte, p int, fields []field) (unit, error) {
	end, err := line(b, p)
	if err != nil {
		return unit{}, err
	}
	stop := end - 1
	if stop > p && b[stop-1] == '\r' {
		stop--
	}
	if string(b[p:stop]) == `\.` {
		s.mode = between
		return unit{end: end}, nil
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
			return unit{kind: row, end: end, fields: fields}, nil
		}
		at = to + 1
	}
}

// update reads UPDATE table SET column = value, … WHERE …. The condition is no value: it finds the row.
func (s *state) update(b []byte, p, at int, fields []field) (unit, error) {
	r := reader{x: &s.syntax, b: b, p: at}
	for r.take("LOW_PRIORITY", "IGNORE", "ONLY", "OR", "REPLACE") {
	}
	schema, name, end, err := s.qualified(b, r.p)
	if err != nil {
		return unit{}, err
	}
	t, err := s.syntax.next(b, end)
	if err != nil {
		return unit{}, err
	}
	if t.kind == noToken || t.end == len(b) {
		return unit{}, errMore
	}
	if name == "" || !t.is(b, "SET") { // of several tables
		end, err := s.statement(b, p)
		return unit{kind: beside, end: end}, err
	}
	s.begin(between, schema, name, "")
	u, err := s.assignments(b, t.end, fields)
	u.assigns = true
	if s.learns {
		s.table.Updates = true
	}
	return u, err
}

// assignments reads column = value, … up to the end of the statement.
func (s *state) assignments(b []byte, p int, fields []field) (unit, error) {
	end, err := s.statement(b, p)
	if err != nil {
		return unit{}, err
	}
	u := unit{kind: row, end: end, own: true}
	stop := end - len(s.delimiter)
	r := reader{x: &s.syntax, b: b[:stop], p: p}
	for {
		_, name := r.qualified()
		if name == "" || !r.take("=") {
			break
		}
		from, depth := r.p, 0
		t := r.peek()
		for ; t.kind != noToken && (depth > 0 || !t.is(b, ",", "WHERE", "ON", "ORDER", "LIMIT", "RETURNING", "FROM", "AS")); t = r.peek() {
			if t.is(b, "(") {
				depth++
			} else if t.is(b, ")") {
				depth--
			}
			r.p = t.end
		}
		to := min(t.start, stop)
		for from < to && b[from] <= ' ' {
			from++
		}
		f := s.expression(b, from, to)
		u.around(f, from, to)
		c, _ := s.table.Column(name)
		fields, u.columns = append(fields, f), append(u.columns, c)
		if !r.take(",") {
			break
		}
	}
	u.fields = fields
	if s.learns && len(s.table.Listed) == 0 {
		s.table.Listed = slices.Clone(u.columns)
	}
	at := r.p
	for r.take("ON", "DUPLICATE", "KEY") {
	}
	if r.take("UPDATE") {
		more, err := s.assignments(b, r.p, u.fields)
		u.fields, u.columns, u.rest = more.fields, append(u.columns, more.columns...), append(u.rest, more.rest...)
		return u, err
	}
	if at < stop {
		u.rest = append(u.rest, span{at, stop})
	}
	return u, nil
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
func (s *state) valuesRow(b []byte, p int, fields []field) (unit, error) {
	for p < len(b) && (b[p] <= ' ' || b[p] == ',') {
		p++
	}
	switch {
	case p >= len(b):
		return unit{}, errMore
	case bytes.HasPrefix(b[p:], []byte(s.delimiter)):
		s.mode = between
		return unit{end: p + len(s.delimiter)}, nil
	case b[p] != '(':
		end, err := s.comment(b, p)
		if err == nil && end == p {
			return s.behindRows(b, p, fields)
		}
		return unit{end: end}, err
	}
	u := unit{kind: row}
	begun := p
	p++
	for {
		f, end, err := s.value(b, p)
		if err != nil {
			return unit{}, err
		}
		u.around(f, p, end)
		fields = append(fields, f)
		p = end + 1
		if b[end] == ')' {
			break
		}
	}
	u.end, u.fields = p, fields
	if s.lines && s.learns && bytes.IndexByte(b[skipBlank(b, begun):p], '\n') >= 0 {
		s.lines = false // it is not as its first line says
	}
	if s.learns && s.table.Width == 0 && s.columns == nil {
		s.table.Width = len(fields)
	}
	return u, nil
}

// behindRows reads what follows the last row up to the end of the statement.
func (s *state) behindRows(b []byte, p int, fields []field) (unit, error) {
	r := reader{x: &s.syntax, b: b, p: p}
	if r.take("AS") {
		r.token()
	}
	for r.take("ON", "DUPLICATE", "KEY") {
	}
	var u unit
	var err error
	switch t := r.peek(); {
	case t.end >= len(b):
		return unit{}, errMore
	case t.is(b, "UPDATE"):
		u, err = s.assignments(b, t.end, fields)
		u.more = true
	case r.p > p || t.is(b, "RETURNING"):
		u.kind = beside
		u.end, err = s.statement(b, p)
	default:
		return unit{}, ErrStatement
	}
	if err == nil {
		s.mode = between
	}
	return u, err
}

// skipRows steps over whole lines of rows without reading them, where lines can be
// trusted, and returns the position behind the last.
func (s *state) skipRows(b []byte, p int, wanted func(start, end int) bool) int {
	for s.lines && s.mode == inValues {
		start := p
		for start < len(b) && (b[start] == '\n' || b[start] == '\r' || b[start] == ',') { // a comma, where the row before was read
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
	first, depth, strings, simple := p, 0, 0, true
	for p < len(b) {
		switch c := b[p]; {
		case c == '\'' || c == '"' && s.dialect == MySQL:
			end, err := s.quote(b, p)
			if err != nil {
				return f, 0, err
			}
			simple = simple && strings == 0 && p == first
			if strings++; simple && (c == '\'' || !s.ansi) {
				f = s.literal(b, p, end, "")
			}
			p = end
			continue
		case c == '(':
			depth++
		case c == ')' && depth > 0:
			depth--
		case depth == 0 && (c == ',' || c == ')'):
			switch {
			case strings == 0 && (p-first < 2 || b[first+1]|0x20 != 'x'):
				f = field{start: first, end: p}
			case strings != 1 || !simple || f.end+1 != p:
				f = s.expression(b, first, p)
			}
			return f, p, nil
		case c == '$' && s.dialect == Postgres, c == '/', c == '#', c == '-':
			end := p
			if c == '$' {
				end, err = dollar(b, p)
			} else {
				end, err = s.comment(b, p)
			}
			if err != nil {
				return f, 0, err
			}
			if end > p+1 {
				p, simple = end, false
				strings += 2 // whatever it is, no literal alone
				continue
			}
		}
		p++
	}
	return f, 0, errMore
}

// expression tells what the value at b[from:to] is: a literal, with or without what makes it one of a
// type or charset; else it is bare, and only looked at.
func (s *state) expression(b []byte, from, to int) field {
	for to > from && b[to-1] <= ' ' {
		to--
	}
	whole := field{form: computed, start: from, end: to}
	if f, ok := s.call(b[:to], from); ok {
		return f
	}
	if inner, ok := s.converted(b[:to], from); ok {
		if f := s.expression(b, inner.start, inner.end); f.form != bare {
			f.cast = true
			return f
		}
		return whole
	}
	if to-from > 2 && b[from] == '0' && b[from+1]|0x20 == 'x' && isHex(b[from+2:to]) && (to-from)%2 == 0 {
		return field{form: hexText, start: from + 2, end: to}
	}
	r := reader{x: &s.syntax, b: b[:to], p: from}
	prefix := ""
	t := r.token()
	if t.kind == wordToken {
		prefix = string(b[t.start:t.end])
		if t = r.token(); t.kind == textToken && prefix != "" && prefix[0] != '_' && t.start != from+len(prefix) {
			return whole
		}
	}
	if t.kind == markToken && strings.EqualFold(prefix, "u") && t.is(b, "&") {
		return whole // Unicode escapes: looked at only
	}
	if t.kind != textToken {
		return whole
	}
	if b[t.start] == '$' {
		if prefix == "" && r.peek().kind == noToken {
			n := bytes.IndexByte(b[t.start+1:], '$') + 2
			return field{form: dollars, start: t.start + n, end: t.end - n}
		}
		return whole
	}
	f := s.literal(b, t.start, t.end, prefix)
	switch next := r.token(); {
	case next.kind == noToken:
	case next.is(b, "COLLATE"), next.is(b, ":") && r.take(":"):
		for n := r.token(); n.kind != noToken; n = r.token() {
			if n.kind == textToken || n.kind == markToken && n.is(b, "|", "+") {
				return whole
			}
		}
	default:
		return whole
	}
	if f.form == computed {
		return whole
	}
	return f
}

// literal tells what the string at b[open:end] is, from the word before it.
func (s *state) literal(b []byte, open, end int, prefix string) field {
	f := field{form: quoted, start: open + 1, end: end - 1}
	inner := b[f.start:f.end]
	switch word := strings.ToLower(prefix); {
	case word == "x":
		f.form = hexText
	case word == "b":
		f.form = computed
	case s.escapes(b, open):
		f.form = escaped
	case s.dialect == Postgres && len(inner) > 2 && inner[0] == '\\' && inner[1] == 'x' && len(inner)%2 == 0 && isHex(inner[2:]):
		f.form, f.start = hexText, f.start+2
	case word != "" && word != "n" && word != "e" && word[0] != '_':
		f.form = computed // a type and its text: DATE '…'
	}
	f.raw = prefix != "" && (prefix[0] == '_' || f.form == hexText)
	return f
}

// call reads the functions around a string that dumps write: those of SQLite's shell, and those that
// take hexadecimal digits.
func (s *state) call(b []byte, first int) (f field, ok bool) {
	text := b[first:]
	name, _, found := bytes.Cut(text, []byte("("))
	if !found || len(name) > 20 {
		return f, false
	}
	open := first + len(name) + 1
	switch word := strings.ToLower(strings.TrimSpace(string(name))); {
	case word == "unhex" && s.dialect == MySQL, word == "decode" && s.dialect == Postgres:
		return s.hexCall(b, open, word)
	case s.dialect != SQLite:
		return f, false
	case word == "unistr":
		if open < len(b) && b[open] == '\'' {
			if end, err := s.quote(b, open); err == nil && end == len(b)-1 {
				return field{form: unistring, start: open + 1, end: end - 1}, true
			}
		}
		return f, false
	}
	n := 0
	for bytes.HasPrefix(text, []byte("replace(")) {
		text = text[len("replace("):]
		n++
	}
	if n == 0 || len(text) == 0 || text[0] != '\'' {
		return f, false
	}
	open = len(b) - len(text)
	end, err := s.quote(b, open)
	if err != nil {
		return f, false
	}
	f = field{form: replaced, start: open + 1, end: end - 1}
	for at := end; n > 0; n-- { // ,'\n',char(10))
		if at+2 >= len(b) || b[at] != ',' || b[at+1] != '\'' {
			return field{}, false
		}
		stop, err := s.quote(b, at+1)
		if err != nil {
			return field{}, false
		}
		h := holder{mark: b[at+2 : stop-1]}
		switch {
		case bytes.HasPrefix(b[stop:], []byte(",char(10))")):
			h.is = '\n'
		case bytes.HasPrefix(b[stop:], []byte(",char(13))")):
			h.is = '\r'
		default:
			return field{}, false
		}
		f.holders = append(f.holders, h)
		at = stop + len(",char(10))")
		if n == 1 && at != len(b) {
			return field{}, false
		}
	}
	return f, true
}

// converted returns what stands in CAST(… AS type), CONVERT(… USING charset) and convert_from(…, charset): the
// functions with which scripts say of what type or charset a literal is.
func (s *state) converted(b []byte, from int) (inner span, ok bool) {
	r := reader{x: &s.syntax, b: b, p: from}
	name := r.token()
	if !name.is(b, "CAST", "CONVERT", "convert_from") || !r.take("(") {
		return span{}, false
	}
	inner.start = r.p
	depth := 0
	for {
		t := r.peek()
		switch {
		case t.kind == noToken:
			return span{}, false
		case depth == 0 && (t.is(b, "AS", "USING") && !name.is(b, "convert_from") || t.is(b, ",") && name.is(b, "convert_from")):
			inner.end = t.start
			r.p = t.end
			for last := r.token(); ; last = r.token() {
				next := r.peek()
				switch {
				case next.kind == noToken:
					return inner, last.is(b, ")")
				case last.is(b, "(") || last.kind == noToken:
					return span{}, false
				}
			}
		case t.is(b, "("):
			depth++
		case t.is(b, ")"):
			if depth--; depth < 0 {
				return span{}, false
			}
		}
		r.p = t.end
	}
}

// hexCall reads UNHEX('…') and decode('…', 'hex').
func (s *state) hexCall(b []byte, open int, word string) (f field, ok bool) {
	r := reader{x: &s.syntax, b: b, p: open}
	t := r.token()
	if t.kind != textToken || b[t.start] != '\'' || !isHex(b[t.start+1:t.end-1]) || (t.end-t.start)%2 != 0 {
		return f, false
	}
	if word == "decode" {
		if !r.take(",") {
			return f, false
		}
		if h := r.token(); string(b[h.start:h.end]) != "'hex'" {
			return f, false
		}
	}
	if !r.take(")") || r.peek().kind != noToken {
		return f, false
	}
	return field{form: hexText, raw: true, start: t.start + 1, end: t.end - 1}, true
}
