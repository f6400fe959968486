package dump

import (
	"bytes"
	"errors"

	"trimlantern/core/seek"
)

// errMore says that a unit does not end in what was read so far.
var errMore = errors.New("more is needed")

// syntax is how the text of a dump is to be read at one place: whose SQL it is, and what the
// statements before have set.
type syntax struct {
	dialect   Dialect
	verbatim  bool   // a backslash in '…' stands for itself
	ansi      bool   // MariaDB and MySQL: "…" is a name, not a string
	charset   string // of the text, lower case; "": UTF-8
	wide      wide   // charsets in which the second byte of a letter may look like a backslash
	raw       bool   // not converted: each column has the bytes of its own charset
	delimiter string // what ends a statement; never empty
}

// syntaxOf returns how a dump begins.
func syntaxOf(d Dialect) syntax {
	return syntax{dialect: d, verbatim: d != MySQL, delimiter: ";"}
}

// escapes reports whether a backslash is an escape in the string that begins at b[p].
func (x *syntax) escapes(b []byte, p int) bool {
	switch {
	case b[p] == '`' || b[p] == '"' && (x.ansi || x.dialect != MySQL):
		return false
	case !x.verbatim:
		return x.dialect != SQLite
	}
	// E'…', where the E is no end of a longer word
	return x.dialect == Postgres && p > 0 && b[p-1]|0x20 == 'e' && (p < 2 || !isWord(b[p-2]))
}

func isWord(c byte) bool {
	return c == '_' || c == '$' || c >= 0x80 || c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}

