package dumps

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"regexp"
	"strings"

	"trimlantern/core/envelope"
)

// export is a way of exporting a database that is no SQL.
type export struct{ what, do string }

// otherExport tells what kind of export a text is, other than SQL; nothing where it looks like none.
func otherExport(text []byte) export {
	const choose = "export the database again and choose SQL as the format, with structure and data; if this is one stored value: --as value"
	for _, k := range []struct {
		sign *regexp.Regexp
		what string
	}{
		{regexp.MustCompile(`^<\?php`), "PHP code: an export as PHP arrays?"},
		{regexp.MustCompile(`^(<\?xml|<!--[^>]*-->\s*<\?xml)`), "an export as XML"},
		{regexp.MustCompile(`(?i)^(<!doctype html|<html)`), "a web page: an export as HTML?"},
		{regexp.MustCompile(`^%YAML|^---\r?\n`), "an export as YAML"},
		{regexp.MustCompile(`^(\\documentclass|%\s)`), "an export as LaTeX"},
		{regexp.MustCompile(`^<!--\n|^\{\| `), "an export as wiki text"},
		{regexp.MustCompile(`^={3,}`), "an export as structured text"},
	} {
		if k.sign.Match(text) {
			return export{k.what, choose}
		}
	}
	if isTableJSON(text) {
		return export{"an export as JSON", choose}
	}
	if !isValue(text) && isTable(text) {
		return export{"a table of values (CSV or tab-separated)", choose}
	}
	return export{}
}

// isValue reports whether a text is surely one stored value, however many lines it has.
func isValue(text []byte) bool {
	return envelope.LooksSerialized(text) || json.Valid(text) && !isTableJSON(text)
}

// isTableJSON tells the JSON of exports: a list of tables or of rows.
func isTableJSON(text []byte) bool {
	head := string(bytes.Join(bytes.Fields(text[:min(len(text), 400)]), nil))
	return strings.HasPrefix(head, `[{"type":"header"`) || strings.HasPrefix(head, `[{`) && bytes.Count(text, []byte("\n")) > 2 ||
		strings.HasPrefix(head, `{"`) && bytes.Contains(text, []byte("}\n{\""))
}

// isTable tells lines of separated values: several lines with the same number of them, or one line of values
// in quotes.
func isTable(text []byte) bool {
	for _, comma := range []rune{',', ';', '\t', '|'} {
		if bytes.IndexByte(text, byte(comma)) < 0 {
			continue
		}
		r := csv.NewReader(bytes.NewReader(text))
		r.Comma, r.LazyQuotes, r.FieldsPerRecord = comma, comma == '\t', -1
		width, lines := 0, 0
		for lines < 20 {
			row, err := r.Read()
			if err != nil {
				break
			}
			if width == 0 {
				width = len(row)
			}
			if len(row) != width {
				lines = 0
				break
			}
			lines++
		}
		quoted := text[0] == '"' && bytes.Contains(text, []byte{'"', byte(comma), '"'})
		if width > 1 && (lines > 1 || quoted && lines == 1 || comma == '\t' && width > 2 && lines == 1) {
			return true
		}
	}
	return false
}

// looksLikeSQL reports whether a text begins like a statement or a comment of SQL.
func looksLikeSQL(text []byte) bool {
	return sqlBegins.Match(text)
}

var sqlBegins = regexp.MustCompile(`(?i)^(--\s|/\*|#\s|(create|insert|replace|set|begin|drop|use|copy|update|delimiter|start|lock|pragma|select|alter|truncate)\s|(begin|commit);)`)
