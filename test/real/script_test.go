//go:build real

package real

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/js"

	"trimlantern/core/markup"
)

// literals collects the strings, templates and regular expressions of a parsed script.
type literals struct{ found map[string]int }

func (l *literals) Enter(n js.INode) js.IVisitor {
	switch x := n.(type) {
	case *js.LiteralExpr:
		if x.TokenType == js.StringToken || x.TokenType == js.RegExpToken {
			l.found[string(x.Data)]++
		}
	case *js.TemplateExpr:
		for _, part := range x.List {
			l.found[string(part.Value)]++
		}
		l.found[string(x.Tail)]++
	case *js.ImportStmt:
		l.found[string(x.Module)]++
	case *js.ExportStmt:
		l.found[string(x.Module)]++
	}
	return l
}

func (l *literals) Exit(js.INode) {}

// On the scripts of real software, written by hand and minified, WalkScript sees the same strings,
// templates and regular expressions as a parser that knows the whole language.
func TestScriptsAgainstParser(t *testing.T) {
	t.Parallel()
	files, read, seen, unparsed := 0, 0, 0, 0
	for _, root := range []string{"/usr/share/wordpress", "/usr/share/phpmyadmin", "/usr/share/javascript"} {
		_ = filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !slices.Contains([]string{".js", ".mjs"}, filepath.Ext(name)) {
				return nil // a folder that is not there has no scripts
			}
			b, err := os.ReadFile(name)
			require.NoError(t, err)
			files++
			ast, err := js.Parse(parse.NewInputBytes(bytes.Clone(b)), js.Options{})
			if err != nil {
				unparsed++
				return nil
			}
			want := &literals{found: map[string]int{}}
			js.Walk(want, ast)
			ours := map[string]bool{}
			markup.WalkScript(b, true, func(part markup.ScriptPart, start, end int) {
				switch part {
				case markup.ScriptComment:
					return
				case markup.ScriptRegexp:
					for end < len(b) && b[end] >= 'a' && b[end] <= 'z' {
						end++ // its flags
					}
				default:
					start--
					end += bytes.IndexAny(b[end:], "\"'`$") + 1
					if b[end-1] == '$' {
						end++
					}
				}
				ours[string(b[start:end])] = true
				seen++
			})
			for s := range want.found {
				if s == "" {
					continue
				}
				read++
				assert.True(t, ours[s], "%s: not seen: %.200s", name, s)
			}
			return nil
		})
	}
	require.Greater(t, files, 200, "the packages with scripts are installed")
	t.Logf("%d files, %d of which the parser cannot read; %d different literals, all seen; %d parts", files, unparsed, read, seen)
}