// quote returns the position behind the string or name in quotes at p.
func (x *syntax) quote(b []byte, p int) (int, error) {
	q := b[p]
	backslash := x.escapes(b, p)
	if backslash && x.wide != narrow {
		return x.wideQuote(b, p)
	}
	for p++; ; {
		next := -1
		if backslash {
			next = seek.Quote(b, min(p, len(b)), q)
		} else if n := bytes.IndexByte(b[min(p, len(b)):], q); n >= 0 {
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

// wideQuote is quote for charsets in which the second byte of a letter may be a backslash.
func (x *syntax) wideQuote(b []byte, p int) (int, error) {
	q := b[p]
	for p++; p+1 < len(b); {
		switch c := b[p]; {
		case x.wide.leads(c) || c == '\\':
			p += 2
		case c != q:
			p++
		case b[p+1] == q:
			p += 2
		default:
			return p + 1, nil
		}
	}
	return 0, errMore
}

// wide is how letters of two bytes begin, where the second may look like a backslash.
type wide uint8

const (
	narrow    wide = iota // it never does
	shiftJIS              // Shift_JIS and its kin
	highBytes             // GBK, GB18030, Big5
)

// leads reports whether a byte begins such a letter.
func (w wide) leads(c byte) bool {
	switch w {
	case shiftJIS:
		return c > 0x80 && c < 0xa0 || c >= 0xe0 && c < 0xfd
	case highBytes:
		return c > 0x80 && c < 0xff
	}
	return false
}

// comment returns the position behind the comment at p, or p where there is none. What MariaDB and
// MySQL run although it stands in a comment, /*!40101 … */, is none: only its marks are.
func (x *syntax) comment(b []byte, p int) (int, error) {
	rest := b[p:]
	switch c := rest[0]; {
	case c == '#' && x.dialect == MySQL:
		return line(b, p)
	case c == '-' && len(rest) < 3 && (len(rest) == 1 || rest[1] == '-'):
		return 0, errMore
	case c == '-' && rest[1] == '-' && (x.dialect != MySQL || rest[2] <= ' '):
		return line(b, p)
	case c == '*' && x.dialect == MySQL:
		if len(rest) < 2 {
			return 0, errMore
		}
		if rest[1] == '/' {
			return p + 2, nil
		}
	case c == '/':
		if len(rest) < 2 {
			return 0, errMore
		}
		if rest[1] == '*' {
			return x.block(b, p)
		}
	}
	return p, nil
}

// block is comment for what begins with /*.
func (x *syntax) block(b []byte, p int) (int, error) {
	rest := b[p:]
	if x.dialect == MySQL {
		if len(rest) < len(sandbox) && bytes.HasPrefix([]byte(sandbox), rest) {
			return 0, errMore
		}
		n := 2
		if n < len(rest) && rest[n] == 'M' {
			n++
		}
		if n >= len(rest) {
			return 0, errMore
		}
		if rest[n] == '!' && !bytes.HasPrefix(rest, []byte(sandbox)) {
			for n++; n < len(rest) && rest[n] >= '0' && rest[n] <= '9'; n++ {
			}
			if n >= len(rest) {
				return 0, errMore
			}
			return p + n, nil
		}
	}
	depth, at := 0, p
	if x.dialect != Postgres {
		at += 2
	}
	for {
		end := bytes.Index(b[at:], []byte("*/"))
		if end < 0 {
			return 0, errMore
		}
		if x.dialect == Postgres { // whose comments nest
			if begin := bytes.Index(b[at:at+end], []byte("/*")); begin >= 0 {
				depth++
				at += begin + 2
				continue
			}
			if depth--; depth > 0 {
				at += end + 2
				continue
			}
		}
		return at + end + 2, nil
	}
}

// sandbox begins the first line of a dump of MariaDB's own program, a command to its client.
const sandbox = `/*M!999999\-`

// blank returns the position behind blanks and comments.
func (x *syntax) blank(b []byte, p int) (int, error) {
	for p < len(b) {
		if b[p] <= ' ' {
			p++
			continue
		}
		end, err := x.comment(b, p)
		if err != nil || end == p {
			return p, err
		}
		p = end
	}
	return p, nil
}

// line returns the position behind the line at p.
func line(b []byte, p int) (int, error) {
	i := bytes.IndexByte(b[p:], '\n')
	if i < 0 {
		return 0, errMore
	}
	return p + i + 1, nil
}

// dollar steps over PostgreSQL's $tag$…$tag$; a dollar sign alone is one byte.
func dollar(b []byte, p int) (int, error) {
	if p > 0 && isWord(b[p-1]) {
		return p + 1, nil
	}
	n := 1
	for p+n < len(b) && b[p+n] != '$' && isWord(b[p+n]) {
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

// tokenKind is what a token is.
type tokenKind uint8

const (
	noToken   tokenKind = iota // the end
	wordToken                  // a word or number, without quotes
	nameToken                  // a name in quotes
	textToken                  // a string in quotes, or between dollar signs
	markToken                  // any other byte
)

// token is one piece of a statement: b[start:end].
type token struct {
	kind       tokenKind
	start, end int
}

// next returns the token at or behind p, over blanks and comments.
func (x *syntax) next(b []byte, p int) (token, error) {
	p, err := x.blank(b, p)
	if err != nil {
		return token{}, err
	}
	if p >= len(b) {
		return token{start: p, end: p}, nil
	}
	t := token{markToken, p, p + 1}
	switch c := b[p]; {
	case c == '\'':
		t.kind = textToken
		t.end, err = x.quote(b, p)
	case c == '"' && x.dialect == MySQL && !x.ansi:
		t.kind = textToken
		t.end, err = x.quote(b, p)
	case c == '"' || c == '`' && x.dialect != Postgres:
		t.kind = nameToken
		t.end, err = x.quote(b, p)
	case c == '[' && x.dialect == SQLite:
		if i := bytes.IndexByte(b[p:min(len(b), p+maxBracketed)], ']'); i >= 0 {
			t.kind, t.end = nameToken, p+i+1
		}
	case c == '$' && x.dialect == Postgres:
		if t.end, err = dollar(b, p); t.end > p+1 {
			t.kind = textToken
		}
	case isWord(c):
		t.kind = wordToken
		for t.end < len(b) && isWord(b[t.end]) {
			t.end++
		}
	}
	return t, err
}

// maxBracketed bounds a name in brackets, as in [my table]. Without a bound, each of many open brackets that none closes
// would be looked for to the end.
const maxBracketed = 4 << 10

// is reports whether the token is one of some words, in any letter case, or one of some marks.
func (t token) is(b []byte, words ...string) bool {
	if t.kind != wordToken && t.kind != markToken {
		return false
	}
	for _, w := range words {
		if len(w) == t.end-t.start && bytes.EqualFold(b[t.start:t.end], []byte(w)) {
			return true
		}
	}
	return false
}

// name returns what the token names, without its quotes; folded as the dialect folds names.
func (x *syntax) name(b []byte, t token) string {
	raw := b[t.start:t.end]
	if t.kind == nameToken || t.kind == textToken && len(raw) > 1 && (raw[0] == '"' || raw[0] == '\'' && x.dialect == SQLite) {
		q := raw[len(raw)-1:]
		return string(bytes.ReplaceAll(raw[1:len(raw)-1], append(bytes.Clone(q), q...), q))
	}
	if x.dialect == Postgres {
		raw = bytes.ToLower(raw)
	}
	return string(raw)
}

// qualified reads a name, with or without the name of its schema and database, at p.
func (x *syntax) qualified(b []byte, p int) (schema, name string, end int, err error) {
	for {
		t, err := x.next(b, p)
		if err != nil {
			return "", "", 0, err
		}
		if t.kind != wordToken && t.kind != nameToken && t.kind != textToken {
			return "", "", p, nil
		}
		schema, name, end = name, x.name(b, t), t.end
		dot, err := x.next(b, end)
		if err != nil {
			return "", "", 0, err
		}
		if !dot.is(b, ".") {
			return schema, name, end, nil
		}
		p = dot.end
	}
}

// statement returns the position behind the end of the statement at p.
func (x *syntax) statement(b []byte, p int) (int, error) {
	first, err := x.next(b, p)
	if err != nil {
		return 0, err
	}
	if first.is(b, "CREATE") && x.dialect != MySQL {
		return x.program(b, p)
	}
	stops := "'\"`$-/#" + x.delimiter[:1]
	for p < len(b) {
		i := bytes.IndexAny(b[p:], stops)
		if i < 0 {
			break
		}
		p += i
		switch c := b[p]; {
		case bytes.HasPrefix(b[p:], []byte(x.delimiter)):
			return p + len(x.delimiter), nil
		case len(x.delimiter) > len(b)-p && bytes.HasPrefix([]byte(x.delimiter), b[p:]):
			return 0, errMore
		case c == '\'' || c == '"' || c == '`' && x.dialect != Postgres:
			if p, err = x.quote(b, p); err != nil {
				return 0, err
			}
		case c == '$' && x.dialect == Postgres:
			if p, err = dollar(b, p); err != nil {
				return 0, err
			}
		default:
			end, err := x.comment(b, p)
			if err != nil {
				return 0, err
			}
			p = max(end, p+1)
		}
	}
	return 0, errMore
}

// program is statement for CREATE, whose body may hold statements of its own: SQLite's triggers, and
// PostgreSQL's functions between BEGIN ATOMIC and END.
func (x *syntax) program(b []byte, p int) (int, error) {
	depth, trigger := 0, false
	var last token
	for n := 0; ; n++ {
		t, err := x.next(b, p)
		switch {
		case err != nil:
			return 0, err
		case t.kind == noToken:
			return 0, errMore
		case t.kind == wordToken && t.end == len(b):
			return 0, errMore
		case n < 4 && t.is(b, "TRIGGER"):
			trigger = x.dialect == SQLite
		case t.is(b, "BEGIN"):
			if trigger {
				depth++
			}
		case t.is(b, "ATOMIC") && last.is(b, "BEGIN"), t.is(b, "CASE") && depth > 0:
			depth++
		case t.is(b, "END") && depth > 0:
			depth--
		case t.is(b, ";") && depth == 0:
			return t.end, nil
		}
		last, p = t, t.end
	}
}
