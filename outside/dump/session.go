package dump

import (
	"slices"
	"strings"
)

// session is what the statements of a dump have set so far.
type session struct {
	syntax
	schema string     // that unqualified names are in
	saved  []variable // never changed in place: copies share it
}

// variable is a variable that keeps a setting, with how the dump was read when it was set.
type variable struct {
	name string
	was  syntax
}

// in returns the schema of a name that was written with this one, or none.
func (x *session) in(schema string) string {
	switch {
	case schema == "" && x.dialect != SQLite:
		return x.schema
	case x.dialect == Postgres && schema == "public", x.dialect == SQLite:
		return ""
	}
	return schema
}

// set reads statements that change how the rest is read.
func (x *session) set(b []byte) {
	r := reader{x: &x.syntax, b: b}
	switch {
	case r.take("SET"):
		for {
			def := r.element()
			x.assign(def, b)
			if !r.take(",") {
				return
			}
		}
	case x.dialect == MySQL && r.take("USE"):
		_, x.schema = r.qualified()
	case x.dialect == Postgres && r.take("SELECT"):
		if schema, name := r.qualified(); name == "set_config" && (schema == "pg_catalog" || schema == "") && r.take("(") {
			if t := r.token(); string(b[t.start:t.end]) == "'search_path'" && r.take(",") {
				t = r.token()
				x.schema = strings.Trim(string(b[t.start:t.end]), "' ")
			}
		}
	}
}

// assign reads one setting: NAMES utf8mb4, SQL_MODE = '…', @saved = @@sql_mode.
func (x *session) assign(def []token, b []byte) {
	text := func(t token) string {
		return strings.ToLower(strings.Trim(string(b[t.start:t.end]), "'\"`"))
	}
	variables := 0 // how many @ stand in front of the name
	for len(def) > 1 && def[0].is(b, "SESSION", "GLOBAL", "LOCAL", "@", ".") {
		if def[0].is(b, "@") {
			variables++
		}
		def = def[1:]
	}
	if len(def) < 2 {
		return
	}
	name, value := text(def[0]), def[len(def)-1]
	if name == "names" || name == "charset" || name == "character" && len(def) > 2 && def[1].is(b, "SET") {
		if def = def[1:]; name == "character" {
			def = def[1:]
		}
		x.speak(text(def[0]))
		return
	}
	if !def[1].is(b, "=", ":", "TO") {
		return
	}
	if variables == 1 { // a variable that keeps a setting
		kept := x.syntax
		x.saved = append(slices.DeleteFunc(slices.Clone(x.saved), func(v variable) bool { return v.name == name }), variable{name, kept})
		return
	}
	old, restores := x.restored(def, b)
	switch name {
	case "character_set_client", "client_encoding":
		if restores {
			x.charset, x.wide, x.raw = old.charset, old.wide, old.raw
		} else {
			x.speak(text(value))
		}
	case "sql_mode":
		mode := strings.ToUpper(text(value))
		if restores {
			x.verbatim, x.ansi = old.verbatim, old.ansi
		} else if x.dialect == MySQL && value.kind == textToken {
			x.verbatim, x.ansi = strings.Contains(mode, "NO_BACKSLASH_ESCAPES"), strings.Contains(mode, "ANSI")
		}
	case "standard_conforming_strings":
		x.verbatim = text(value) != "off" && text(value) != "false"
	case "search_path":
		if x.schema = text(def[2]); x.schema == "public" {
			x.schema = ""
		}
	}
}

// restored returns how the dump was read when a variable was set, for NAME = @variable.
func (x *session) restored(def []token, b []byte) (old syntax, restores bool) {
	if len(def) < 4 || !def[len(def)-2].is(b, "@") || def[len(def)-3].is(b, "@") {
		return x.syntax, false
	}
	name := strings.ToLower(x.name(b, def[len(def)-1]))
	for _, v := range x.saved {
		if v.name == name {
			return v.was, true
		}
	}
	return x.syntax, true
}

// speak sets the charset of the text that follows.
func (x *session) speak(charset string) {
	x.charset, x.wide, x.raw = charset, narrow, charset == "binary"
	switch charset {
	case "utf8", "utf8mb3", "utf8mb4", "unicode", "default", "binary", "sql_ascii", "ascii":
		x.charset = ""
	case "sjis", "cp932":
		x.wide = shiftJIS
	case "gbk", "gb2312", "gb18030", "big5":
		x.wide = highBytes
	}
}
